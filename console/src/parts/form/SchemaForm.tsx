import "../../theme/forms.scss";
import { useState, type ReactNode } from "react";
import { Button, Form } from "react-bootstrap";
import { applies, fieldsOf, isList, isPart, isRequired, isSet, pairs, put, words, type Field, type Schema, type Section } from "./schema";

/** Widget draws what asks for one field. It is a function, not a component: it has no
 * state of its own. */
export type Widget = (props: { id: string; schema: Schema; value: unknown; onChange: (value: unknown) => void }) => ReactNode;

interface Props {
  /** id begins the ids of the controls. */
  id?: string;
  schema: Schema;
  value: Section;
  onChange: (value: Section) => void;
  widgets?: Record<string, Widget>;
  /** omit names fields that are asked for elsewhere. */
  omit?: string[];
  /** advanced is what the rest is called. */
  advanced?: string;
}

/** SchemaForm asks for what a JSON Schema describes: what most need first, the rest
 * under Advanced, parts of it when they are wanted. */
export function SchemaForm({ id = "", schema, value, onChange, widgets = {}, omit = [], advanced: rest = "Advanced" }: Props) {
  const all = fieldsOf(schema).filter((field) => !omit.includes(field[0]) && applies(field, value, schema));
  const advanced = all.filter(([, field]) => field["x-advanced"]);
  const set = advanced.filter(([name, field]) => isSet(field, value[name])).length;
  const [open, setOpen] = useState(set > 0);
  const line = (field: Field) => (
    <OneField
      key={field[0]}
      id={id + field[0]}
      field={field}
      value={value[field[0]]}
      required={isRequired(field[0], value, schema)}
      widget={widgets[field[0]]}
      onChange={(next) => {
        const instead = next === undefined ? undefined : field[1]["x-instead"];
        onChange(put(instead ? put(value, instead, undefined) : value, field[0], next));
      }}
    />
  );
  return (
    <>
      <div className="fields">{all.filter(([, field]) => !field["x-advanced"]).map(line)}</div>
      {advanced.length > 0 && (
        <details className="advanced" open={open} onToggle={(e) => setOpen(e.currentTarget.open)}>
          <summary>
            {rest}
            {set > 0 && ` (${set} set)`}
          </summary>
          <div className="fields">{advanced.map(line)}</div>
        </details>
      )}
    </>
  );
}

interface OneFieldProps {
  id: string;
  field: Field;
  value: unknown;
  required: boolean;
  widget?: Widget;
  onChange: (value: unknown) => void;
}

function OneField({ id, field: [, schema], value, required, widget, onChange }: OneFieldProps) {
  if (widget) {
    return widget({ id, schema, value, onChange });
  }
  if (isPart(schema)) {
    return <Part id={id} schema={schema} value={value as Section | undefined} onChange={onChange} />;
  }
  if (isList(schema)) {
    return <List id={id} schema={schema} value={(value as Section[] | undefined) ?? []} onChange={onChange} />;
  }
  if (schema.type === "boolean") {
    return (
      <div className="switch">
        <Form.Check id={id} label={schema.title} checked={value === true} onChange={(e) => onChange(e.target.checked || undefined)} />
        <About schema={schema} />
      </div>
    );
  }
  if (schema.type === "array" && schema.items?.enum) {
    return <Toggles id={id} schema={schema} value={value as string[] | undefined} onChange={onChange} />;
  }
  return (
    <Form.Group controlId={id} className={schema.type === "object" ? "pairs" : schema.type === "array" ? "wide" : undefined}>
      <Form.Label>
        {schema.title}
        {schema["x-unit"] && <span className="unit">, {schema["x-unit"]}</span>}
      </Form.Label>
      <Control schema={schema} value={value} required={required} onChange={onChange} />
      <About schema={schema} />
    </Form.Group>
  );
}

function About({ schema }: { schema: Schema }) {
  return schema.description && schema.description !== schema.title ? <Form.Text>{schema.description}</Form.Text> : null;
}

