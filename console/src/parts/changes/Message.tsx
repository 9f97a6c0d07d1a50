import { Tab, Tabs } from "react-bootstrap";
import type { Preview } from "../../api/types";
import { count } from "../numbers";
import { OperationMark } from "../OperationMark";
import { keyText, pretty, readMessage } from "./change";
import { Images } from "./ChangeDetail";

/** Message is a message as it is sent: what it says as a person reads it, and exactly
 * what goes out. */
export function Message({ message }: { message: Preview }) {
  const text = message.row !== undefined ? JSON.stringify(message.row) : message.body;
  const change = message.marker ? undefined : readMessage(String(message.offset), message.type, message.table ?? "", text);
  const rows = Boolean(change?.before ?? change?.after);
  return (
    <article className="message-card" aria-label={`Message ${message.id}`}>
      <header>
        {change ? <OperationMark operation={change.operation} /> : <span>{message.marker ? "marker" : message.type}</span>}
        <strong>{change?.table || message.table}</strong>
        <span className="code">{change?.key ? keyText(change.key) : message.key}</span>
        {message.topic && (
          <span className="note">
            to <span className="code">{message.topic}</span>
          </span>
        )}
        <span className="note size">{count(message.size)} bytes</span>
      </header>
      {message.problem && <p className="trouble">{message.problem}</p>}
      <Tabs defaultActiveKey={rows ? "row" : "body"} id={`message-${message.id}`}>
        {rows && (
          <Tab eventKey="row" title="Before and after">
            <Images change={change!} />
          </Tab>
        )}
        <Tab eventKey="body" title="As sent">
          <Parts message={message} />
          {message.marker ? (
            <p className="note">No body: a marker says that the key is gone.</p>
          ) : (
            <pre className="fix-statement" role="region" tabIndex={0} aria-label={`Body of ${message.id}`}>
              {readable(text)}
            </pre>
          )}
          {message.base64 && <p className="note">Sent as {message.content_type}; above is what it says.</p>}
        </Tab>
      </Tabs>
    </article>
  );
}

function Parts({ message }: { message: Preview }) {
  const parts: [string, string | undefined][] = [
    ["id", message.id],
    ["type", message.type],
    ["topic", message.topic],
    ["key", message.key],
    ["partition by", message.partition === message.key ? "" : message.partition],
    ...message.headers.map((h): [string, string] => [h.name, h.value]),
    ["content type", message.content_type],
  ];
  return (
    <dl>
      {parts
        .filter(([, value]) => value)
        .map(([name, value]) => (
          <div key={name}>
            <dt>{name}</dt>
            <dd className="code">{value}</dd>
          </div>
        ))}
    </dl>
  );
}

/** readable breaks JSON into lines, with every digit of its numbers. */
const readable = (text: string) => (/^\s*[[{]/.test(text) ? pretty(text) : text);
