import { useQuery } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { Button, Table } from "react-bootstrap";
import { Link } from "react-router-dom";
import { answered, api } from "../../api/client";
import type { components } from "../../api/schema.gen";
import type { OutletStatus } from "../../api/types";
import { count, localMoment, span } from "../../parts/numbers";
import { usePaced } from "../../parts/paced";
import { Trouble } from "../../parts/Trouble";

type Flow = components["schemas"]["OutletFlow"];
type Line = components["schemas"]["FlowLine"];

/** FlowTable shows what became of the events that an outlet has read: an equation for each
 * table, which opens into operations and types of messages. It is read anew when the outlet has
 * moved. */
export function FlowTable({ outlet, minutes }: { outlet: OutletStatus; minutes: number }) {
  const { name } = outlet;
  const { data, error, refetch } = useQuery({
    queryKey: ["flow", name, minutes],
    queryFn: () => answered(api.GET("/v1/outlets/{name}/flow", { params: { path: { name }, query: { minutes } } })),
    placeholderData: (before) => before,
  });
  usePaced(`${outlet.committed} ${outlet.delivered} ${outlet.dead_letters}`, 5000, refetch);
  if (error) {
    return <Trouble error={error} />;
  }
  if (!data || data.tables.length === 0) {
    return null;
  }
  return <Lines flow={data} />;
}

function Lines({ flow }: { flow: Flow }) {
  const [open, setOpen] = useState<string>();
  return (
    <div className="table-scroll" tabIndex={0} role="region" aria-label="What became of events">
      <Table size="sm" className="counts outcome">
        <caption>
          What became of what was read since {localMoment(flow.since)}. The outlet went past {count(flow.passed)} events, {count(flow.other_tables)} of them of tables that it does not take. It took{" "}
          {span(flow.shaping_seconds)} for reading and shaping, {span(flow.sending_seconds)} for sending, {span(flow.committing_seconds)} until it was durable there.
        </caption>
        <FlowHead of="table" />
        <tbody>
          {flow.tables.map((line) => (
            <Fragment key={line.table ?? ""}>
              <Row line={line} outlet={flow.outlet} title={line.table || "no table"} open={open === line.table} onToggle={() => setOpen(open === line.table ? undefined : line.table)} />
              {open === line.table && (
                <tr className="outcome-detail">
                  <td />
                  <td className="number">{byName(line.read_by_operation)}</td>
                  <td className="number">{byName(line.messages_by_type)}</td>
                  <td colSpan={4} />
                </tr>
              )}
            </Fragment>
          ))}
        </tbody>
        <tfoot>
          <Row line={flow.total} outlet={flow.outlet} title="all" />
        </tfoot>
      </Table>
    </div>
  );
}

function Row({ line, outlet, title, open, onToggle }: { line: Line; outlet: string; title: string; open?: boolean; onToggle?: () => void }) {
  return (
    <tr>
      <th scope="row">
        {onToggle ? (
          <Button variant="link" size="sm" aria-expanded={open} onClick={onToggle}>
            {title}
          </Button>
        ) : (
          title
        )}
        {!line.adds_up && <span className="trouble"> does not add up</span>}
      </th>
      <FlowCells line={line} outlet={outlet} />
    </tr>
  );
}

const titles = ["read", "= messages", "− split", "+ kept back", "+ merged", "+ dead letters"];

/** FlowHead is the head of a table whose lines are [FlowCells] of something. */
export function FlowHead({ of }: { of: string }) {
  return (
    <thead>
      <tr>
        <th scope="col">{of}</th>
        {titles.map((title) => (
          <th key={title} scope="col" className="number">
            {title}
          </th>
        ))}
      </tr>
    </thead>
  );
}

/** FlowCells is the equation of what became of events, a cell for each part. */
export function FlowCells({ line, outlet }: { line: Line; outlet: string }) {
  return (
    <>
      <td className="number">{count(line.read)}</td>
      <td className="number">{count(line.messages)}</td>
      {[line.split, line.kept_back, line.merged].map((n, i) => (
        <td key={i} className="number">
          {n ? count(n) : "–"}
        </td>
      ))}
      <td className="number">{line.dead_letters ? <Link to={`/outlets/${outlet}/dead-letters`}>{count(line.dead_letters)}</Link> : "–"}</td>
    </>
  );
}

/** byName lists counts, a line each. */
function byName(counts: Record<string, number>) {
  return Object.entries(counts)
    .sort(([a], [b]) => a.localeCompare(b))
    .map(([name, n]) => (
      <div key={name}>
        {name} {count(n)}
      </div>
    ));
}
