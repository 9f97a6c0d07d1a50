import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { Button, Form, Table } from "react-bootstrap";
import { answered, api } from "../../api/client";
import type { OutletStatus } from "../../api/types";
import { Ask } from "../../parts/Ask";
import { Message } from "../../parts/changes/Message";
import { count, localMoment } from "../../parts/numbers";
import { usePaced } from "../../parts/paced";
import { StateMark } from "../../parts/StateMark";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";

/** LettersTab lists the events that an outlet could not deliver; one is opened
 * with its event, and what would be sent for it now. */
export function LettersTab({ outlet }: { outlet: OutletStatus }) {
  const [filter, setFilter] = useState("");
  const [opened, setOpened] = useState<number>();
  const [asks, setAsks] = useState(false);
  const path = { name: outlet.name };
  const { trouble, work } = useWork();
  const client = useQueryClient();
  const { data, error, refetch } = useQuery({
    queryKey: ["letters", outlet.name, filter],
    queryFn: () => answered(api.GET("/v1/outlets/{name}/dead-letters", { params: { path, query: { limit: 500, error: filter || undefined } } })),
    placeholderData: (before) => before,
  });
  usePaced(outlet, 3000, refetch); // any change of the outlet may be a try of one
  const act = (verb: "retry" | "discard", ids?: number[]) => {
    setAsks(false);
    return work(async () => {
      await answered(api.POST(`/v1/outlets/{name}/dead-letters/${verb}`, { params: { path }, body: ids ? { ids } : filter ? { error: filter } : { all: true } }));
      await client.invalidateQueries({ queryKey: ["letters", outlet.name] });
    });
  };
  if (data && data.dead + data.behind === 0) {
    return <p className="note">None: every event that the destination was sent, it has taken.</p>;
  }
  return (
    <>
      <div className="page-head">
        <span role="status">
          {count(data?.dead ?? 0)} dead, {count(data?.behind ?? 0)} behind them
        </span>
        <Form.Control size="sm" className="letter-filter" aria-label="A part of the error" placeholder="a part of the error" value={filter} onChange={(e) => setFilter(e.target.value)} />
        <div className="actions">
          <Button size="sm" onClick={() => act("retry")}>
            Try {filter ? "these" : "all"} again
          </Button>
          <Button size="sm" variant="outline-secondary" onClick={() => setAsks(true)}>
            Discard {filter ? "these" : "all"} …
          </Button>
        </div>
      </div>
      <Trouble error={error ?? trouble} />
      <div className="table-scroll" tabIndex={0} role="region" aria-label="Dead letters">
        <Table size="sm" className="counts">
          <thead>
            <tr>
              <th scope="col">state</th>
              <th scope="col" className="number">
                offset
              </th>
              <th scope="col">operation</th>
              <th scope="col">table</th>
              <th scope="col">key</th>
              <th scope="col" className="number">
                tries
              </th>
              <th scope="col">last</th>
              <th scope="col">error</th>
              <th scope="col">
                <span className="visually-hidden">actions</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {data?.items.map((l) => (
              <Fragment key={l.id}>
                <tr>
                  <td>
                    <StateMark state={l.state === "dead" ? "failed" : "paused"} word={l.retrying ? `${l.state}, retrying` : l.state} />
                  </td>
                  <td className="number">{count(l.offset)}</td>
                  <td>{l.operation}</td>
                  <td>{l.table}</td>
                  <td className="code">{l.key}</td>
                  <td className="number">{count(l.attempts)}</td>
                  <td>{localMoment(l.last_at)}</td>
                  <td className="note-cell" title={l.error}>
                    {l.error ?? "waits for one of the same row"}
                  </td>
                  <td>
                    <Button variant="link" size="sm" className="quiet-button" aria-expanded={opened === l.id} onClick={() => setOpened(opened === l.id ? undefined : l.id)}>
                      {opened === l.id ? "Close" : "Open"}
                    </Button>
                    <Button variant="link" size="sm" className="quiet-button" onClick={() => act("retry", [l.id])}>
                      Try again
                    </Button>
                  </td>
                </tr>
                {opened === l.id && (
                  <tr>
                    <td colSpan={9}>
                      <Opened outlet={outlet.name} id={l.id} />
                    </td>
                  </tr>
                )}
              </Fragment>
            ))}
          </tbody>
        </Table>
      </div>
      <Ask
        show={asks}
        title="Discard dead letters"
        text={`${filter ? "Those with this in their error" : "All of them"} are forgotten for good; events behind them are then tried again.`}
        word="Discard"
        onNo={() => setAsks(false)}
        onYes={() => void act("discard")}
      />
    </>
  );
}

function Opened({ outlet, id }: { outlet: string; id: number }) {
  const { data, error } = useQuery({ queryKey: ["letter", outlet, id], queryFn: () => answered(api.GET("/v1/outlets/{name}/dead-letters/{id}", { params: { path: { name: outlet, id } } })) });
  if (error) {
    return <Trouble error={error} />;
  }
  if (!data) {
    return <p aria-busy="true">Looking …</p>;
  }
  return (
    <section className="opened-letter" aria-label={`Dead letter ${id}`}>
      <h2>Event {data.event_id}</h2>
      {data.error && <p className="trouble">{data.error}</p>}
      <p className="note">What would be sent for it now:</p>
      {data.messages.map((m) => (
        <Message key={m.id} message={m} />
      ))}
    </section>
  );
}
