import { LosslessNumber, parse, stringify } from "lossless-json";

type Values = Record<string, unknown>;

/** Change is one event as it came, with its numbers exact. */
export interface Change {
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

export function parseChange(offset: string, raw: string): Change {
  const event = parse(raw) as Values;
  const data = event.data as Values;
  return {
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
  return body === undefined ? "" : shorten(show(body), 200);
}
