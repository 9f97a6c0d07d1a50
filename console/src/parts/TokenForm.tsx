import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Alert, Button, Form } from "react-bootstrap";
import { openSession } from "../api/client";
import { Logo } from "./Logo";

/** TokenForm asks for the service's token, and opens a session with it. */
export function TokenForm() {
  const queries = useQueryClient();
  const [token, setToken] = useState("");
  const [error, setError] = useState("");
  return (
    <Form
      className="token-gate"
      onSubmit={async (event) => {
        event.preventDefault();
        try {
          await openSession(token);
          await queries.invalidateQueries({ queryKey: ["version"] });
        } catch (refused) {
          setError(refused instanceof Error ? refused.message : String(refused));
        }
      }}
    >
      <h1>
        <Logo /> Rillmark
      </h1>
      <p>This service requires its token.</p>
      {error && <Alert variant="danger">{error}</Alert>}
      <Form.Group controlId="token">
        <Form.Label>Token</Form.Label>
        <Form.Control type="password" autoFocus autoComplete="current-password" value={token} onChange={(e) => setToken(e.target.value)} />
      </Form.Group>
      <Button type="submit" disabled={!token}>
        Continue
      </Button>
    </Form>
  );
}
