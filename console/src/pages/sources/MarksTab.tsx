import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Button, Form, Table } from "react-bootstrap";
import { answered, api, useMarks } from "../../api/client";
import type { OutletStatus, SourceStatus } from "../../api/types";
import { count, localMoment } from "../../parts/numbers";
import { PlaceFields, placeText, type Place } from "../../parts/Place";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";
import { JournalLine } from "../overview/JournalLine";

const kinds = [
  ["now", "now"],
  ["time", "a time"],
  ["offset", "an offset"],
  ["beginning", "the oldest that is kept"],
] as const;

/** MarksTab shows the named places of a source's journal, sets and removes them. */
export function MarksTab({ source, outlets }: { source: SourceStatus; outlets: OutletStatus[] }) {
  const { data: marks, error } = useMarks(source.name);
  const [name, setName] = useState("");
  const [place, setPlace] = useState<Place>({ kind: "now", text: "" });
  const [reason, setReason] = useState("");
  const { busy, trouble, work } = useWork();
  const client = useQueryClient();
  const change = (call: Promise<unknown>) =>
    work(async () => {
      await call;
      await client.invalidateQueries({ queryKey: ["marks", source.name] });
    });
  return (
    <section aria-label="Marks">
      <JournalLine source={source.name} journal={source.journal} outlets={outlets} />
      <Form
        aria-label="Set a mark"
        className="rule-line"
        onSubmit={async (event) => {
          event.preventDefault();
          if (await change(answered(api.PUT("/v1/sources/{name}/marks/{mark}", { params: { path: { name: source.name, mark: name } }, body: { at: placeText(place), reason } })))) {
            setName("");
            setReason("");
          }
        }}
      >
        <Form.Group controlId="mark-name">
          <Form.Label>Name</Form.Label>
          <Form.Control size="sm" required value={name} onChange={(e) => setName(e.target.value)} />
        </Form.Group>
        <PlaceFields id="mark-place" place={place} onChange={setPlace} kinds={[...kinds]} offset="Offset that is next after it" time="Commits from this local time on" />
        <Form.Group controlId="mark-reason">
          <Form.Label>Why, for the record</Form.Label>
          <Form.Control size="sm" value={reason} maxLength={500} onChange={(e) => setReason(e.target.value)} />
        </Form.Group>
        <div className="row-end">
          <Button type="submit" size="sm" disabled={busy}>
            {marks?.some((m) => m.name === name) ? "Move it there" : "Set the mark"}
          </Button>
        </div>
      </Form>
      <Trouble error={error ?? trouble} />
      {marks?.length === 0 && <p className="note">None yet. A mark names a place, to rewind an outlet to or to measure from: before a deployment, say, or at the end of a day.</p>}
      {!!marks?.length && (
        <Table size="sm" className="counts">
          <thead>
            <tr>
              <th scope="col">mark</th>
              <th scope="col" className="number">
                offset
              </th>
              <th scope="col" className="number">
                events since
              </th>
              <th scope="col">set</th>
              <th scope="col">why</th>
              <th scope="col">
                <span className="visually-hidden">actions</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {marks.map((m) => (
              <tr key={m.name}>
                <td>{m.name}</td>
                <td className="number">{count(m.offset)}</td>
                <td className="number">{count(Math.max(source.journal.next - m.offset, 0))}</td>
                <td>{localMoment(m.created_at)}</td>
                <td className="note-cell">{m.reason}</td>
                <td>
                  <Button
                    variant="link"
                    size="sm"
                    className="quiet-button"
                    aria-label={`Remove mark ${m.name}`}
                    disabled={busy}
                    onClick={() => change(answered(api.DELETE("/v1/sources/{name}/marks/{mark}", { params: { path: { name: source.name, mark: m.name } } })))}
                  >
                    Remove
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </section>
  );
}
