import { useState } from "react";
import { Button, Form, Modal } from "react-bootstrap";

interface Asked {
  show: boolean;
  title: string;
  text: string;
  word: string;
  wantsReason?: boolean;
  /** option is something that a person may choose besides. */
  option?: string;
  onNo: () => void;
  onYes: (reason: string, chosen: boolean) => void;
}

/** Ask wants a person's word before something that is not easily undone. */
export function Ask({ show, title, text, word, wantsReason, option, onNo, onYes }: Asked) {
  const [reason, setReason] = useState("");
  const [chosen, setChosen] = useState(false);
  return (
    <Modal animation={false} show={show} onHide={onNo} aria-labelledby="ask-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault();
          onYes(reason, chosen);
        }}
      >
        <Modal.Body>
          <h2 id="ask-title">{title}</h2>
          <p>{text}</p>
          {wantsReason && (
            <Form.Group controlId="reason">
              <Form.Label>Why, for the record</Form.Label>
              <Form.Control value={reason} onChange={(event) => setReason(event.target.value)} maxLength={200} autoFocus />
            </Form.Group>
          )}
          {option && <Form.Check id="ask-option" label={option} checked={chosen} onChange={(event) => setChosen(event.target.checked)} />}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-secondary" onClick={onNo}>
            Leave it
          </Button>
          <Button type="submit">{word}</Button>
        </Modal.Footer>
      </Form>
    </Modal>
  );
}