function Control({ schema, value, required, onChange }: { schema: Schema; value: unknown; required: boolean; onChange: (value: unknown) => void }) {
  const example = String(schema.examples?.[0] ?? schema.default ?? "");
  if (schema.enum) {
    const open = schema.default === undefined && !required;
    return (
      <Form.Select size="sm" value={String(value ?? schema.default ?? "")} onChange={(e) => onChange(e.target.value)}>
        {(open || (required && value === undefined && schema.default === undefined)) && <option value="">{open ? "not set" : "choose …"}</option>}
        {schema.enum.map((choice) => (
          <option key={choice}>{choice}</option>
        ))}
      </Form.Select>
    );
  }
  if (schema.type === "integer") {
    return (
      <Form.Control
        size="sm"
        type="number"
        min={schema.minimum}
        max={schema.maximum}
        required={required}
        placeholder={example}
        value={typeof value === "number" ? value : ""}
        onChange={(e) => onChange(e.target.value === "" ? undefined : Number(e.target.value))}
      />
    );
  }
  if (schema.type === "array") {
    return <Typed text={((value as string[] | undefined) ?? []).join(" ")} example={example} required={required} onText={(text) => onChange(words(text))} />;
  }
  if (schema.type === "object") {
    const lines = Object.entries((value as Record<string, string> | undefined) ?? {}).map(([name, its]) => `${name}: ${its}`);
    return <Typed text={lines.join("\n")} example="name: value" required={required} rows={3} onText={(text) => onChange(pairs(text))} />;
  }
  const secret = schema.format === "password";
  return (
    <Form.Control
      size="sm"
      type={secret ? "password" : "text"}
      autoComplete={secret ? "new-password" : "off"}
      required={required}
      maxLength={schema.maxLength}
      placeholder={example}
      value={String(value ?? "")}
      onChange={(e) => onChange(e.target.value)}
    />
  );
}

/** Typed keeps what is typed as it is, also where it is not yet what is meant. */
function Typed({ text, example, required, rows, onText }: { text: string; example: string; required: boolean; rows?: number; onText: (text: string) => void }) {
  const [typed, setTyped] = useState(text);
  const own = {
    size: "sm" as const,
    required,
    placeholder: example,
    value: typed,
    onChange: (e: { target: { value: string } }) => {
      setTyped(e.target.value);
      onText(e.target.value);
    },
  };
  return rows ? <Form.Control as="textarea" rows={rows} {...own} /> : <Form.Control {...own} />;
}

function Toggles({ id, schema, value = [], onChange }: { id: string; schema: Schema; value?: string[]; onChange: (value: unknown) => void }) {
  const choices = schema.items!.enum!;
  return (
    <fieldset className="toggles" id={id}>
      <legend className="form-label">{schema.title}</legend>
      {choices.map((choice) => (
        <Form.Check
          key={choice}
          inline
          id={`${id}-${choice}`}
          label={choice}
          checked={value.includes(choice)}
          onChange={(e) => onChange(choices.filter((c) => (c === choice ? e.target.checked : value.includes(c))))}
        />
      ))}
      <About schema={schema} />
    </fieldset>
  );
}

/** List is a list of sections, in their order. */
function List({ id, schema, value, onChange }: { id: string; schema: Schema; value: Section[]; onChange: (value: unknown) => void }) {
  const [keys, setKeys] = useState(() => value.map((_, i) => i));
  const [next, setNext] = useState(value.length);
  const one = schema.items!;
  return (
    <fieldset className="list" id={id}>
      <legend className="form-label">{schema.title}</legend>
      <About schema={schema} />
      {value.map((item, i) => (
        <div className="list-item" key={keys[i] ?? i}>
          <SchemaForm id={`${id}-${keys[i] ?? i}-`} schema={one} value={item} onChange={(changed) => onChange(value.map((old, n) => (n === i ? changed : old)))} />
          <Button
            size="sm"
            variant="outline-secondary"
            aria-label={`Remove ${schema.title ?? ""} ${i + 1}`}
            onClick={() => {
              setKeys(keys.filter((_, n) => n !== i));
              onChange(value.filter((_, n) => n !== i));
            }}
          >
            Remove
          </Button>
        </div>
      ))}
      <Button
        size="sm"
        variant="outline-primary"
        onClick={() => {
          setKeys([...keys, next]);
          setNext(next + 1);
          onChange([...value, {}]);
        }}
      >
        Add to {(schema.title ?? "the list").toLowerCase()}
      </Button>
    </fieldset>
  );
}

/** Part is a section within one, that is there when it is wanted. */
function Part({ id, schema, value, onChange }: { id: string; schema: Schema; value?: Section; onChange: (value: unknown) => void }) {
  return (
    <fieldset className="part">
      <Form.Check id={id} label={schema.title} checked={value !== undefined} onChange={(e) => onChange(e.target.checked ? {} : undefined)} />
      <About schema={schema} />
      {value && <SchemaForm id={`${id}-`} schema={schema} value={value} onChange={onChange} />}
    </fieldset>
  );
}
