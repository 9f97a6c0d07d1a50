import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { send } from "../../api/client";
import type { Outlet, OutletRecord, Preview } from "../../api/types";
import { Message } from "../../parts/Message";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";

/** DefinitionTab shows and changes an outlet's definition; a preview says what
 * the change would send before it is saved. */
export function DefinitionTab({ record }: { record: OutletRecord }) {
  const [text, setText] = useState(() => JSON.stringify(record.definition, null, 2));
  const [version, setVersion] = useState(record.version);
  const [previews, setPreviews] = useState<Preview[]>();
  const { trouble, work } = useWork();
  const [said, setSaid] = useState("");
  const client = useQueryClient();
  const run = (what: (definition: Outlet) => Promise<void>) => {
    setSaid("");
    return work(() => what(JSON.parse(text)));
  };
  const preview = () => run(async (d) => setPreviews((await send<{ items: Preview[] }>("POST", `/v1/outlets/${record.name}/preview?limit=3`, d)).items));
  const save = () =>
    run(async (d) => {
      const stored = await send<OutletRecord>("PUT", `/v1/outlets/${record.name}`, d, version);
      setVersion(stored.version);
      setText(JSON.stringify(stored.definition, null, 2));
      setSaid(`Saved as version ${stored.version}; delivery goes on with it.`);
      await client.invalidateQueries({ queryKey: ["outlet", record.name] });
    });
  return (
    <>
      <Form.Group controlId="definition">
        <Form.Label className="note">Version {version}. What a field does stands in the API's description; a preview changes nothing.</Form.Label>
        <Form.Control as="textarea" className="code" spellCheck={false} rows={Math.min(text.split("\n").length + 1, 30)} value={text} onChange={(e) => setText(e.target.value)} />
      </Form.Group>
      <div className="page-head">
        <Button size="sm" onClick={save}>
          Save
        </Button>
        <Button size="sm" variant="outline-secondary" onClick={preview}>
          Preview
        </Button>
        <a href={`/v1/outlets/${record.name}/asyncapi`} target="_blank" rel="noreferrer">
          AsyncAPI document
        </a>
        <span role="status">{said}</span>
      </div>
      <Trouble error={trouble} />
      {previews?.length === 0 && <p className="note">None of the journal's newest events would be let through.</p>}
      {previews?.map((m) => (
        <Message key={m.id} message={m} />
      ))}
    </>
  );
}
