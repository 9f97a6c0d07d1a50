import { Form } from "react-bootstrap";
import type { Mark } from "../api/types";
import { count } from "./numbers";

export type PlaceKind = "beginning" | "load" | "now" | "cutover" | "offset" | "time" | "mark";

/** Place is a place in a journal, as a person names it. */
export interface Place {
  kind: PlaceKind;
  text: string;
}

/** placeText is a place as the service reads it. */
export function placeText({ kind, text }: Place, marks: Mark[] = []): string {
  switch (kind) {
    case "offset":
      return text.trim();
    case "time":
      return `time:${Number.isNaN(Date.parse(text)) ? "" : new Date(text).toISOString()}`;
    case "mark":
      return `mark:${text || (marks[0]?.name ?? "")}`;
    default:
      return kind;
  }
}

/** placeOf is what a place says that the service reads. */
export function placeOf(text: string): Place {
  const [kind = "", rest = ""] = text.split(/:(.*)/s);
  switch (kind) {
    case "beginning":
    case "load":
    case "now":
    case "cutover":
      return { kind, text: "" };
    case "mark":
      return { kind, text: rest };
    case "time":
      return { kind, text: Number.isNaN(Date.parse(rest)) ? "" : localInput(new Date(rest)) };
    default:
      return { kind: "offset", text };
  }
}

/** localInput is a moment as a control for local times has it. */
function localInput(moment: Date): string {
  const local = new Date(moment.getTime() - moment.getTimezoneOffset() * 60_000);
  return local.toISOString().slice(0, 19);
}

interface Fields {
  /** id begins the ids of the fields. */
  id: string;
  /** label is what the place is for. */
  label?: string;
  place: Place;
  onChange: (place: Place) => void;
  marks?: Mark[];
  /** kinds are what can be chosen, with what they are called here. */
  kinds: readonly (readonly [PlaceKind, string])[];
  /** what the offset and the time are of. */
  offset: string;
  time: string;
}

/** PlaceFields asks for a place in a journal. */
export function PlaceFields({ id, label = "Place", place, onChange, marks, kinds, offset, time }: Fields) {
  const { kind, text } = place;
  const write = (next: string) => onChange({ kind, text: next });
  return (
    <>
      <Form.Group controlId={`${id}-kind`}>
        <Form.Label>{label}</Form.Label>
        <Form.Select size="sm" value={kind} onChange={(e) => onChange({ kind: e.target.value as PlaceKind, text: "" })}>
          {kinds.map(([k, words]) => (
            <option key={k} value={k} disabled={k === "mark" && !marks?.length}>
              {words}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      {kind === "offset" && (
        <Form.Group controlId={`${id}-offset`}>
          <Form.Label>{offset}</Form.Label>
          <Form.Control size="sm" required pattern="[0-9]{1,18}" inputMode="numeric" value={text} onChange={(e) => write(e.target.value)} />
        </Form.Group>
      )}
      {kind === "time" && (
        <Form.Group controlId={`${id}-time`}>
          <Form.Label>{time}</Form.Label>
          <Form.Control size="sm" required type="datetime-local" step={1} value={text} onChange={(e) => write(e.target.value)} />
        </Form.Group>
      )}
      {kind === "mark" && (
        <Form.Group controlId={`${id}-mark`}>
          <Form.Label>Mark</Form.Label>
          <Form.Select size="sm" value={text} onChange={(e) => write(e.target.value)}>
            {marks?.map((m) => (
              <option key={m.name} value={m.name}>
                {m.name} (offset {count(m.offset)})
              </option>
            ))}
          </Form.Select>
        </Form.Group>
      )}
    </>
  );
}
