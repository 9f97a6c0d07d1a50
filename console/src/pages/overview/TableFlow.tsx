import { useQueries } from "@tanstack/react-query";
import { useState } from "react";
import { Table } from "react-bootstrap";
import { Link } from "react-router-dom";
import { answered, api } from "../../api/client";
import { useOutlets } from "../../api/status";
import { FlowCells, FlowHead } from "../outlets/FlowTable";
import { usePaced } from "../../parts/paced";
import { Period } from "../../parts/Period";
import { Trouble } from "../../parts/Trouble";

/** TableFlow shows what became of a table's events at each outlet that delivers them. */
export function TableFlow({ source, table }: { source: string; table: string }) {
  const [minutes, setMinutes] = useState(60);
  const outlets = useOutlets()?.filter((o) => o.source === source && o.destination) ?? [];
  const flows = useQueries({
    queries: outlets.map(({ name }) => ({
      queryKey: ["flow", name, minutes],
      queryFn: () => answered(api.GET("/v1/outlets/{name}/flow", { params: { path: { name }, query: { minutes } } })),
    })),
  });
  usePaced(outlets.map((o) => `${o.delivered} ${o.dead_letters}`).join(), 5000, () => flows.forEach((f) => void f.refetch()));
  const trouble = flows.find((f) => f.error)?.error;
  const lines = flows.flatMap((f) => (f.data?.tables ?? []).filter((line) => line.table === table).map((line) => ({ outlet: f.data!.outlet, line })));
  if (flows.some((f) => f.isPending)) {
    return <p className="note">Looking …</p>;
  }
  return (
    <section aria-label={`What became of events of ${table}`}>
      <Trouble error={trouble} />
      <Period value={minutes} onChange={setMinutes} />
      {lines.length === 0 ? (
        <p className="note">No outlet has read an event of it in that time.</p>
      ) : (
        <Table size="sm" className="counts outcome">
          <FlowHead of="outlet" />
          <tbody>
            {lines.map(({ outlet, line }) => (
              <tr key={outlet}>
                <th scope="row">
                  <Link to={`/outlets/${outlet}`}>{outlet}</Link>
                  {!line.adds_up && <span className="trouble"> does not add up</span>}
                </th>
                <FlowCells line={line} outlet={outlet} />
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </section>
  );
}
