import { useState } from "react";
import { Button, Form, Modal } from "react-bootstrap";
import { answered, api, useMarks } from "../../api/client";
import type { OutletStatus, Rewind } from "../../api/types";
import { count } from "../../parts/numbers";
import { PlaceFields, placeText, type Place } from "../../parts/Place";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";

const kinds = [
  ["offset", "an offset"],
  ["time", "a time"],
  ["mark", "a mark"],
  ["beginning", "the oldest that is kept"],
  ["now", "now, passing over the rest"],
] as const;

const ends = [
  ["open", "no end: it goes on from there"],
  ["pause", "it pauses before …"],
  ["return", "before … it goes back to where it is now"],
] as const;

type End = (typeof ends)[number][0];

/** RewindDialog sets an outlet back, or forward, or replays a part of the journal. It
 * says what that would do before it is done. */
export function RewindDialog({ outlet, onClose }: { outlet: OutletStatus; onClose: () => void }) {
  const [place, setPlace] = useState<Place>({ kind: "offset", text: "" });
  const [end, setEnd] = useState<End>("open");
  const [until, setUntil] = useState<Place>({ kind: "offset", text: "" });
  const [plan, setPlan] = useState<Rewind>();
  const { trouble, work, busy } = useWork();
  const { data: marks } = useMarks(outlet.source);
  const ask = (dry: boolean) =>
    work(async () => {
      const answer = await answered(
        api.POST("/v1/outlets/{name}/rewind", {
          params: { path: { name: outlet.name } },
          body: {
            to: placeText(place, marks),
            ...(end !== "open" && { until: placeText(until, marks), return: end === "return" }),
            dry_run: dry,
          },
        }),
      );
      if (dry) {
        setPlan(answer);
      } else {
        onClose();
      }
    });
  return (
    <Modal animation={false} show onHide={onClose} aria-labelledby="rewind-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault();
          void ask(plan === undefined);
        }}
      >
        <Modal.Body>
          <h2 id="rewind-title">Rewind {outlet.name}</h2>
          <p>It has delivered up to offset {count(outlet.committed)}. Where shall it go on?</p>
          <div className="rule-line">
            <PlaceFields
              id="rewind"
              place={place}
              onChange={(next) => {
                setPlan(undefined);
                setPlace(next);
              }}
              marks={marks}
              kinds={[...kinds]}
              offset="Offset that is delivered next"
              time="Commits from this local time on"
            />
          </div>
          {outlet.destination && (
            <div className="rule-line">
              <Form.Group controlId="rewind-end">
                <Form.Label>End</Form.Label>
                <Form.Select
                  size="sm"
                  value={end}
                  onChange={(event) => {
                    setPlan(undefined);
                    setEnd(event.target.value as End);
                  }}
                >
                  {ends.map(([value, words]) => (
                    <option key={value} value={value}>
                      {words}
                    </option>
                  ))}
                </Form.Select>
              </Form.Group>
              {end !== "open" && (
                <PlaceFields
                  id="rewind-until"
                  place={until}
                  onChange={(next) => {
                    setPlan(undefined);
                    setUntil(next);
                  }}
                  marks={marks}
                  kinds={kinds.filter(([kind]) => kind !== "beginning").map(([kind, words]) => [kind, kind === "now" ? "now" : words] as const)}
                  offset="Offset before which it ends"
                  time="Commits before this local time"
                />
              )}
            </div>
          )}
          {plan && (
            <p role="status">
              From offset {count(plan.from)} to {count(plan.to)}: <strong>{count(Math.abs(plan.events))}</strong> events of the source{" "}
              {plan.events < 0 ? "are passed over." : "are delivered again, with the same ids"}
              {plan.events < 0 ? "" : plan.until ? `, up to offset ${count(plan.until)}${plan.returns ? ", and then it goes back." : ", where it pauses."}` : "."}
            </p>
          )}
          <Trouble error={trouble} />
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-secondary" onClick={onClose}>
            Leave it
          </Button>
          <Button type="submit" disabled={busy}>
            {plan ? "Do it" : "What would that do?"}
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  );
}
