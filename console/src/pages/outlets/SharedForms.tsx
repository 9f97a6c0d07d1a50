import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Button, Form, Modal, Table } from "react-bootstrap";
import { answered, api, at, useForms, useKinds, useOutletRecords } from "../../api/client";
import { useSources } from "../../api/status";
import type { SharedForm, SharedFormRecord } from "../../api/types";
import { Ask } from "../../parts/Ask";
import { Editor } from "../../parts/form/Editor";
import { SchemaForm } from "../../parts/form/SchemaForm";
import { matches, type Schema, type Section } from "../../parts/form/schema";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";
import { LivePreview } from "./LivePreview";

/** SharedForms lists the forms of rows that outlets share: added, changed and removed here. */
export function SharedForms() {
  const client = useQueryClient();
  const { data: forms } = useForms();
  const { data: outlets } = useOutletRecords();
  const [edited, setEdited] = useState<SharedFormRecord | "new">();
  const [removed, setRemoved] = useState<string>();
  const { trouble, work } = useWork();
  if (!forms) {
    return null;
  }
  const users = (name: string) => outlets?.filter((o) => o.definition.forms?.includes(name)).map((o) => o.name) ?? [];
  const renew = () => client.invalidateQueries({ queryKey: ["forms"] });
  return (
    <>
      <h2 className="section-head">Shared forms of rows</h2>
      <Trouble error={trouble} />
      {forms.length === 0 && <p className="note">There are none yet. A form drops, masks, renames and computes columns; outlets that use it all go on with what is changed in it.</p>}
      {forms.length > 0 && (
        <div className="table-scroll" tabIndex={0} role="region" aria-label="Shared forms of rows">
          <Table size="sm" className="counts">
            <thead>
              <tr>
                <th scope="col">form</th>
                <th scope="col">tables</th>
                <th scope="col">functions</th>
                <th scope="col">outlets</th>
                <th scope="col">
                  <span className="visually-hidden">what to do</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {forms.map((f) => (
                <tr key={f.name}>
                  <th scope="row">{f.name}</th>
                  <td>{f.definition.rows?.map((r) => r.match).join(", ") || "–"}</td>
                  <td>{f.definition.functions?.map((one) => one.name).join(", ") || "–"}</td>
                  <td>{users(f.name).join(", ") || "–"}</td>
                  <td className="number">
                    <Button variant="link" size="sm" className="quiet-button" aria-label={`Edit ${f.name}`} onClick={() => setEdited(f)}>
                      Edit …
                    </Button>
                    <Button variant="link" size="sm" className="quiet-button" aria-label={`Remove ${f.name}`} onClick={() => setRemoved(f.name)}>
                      Remove …
                    </Button>
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      <Button variant="outline-secondary" size="sm" onClick={() => setEdited("new")}>
        Add a form …
      </Button>
      <Ask
        show={removed !== undefined}
        title={`Remove the form ${removed}?`}
        text="A form that an outlet uses is not removed."
        word="Remove it"
        onNo={() => setRemoved(undefined)}
        onYes={() => {
          const name = removed!;
          setRemoved(undefined);
          void work(async () => {
            await answered(api.DELETE("/v1/forms/{name}", { params: { path: { name } } }));
            await renew();
          });
        }}
      />
      {edited && (
        <FormDialog
          record={edited === "new" ? undefined : edited}
          users={edited === "new" ? [] : users(edited.name)}
          onClose={() => setEdited(undefined)}
          onSaved={async () => {
            setEdited(undefined);
            await renew();
          }}
        />
      )}
    </>
  );
}

interface DialogProps {
  /** record is the form to change; a new one without it. */
  record?: SharedFormRecord;
  users: string[];
  onClose: () => void;
  onSaved: () => Promise<void>;
}

/** FormDialog adds a form, or changes one. */
function FormDialog({ record, users, onClose, onSaved }: DialogProps) {
  const { data: kinds } = useKinds();
  const sources = useSources();
  const [source, setSource] = useState<string>();
  const [name, setName] = useState(record?.name ?? "");
  const [draft, setDraft] = useState<SharedForm>(record?.definition ?? {});
  const [wrong, setWrong] = useState("");
  const { busy, trouble, work } = useWork();
  const has = sources?.find((s) => s.tables.some((t) => draft.rows?.some((r) => r.match && matches(r.match, t.name))));
  const shown = source ?? has?.name ?? sources?.[0]?.name ?? "";
  const schema = formSchema(kinds?.[0]?.outlet);
  const save = () =>
    work(async () => {
      const path = { name };
      await answered(record ? api.PUT("/v1/forms/{name}", { params: { path, header: at(record.version) }, body: draft }) : api.POST("/v1/forms/{name}", { params: { path }, body: draft }));
      await onSaved();
    });
  return (
    <Modal animation={false} show onHide={onClose} size="lg" aria-labelledby="form-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault();
          void save();
        }}
      >
        <Modal.Body>
          <h2 id="form-title">{record ? `The form ${record.name}` : "A form of rows that outlets share"}</h2>
          {record && <p className="note">{users.length ? `Used by ${users.join(", ")}. What is saved here holds from the next event on.` : "No outlet uses it."}</p>}
          {!record && (
            <Form.Group controlId="form-name">
              <Form.Label>Name</Form.Label>
              <Form.Control required value={name} onChange={(e) => setName(e.target.value)} />
            </Form.Group>
          )}
          <Editor id="form-definition" value={draft} onChange={setDraft} schema={schema} onWrong={setWrong}>
            {schema && <SchemaForm id="form-" schema={schema} value={draft as Section} onChange={(next) => setDraft(next as SharedForm)} />}
          </Editor>
          <Trouble error={wrong || trouble} />
          {wrong === "" && sources && sources.length > 0 && (draft.rows?.length ?? 0) > 0 && (
            <>
              {sources.length > 1 && (
                <Form.Group controlId="form-source">
                  <Form.Label>Rows of the source</Form.Label>
                  <Form.Select size="sm" className="period" value={shown} onChange={(e) => setSource(e.target.value)}>
                    {sources.map((s) => (
                      <option key={s.name}>{s.name}</option>
                    ))}
                  </Form.Select>
                </Form.Group>
              )}
              <LivePreview
                definition={{ source: shown, rows: draft.rows, functions: draft.functions, tables: draft.rows?.map((r) => r.match), operations: ["existing", "insert", "update", "delete"] }}
              />
            </>
          )}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-secondary" onClick={onClose}>
            Cancel
          </Button>
          <Button type="submit" disabled={busy || wrong !== ""}>
            {record ? "Save" : "Add it"}
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  );
}

/** formSchema is the part of an outlet's schema that a form has, too. */
function formSchema(outlet?: Schema): Schema | undefined {
  const { rows, functions, description } = outlet?.properties ?? {};
  return rows && functions && description && { type: "object", properties: { rows: { ...rows, "x-advanced": false }, functions: { ...functions, "x-advanced": false }, description } };
}
