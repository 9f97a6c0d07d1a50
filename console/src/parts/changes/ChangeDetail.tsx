import { useState } from "react";
import { Button, CloseButton, Tab, Table, Tabs } from "react-bootstrap";
import { Link, useLocation } from "react-router-dom";
import { localMoment } from "../numbers";
import { OperationMark } from "../OperationMark";
import { AtOutlets } from "./AtOutlets";
import { historyOf, keyText, pretty, show, type Change } from "./change";

/** ChangeDetail is one event opened: both images side by side, what is known of
 * it, and the JSON as it is sent. */
export function ChangeDetail({ change, onClose }: { change: Change; onClose: () => void }) {
  const { pathname } = useLocation();
  return (
    <aside className="change-detail" aria-label={`Event ${change.id}`}>
      <header>
        <div>
          <OperationMark operation={change.operation} /> <strong>{change.table || "message"}</strong>
          <div className="id">{change.id}</div>
          {change.key && !pathname.endsWith("/history") && <Link to={historyOf(change)}>Every version of this row</Link>}
        </div>
        <CloseButton aria-label="Close the event" onClick={onClose} />
      </header>
      <Tabs defaultActiveKey={change.before || change.after ? "images" : "json"} id="detail" key={change.serial}>
        {(change.before || change.after) && (
          <Tab eventKey="images" title="Before and after">
            <Images change={change} />
          </Tab>
        )}
        <Tab eventKey="metadata" title="Metadata">
          <Metadata change={change} />
        </Tab>
        <Tab eventKey="outlets" title="At outlets" mountOnEnter>
          <AtOutlets change={change} />
        </Tab>
        <Tab eventKey="json" title="JSON">
          <AsSent raw={change.raw} />
        </Tab>
      </Tabs>
    </aside>
  );
}

/** Images are a row before and after a change, side by side. */
export function Images({ change }: { change: Change }) {
  const names = [...new Set([...Object.keys(change.before ?? {}), ...Object.keys(change.after ?? {}), ...change.omitted])];
  const cell = (image: Record<string, unknown> | null, name: string) => {
    if (!image) {
      return <span className="none">–</span>;
    }
    if (!(name in image)) {
      return <span className="omitted">not in the log</span>;
    }
    return image[name] === null ? <span className="null">null</span> : show(image[name]);
  };
  return (
    <div className="table-scroll" tabIndex={0} role="region" aria-label={`Before and after, ${change.offset}`}>
      <Table size="sm" className="images">
        <thead>
          <tr>
            <th scope="col">column</th>
            <th scope="col">before</th>
            <th scope="col">after</th>
          </tr>
        </thead>
        <tbody>
          {names.map((name) => {
            const changed = change.changed?.includes(name) ?? false;
            return (
              <tr key={name} className={changed ? "changed" : undefined} data-column={name}>
                <th scope="row">
                  {changed && <span className="visually-hidden">changed: </span>}
                  {name}
                  {change.key && name in change.key && <span className="key-mark">key</span>}
                </th>
                <td data-image="before">{cell(change.before, name)}</td>
                <td data-image="after">{cell(change.after, name)}</td>
              </tr>
            );
          })}
        </tbody>
      </Table>
      {!change.before && change.operation === "update" && <p className="note">The log carries no old row for this table; REPLICA IDENTITY FULL on the source makes it.</p>}
    </div>
  );
}

function Metadata({ change }: { change: Change }) {
  const data = change.event.data as Record<string, Record<string, unknown>>;
  const transaction = data.transaction ?? {};
  const rows: [string, string, string?][] = [
    ["id", change.id],
    ["committed", localMoment(change.time), change.time],
    ["key", keyText(change.key)],
    ["partition key", show(change.event.partitionkey ?? "–")],
    ["database", show(data.database)],
    ["transaction", `${show(transaction.id)}, event ${show(transaction.index)}${transaction.last === true ? ", its last" : ""}`],
    ["position in the log", show(data.log?.position)],
    ["schema version", show(change.event.dataschema ?? "–")],
  ];
  if (change.rekeyed) {
    rows.push([change.operation === "delete" ? "key changed to" : "key changed from", keyText(change.rekeyed)]);
  }
  return (
    <dl className="metadata">
      {rows.map(([name, value, title]) => (
        <div key={name}>
          <dt>{name}</dt>
          <dd title={title}>{value}</dd>
        </div>
      ))}
    </dl>
  );
}

function AsSent({ raw }: { raw: string }) {
  const [copied, setCopied] = useState(false);
  return (
    <div className="as-sent">
      <Button
        size="sm"
        variant="outline-primary"
        onClick={async () => {
          await navigator.clipboard.writeText(raw);
          setCopied(true);
        }}
      >
        {copied ? "Copied" : "Copy"}
      </Button>
      <pre role="region" aria-label="The event as it is delivered" tabIndex={0}>
        {pretty(raw)}
      </pre>
    </div>
  );
}
