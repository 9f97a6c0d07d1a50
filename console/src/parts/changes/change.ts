import { LosslessNumber, parse, stringify } from "lossless-json";

type Values = Record<string, unknown>;

/** Change is one event as it came, with its numbers exact. */
export interface Change {
  /** serial tells those of one stream apart: an outlet may make two of one offset. */
  serial: number;
  offset: string;
  raw: string;
  id: string;
  time: string;
  operation: string;
  table: string;
  key: Values | null;
  before: Values | null;
  after: Values | null;
  changed: string[] | null;
  omitted: string[];
  rekeyed: Values | null;
  event: Values;
}

export function parseChange(offset: string, raw: string, serial = 0): Change {
  return changeOf(offset, raw, parse(raw) as Values, serial);
}

function changeOf(offset: string, raw: string, event: Values, serial: number): Change {
  const data = event.data as Values;
  return {
    serial,
    offset,
    raw,
    id: String(event.id),
    time: String(event.time),
    operation: String(data.operation),
    table: String(data.table ?? ""),
    key: (data.key as Values) ?? null,
    before: (data.before as Values) ?? null,
    after: (data.after as Values) ?? null,
    changed: (data.changed as string[]) ?? null,
    omitted: (data.omitted as string[]) ?? [],
    rekeyed: (data.rekeyed as Values) ?? null,
    event,
  };
}

/** historyOf is the page with every version of a change's row. */
export function historyOf(change: Change): string {
  const source = change.id.split("/")[0]!;
  const keys = Object.entries(change.key ?? {}).map(([name, value]) => ["key", `${name}=${show(value)}`]);
  return `/sources/${encodeURIComponent(source)}/tables/${encodeURIComponent(change.table)}/history?${new URLSearchParams(keys)}`;
}

/** readMessage is the change that a message says, whatever its format; nothing where it
 * says none, as one whose row was an event already. */
export function readMessage(offset: string, type: string, table: string, body: string): Change | undefined {
  let read: unknown;
  try {
    read = parse(body);
  } catch {
    return undefined;
  }
  if (read === null || typeof read !== "object" || Array.isArray(read) || read instanceof LosslessNumber) {
    return undefined;
  }
  const values = read as Values;
  const [, operation] = /^rillmark\.row\.(\w+)$/.exec(type) ?? [];
  if (values.specversion !== undefined && values.data) {
    return (values.data as Values).operation ? changeOf(offset, body, values, 0) : undefined;
  }
  if ("operation" in values && ("before" in values || "after" in values)) {
    return changeOf(offset, body, { data: values }, 0);
  }
  if (!operation) {
    return undefined;
  }
  // Format row: the row alone; of a delete, the one that was.
  const image = operation === "delete" ? { before: values, after: null } : { before: null, after: values };
  return changeOf(offset, body, { data: { operation, table, ...image } }, 0);
}

/** show writes a value as a person reads it; numbers keep every digit. */
export function show(value: unknown): string {
  if (value === null || value === undefined) {
    return "null";
  }
  if (typeof value === "string") {
    return value;
  }
  if (value instanceof LosslessNumber) {
    return value.value;
  }
  return stringify(value) ?? "";
}

export const pretty = (raw: string) => stringify(parse(raw), undefined, 2) ?? raw;

export const keyText = (key: Values | null) =>
  key
    ? Object.entries(key)
        .map(([name, value]) => `${name} ${show(value)}`)
        .join(", ")
    : "–";

const shorten = (text: string, most: number) => (text.length > most ? text.slice(0, most - 1) + "…" : text);

/** summary is what happened, in half a line. */
export function summary(change: Change): string {
  if (change.changed) {
    return change.changed.map((name) => `${name}: ${shorten(show(change.before?.[name]), 40)} → ${shorten(show(change.after?.[name]), 40)}`).join(", ");
  }
  const image = change.after ?? change.before;
  if (image) {
    return Object.entries(image)
      .filter(([name]) => !(change.key && name in change.key))
      .map(([name, value]) => `${name}: ${shorten(show(value), 30)}`)
      .join(", ");
  }
  const data = change.event.data as Values;
  const body = data[change.operation];
  if (change.operation === "message" && body !== undefined) {
    const { prefix, content, content_base64 } = body as Values;
    return shorten(`${show(prefix ?? "")}: ${show(content ?? content_base64 ?? "")}`, 200);
  }
  return body === undefined ? "" : shorten(show(body), 200);
}
