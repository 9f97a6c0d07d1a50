import { useState } from "react";
import { Button, Form, Modal } from "react-bootstrap";
import { send, useMarks } from "../../api/client";
import type { OutletStatus, Rewind } from "../../api/types";
import { count } from "../../parts/numbers";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";

type Kind = "beginning" | "now" | "offset" | "time" | "mark";

/** RewindDialog sets an outlet back, or forward. It says what that would do
 * before it is done. */
export function RewindDialog({ outlet, onClose }: { outlet: OutletStatus; onClose: () => void }) {
  const [kind, setKind] = useState<Kind>("offset");
  const [text, setText] = useState("");
  const [plan, setPlan] = useState<Rewind>();
  const { trouble, work } = useWork();
  const { data: marks } = useMarks(outlet.source);
  const place = () => {
    switch (kind) {
      case "offset":
        return text.trim();
      case "time":
        return `time:${new Date(text).toISOString()}`;
      case "mark":
        return `mark:${text || marks?.[0]?.name}`;
      default:
        return kind;
    }
  };
  const ask = (dry: boolean) =>
    work(async () => {
      const answer = await send<Rewind>("POST", `/v1/outlets/${outlet.name}/rewind`, { to: place(), dry_run: dry });
      if (dry) {
        setPlan(answer);
      } else {
        onClose();
      }
    });
  const change = (next: () => void) => {
    setPlan(undefined);
    next();
  };
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
            <Form.Group controlId="rewind-kind">
              <Form.Label>Place</Form.Label>
              <Form.Select size="sm" value={kind} onChange={(e) => change(() => setKind(e.target.value as Kind))}>
                <option value="offset">an offset</option>
                <option value="time">a time</option>
                <option value="mark" disabled={!marks?.length}>
                  a mark
                </option>
                <option value="beginning">the oldest that is kept</option>
                <option value="now">now, passing over the rest</option>
              </Form.Select>
            </Form.Group>
            {kind === "offset" && (
              <Form.Group controlId="rewind-offset">
                <Form.Label>Offset that is delivered next</Form.Label>
                <Form.Control size="sm" required pattern="[0-9]{1,18}" inputMode="numeric" value={text} onChange={(e) => change(() => setText(e.target.value))} />
              </Form.Group>
            )}
            {kind === "time" && (
              <Form.Group controlId="rewind-time">
                <Form.Label>Commits from this local time on</Form.Label>
                <Form.Control size="sm" required type="datetime-local" step={1} value={text} onChange={(e) => change(() => setText(e.target.value))} />
              </Form.Group>
            )}
            {kind === "mark" && (
              <Form.Group controlId="rewind-mark">
                <Form.Label>Mark</Form.Label>
                <Form.Select size="sm" value={text} onChange={(e) => change(() => setText(e.target.value))}>
                  {marks?.map((m) => (
                    <option key={m.name} value={m.name}>
                      {m.name} (offset {count(m.offset)})
                    </option>
                  ))}
                </Form.Select>
              </Form.Group>
            )}
          </div>
          {plan && (
            <p role="status">
              From offset {count(plan.from)} to {count(plan.to)}: <strong>{count(Math.abs(plan.events))}</strong> events of the source {plan.events < 0 ? "are passed over." : "are delivered again, with the same ids."}
            </p>
          )}
          <Trouble error={trouble} />
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-secondary" onClick={onClose}>
            Leave it
          </Button>
          <Button type="submit">{plan ? "Do it" : "What would that do?"}</Button>
        </Modal.Footer>
      </Form>
    </Modal>
  );
}
