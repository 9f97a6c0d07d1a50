import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Alert, Button, Form } from "react-bootstrap";
import { answered, api, at, useKinds } from "../../api/client";
import type { Outlet, OutletRecord } from "../../api/types";
import { Editor } from "../../parts/form/Editor";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";
import { LivePreview } from "./LivePreview";
import { OutletForm } from "./OutletForm";

/** DefinitionTab shows and changes an outlet's definition; a preview says what
 * the change would send before it is saved. */
export function DefinitionTab({ record, kind: kindName }: { record: OutletRecord; kind: string }) {
  const { data: kinds } = useKinds();
  const kind = kinds?.find((k) => k.name === kindName);
  const [base, setBase] = useState(record);
  const [draft, setDraft] = useState<Outlet>(record.definition);
  const [wrong, setWrong] = useState("");
  const { busy, trouble, work } = useWork();
  const [said, setSaid] = useState("");
  const [added, setAdded] = useState<string[]>([]);
  const client = useQueryClient();
  const dirty = JSON.stringify(draft) !== JSON.stringify(base.definition);
  const path = { name: base.name };
  const change = (next: Outlet) => {
    setDraft(next);
    setSaid("");
  };
  const save = () =>
    work(async () => {
      const stored = await answered(api.PUT("/v1/outlets/{name}", { params: { path, header: at(base.version) }, body: draft }));
      setBase(stored);
      setDraft(stored.definition);
      setSaid(`Saved as version ${stored.version}; delivery goes on with it.`);
      setAdded(stored.added_tables ?? []);
      await client.invalidateQueries({ queryKey: ["outlet", base.name] });
    });
  const load = () =>
    work(async () => {
      await answered(api.POST("/v1/outlets/{name}/load", { params: { path }, body: { tables: added } }));
      setSaid(`${added.join(", ")}: loading for this outlet alone.`);
      setAdded([]);
    });
  return (
    <Form
      aria-label="Definition"
      onSubmit={(event) => {
        event.preventDefault();
        void save();
      }}
    >
      <p className="note">
        Source {draft.source}, {draft.destination ? `destination ${draft.destination}` : "read by consumers"}; version {base.version}. Delivery goes on with what is saved, from where it is.
      </p>
      <Editor id="definition" value={draft} onChange={change} schema={kind?.outlet} onWrong={setWrong}>
        {kind && <OutletForm key={base.version} kind={kind} outlet={draft} onChange={change} stored />}
      </Editor>
      <Trouble error={wrong || trouble} />
      <div className="page-head">
        <Button type="submit" size="sm" disabled={busy || wrong !== "" || !dirty}>
          Save
        </Button>
        <a href={`/v1/outlets/${base.name}/asyncapi`} target="_blank" rel="noreferrer">
          AsyncAPI document
        </a>
        <span role="status" className="note">
          {said || (record.version !== base.version ? `Somebody else has stored version ${record.version} meanwhile.` : dirty ? "Not saved yet." : "")}
        </span>
      </div>
      {added.length > 0 && (
        <Alert variant="warning" className="part">
          <p>New in this outlet: {added.join(", ")}. Its events come from where the outlet is in the journal; what was before that comes once it is loaded.</p>
          <Button size="sm" disabled={busy} onClick={() => void load()}>
            Load them for this outlet
          </Button>
        </Alert>
      )}
      {wrong === "" && <LivePreview definition={draft} />}
    </Form>
  );
}
