import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { answered, api } from "../../api/client";
import type { ScriptRun, Scripts as Texts, SourceDefinition } from "../../api/types";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";

interface For {
  name: string;
  /** definition is one that is not stored yet; the stored one without it. */
  definition?: SourceDefinition;
  /** onRun is called when a script has run on the database. */
  onRun: () => void;
}

/** Scripts shows what an administrator runs on a source's database, and runs it. */
export function Scripts({ name, definition, onRun }: For) {
  const [scripts, setScripts] = useState<Texts>();
  const { busy, trouble, work } = useWork();
  const show = () => work(async () => setScripts(await answered(api.POST("/v1/sources/{name}/scripts", { params: { path: { name } }, body: definition }))));
  return (
    <section aria-label="Scripts for an administrator">
      <div className="page-head">
        <Button size="sm" variant="outline-secondary" onClick={show} disabled={busy}>
          Scripts for an administrator
        </Button>
      </div>
      <Trouble error={trouble} />
      {scripts && (
        <>
          <Runner name={name} definition={definition} onRun={onRun} />
          <h2>To prepare the database</h2>
          <pre className="script" role="region" aria-label="The script that prepares" tabIndex={0}>
            {scripts.setup}
          </pre>
          <h2>To have it write each schema change's statement into its log</h2>
          <pre className="script" role="region" aria-label="The script for statements" tabIndex={0}>
            {scripts.statements}
          </pre>
          <h2>To take that away again</h2>
          <pre className="script" role="region" aria-label="The script that takes it away" tabIndex={0}>
            {scripts.teardown}
          </pre>
        </>
      )}
    </section>
  );
}

/** Runner runs one of the scripts, as a login that may, whose password is not kept. */
function Runner({ name, definition, onRun }: For) {
  const [script, setScript] = useState<ScriptRun["script"]>("setup");
  const [user, setUser] = useState("");
  const [password, setPassword] = useState("");
  const [said, setSaid] = useState("");
  const { busy, trouble, work } = useWork();
  const run = () => {
    setSaid("");
    return work(async () => {
      await answered(api.POST("/v1/sources/{name}/scripts/run", { params: { path: { name } }, body: { script, definition, ...(user ? { user, password } : {}) } }));
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
