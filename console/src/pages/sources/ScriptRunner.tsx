import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { send } from "../../api/client";
import type { ScriptRun } from "../../api/types";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";

/** ScriptRunner runs one of the scripts on the source's database, as a login that
 * may, whose password is not kept. */
export function ScriptRunner({ name, onRun }: { name: string; onRun: () => void }) {
  const [script, setScript] = useState<ScriptRun["script"]>("setup");
  const [user, setUser] = useState("");
  const [password, setPassword] = useState("");
  const [said, setSaid] = useState("");
  const { busy, trouble, work } = useWork();
  const run = () => {
    setSaid("");
    return work(async () => {
      await send("POST", `/v1/sources/${name}/scripts/run`, { script, ...(user ? { user, password } : {}) } satisfies ScriptRun);
      setSaid("Done, all of it.");
      setPassword("");
      onRun();
    });
  };
  return (
    <Form
      aria-label="Run a script"
      className="rule-line"
      onSubmit={(event) => {
        event.preventDefault();
        void run();
      }}
    >
      <Form.Group controlId="script">
        <Form.Label>Run here</Form.Label>
        <Form.Select size="sm" value={script} onChange={(e) => setScript(e.target.value as ScriptRun["script"])}>
          <option value="setup">prepare the database</option>
          <option value="statements">write statements into the log</option>
          <option value="teardown">take that away again</option>
        </Form.Select>
      </Form.Group>
      <Form.Group controlId="script-user">
        <Form.Label>As login (the source's own without one)</Form.Label>
        <Form.Control size="sm" value={user} autoComplete="off" onChange={(e) => setUser(e.target.value)} />
      </Form.Group>
      <Form.Group controlId="script-password">
        <Form.Label>Its password, which is not kept</Form.Label>
        <Form.Control size="sm" type="password" value={password} autoComplete="off" disabled={!user} onChange={(e) => setPassword(e.target.value)} />
      </Form.Group>
      <div className="row-end">
        <Button type="submit" size="sm" variant="outline-secondary" disabled={busy}>
          {busy ? "Running …" : "Run it"}
        </Button>
        <span role="status">{said}</span>
      </div>
      <Trouble error={trouble} />
    </Form>
  );
}
