import type { Preview } from "../api/types";
import { pretty } from "../pages/changes/change";
import { count } from "./numbers";

/** Message is a message exactly as it is sent: topic, key, headers, body, size. */
export function Message({ message }: { message: Preview }) {
  return (
    <article className="message-card" aria-label={`Message ${message.id}`}>
      <dl>
        <Part name="id" value={message.id} />
        <Part name="type" value={message.type} />
        <Part name="topic" value={message.topic} />
        <Part name="key" value={message.key} />
        {message.partition !== message.key && <Part name="partition by" value={message.partition} />}
        {message.headers.map((h) => (
          <Part key={h.name} name={h.name} value={h.value} />
        ))}
        <Part name="content type" value={message.content_type} />
        <Part name="size" value={`${count(message.size)} bytes`} />
      </dl>
      {message.problem && <p className="trouble">{message.problem}</p>}
      {message.marker ? (
        <p className="note">No body: a marker says that the key is gone.</p>
      ) : (
        <pre className="fix-statement" role="region" tabIndex={0} aria-label="Body">
          {message.row !== undefined ? readable(JSON.stringify(message.row)) : readable(message.body)}
        </pre>
      )}
      {message.base64 && <p className="note">Sent as {message.content_type}; above is what it says.</p>}
    </article>
  );
}

function Part({ name, value }: { name: string; value?: string }) {
  if (!value) {
    return null;
  }
  return (
    <div>
      <dt>{name}</dt>
      <dd className="code">{value}</dd>
    </div>
  );
}

/** readable breaks JSON into lines, with every digit of its numbers. */
const readable = (text: string) => (/^\s*[[{]/.test(text) ? pretty(text) : text);
