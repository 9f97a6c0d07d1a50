import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { answered, api, at } from "../../api/client";
import type { SourceDefinition, SourceRecord } from "../../api/types";
import { Editor } from "../../parts/form/Editor";
import { Trouble } from "../../parts/Trouble";
import { Chosen } from "./Chosen";
import { RulesEditor } from "./RulesEditor";
import { SourceForm } from "./SourceForm";

/** RulesTab changes a source's definition while it runs. The version that the
 * change was made to goes with it, so that two people do not overwrite each other. */
export function RulesTab({ record }: { record: SourceRecord }) {
  const [base, setBase] = useState(record);
  const [draft, setDraft] = useState<SourceDefinition>(record.definition);
  const [trouble, setTrouble] = useState<unknown>();
  const [saved, setSaved] = useState(false);
  const [wrong, setWrong] = useState("");
  const client = useQueryClient();
  const dirty = JSON.stringify(draft) !== JSON.stringify(base.definition);
  const take = (next: SourceRecord) => {
    setBase(next);
    setDraft(next.definition);
    setTrouble(undefined);
  };
  const change = (next: SourceDefinition) => {
    setDraft(next);
    setSaved(false);
  };
  return (
    <Form
      aria-label="Rules"
      onSubmit={async (event) => {
        event.preventDefault();
        try {
          const next = await answered(api.PUT("/v1/sources/{name}", { params: { path: { name: base.name }, header: at(base.version) }, body: draft }));
          take(next);
          setSaved(true);
          client.setQueryData(["source", base.name], next);
        } catch (error) {
          setTrouble(error);
        }
      }}
    >
      <Editor id="definition" value={draft} onChange={change} onWrong={setWrong}>
        <RulesEditor rules={draft.tables ?? []} onChange={(tables) => change({ ...draft, tables })} />
        <details className="advanced">
          <summary>Connection and more</summary>
          <SourceForm definition={draft} onChange={change} />
        </details>
      </Editor>
      <Trouble error={wrong || trouble} />
      <div className="page-head">
        <Button type="submit" size="sm" disabled={!dirty || wrong !== ""}>
          Save the rules
        </Button>
        <Button size="sm" variant="outline-secondary" disabled={!dirty && record.version === base.version} onClick={() => take(record)}>
          Back to what is stored
        </Button>
        <span role="status" className="note">
          {saved ? "Saved; capture goes on by the new rules." : record.version !== base.version ? `Somebody else has stored version ${record.version} meanwhile.` : `version ${base.version}`}
        </span>
      </div>
      <Chosen name={base.name} definition={draft} />
    </Form>
  );
}
