import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Alert, Button, Form } from "react-bootstrap";
import { getJSON, openSession, Refused } from "../api/client";
import { Logo } from "./Logo";

/** TokenGate asks for the service's token where the service wants one. */
export function TokenGate({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  const [token, setToken] = useState("");
  const [error, setError] = useState("");
  const probe = useQuery({ queryKey: ["version"], queryFn: () => getJSON("/v1/version"), retry: false });
  if (probe.isLoading) {
    return null;
  }
  if (!(probe.error instanceof Refused && probe.error.status === 401)) {
    return children;
  }
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
      <p>This service wants its token.</p>
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
