import { Form } from "react-bootstrap";
import { useForms, useMarks } from "../../api/client";
import { useSourceStatus } from "../../api/status";
import type { Kind, Mark, Outlet } from "../../api/types";
import { SchemaForm, type Widget } from "../../parts/form/SchemaForm";
import { TablePicker } from "../../parts/form/TablePicker";
import { put, type Schema, type Section } from "../../parts/form/schema";
import { PlaceFields, placeOf, placeText } from "../../parts/Place";

const places = [
  ["beginning", "the oldest event that is kept"],
  ["load", "a load of its tables, for it alone"],
  ["now", "now"],
  ["cutover", "a cut over that it leads back from; paused until then"],
  ["time", "a time"],
  ["mark", "a mark"],
  ["offset", "an offset"],
] as const;

interface Props {
  kind: Kind;
  outlet: Outlet;
  onChange: (outlet: Outlet) => void;
  /** stored says that the outlet is there: where it began is past. */
  stored?: boolean;
}

/** OutletForm asks what goes out, in which form, and how it is delivered. */
export function OutletForm({ kind, outlet, onChange, stored }: Props) {
  const source = useSourceStatus(outlet.source);
  const { data: marks } = useMarks(outlet.source);
  const { data: forms } = useForms();
  const tables = source?.tables.map((t) => t.name) ?? [];
  const schema = kind.outlet as Schema;
  const value = outlet as unknown as Section;
  const change = (next: Section) => onChange(next as unknown as Outlet);
  const own = schema.properties?.[kind.name];
  return (
    <>
      <SchemaForm
        schema={titled(schema, kind)}
        value={value}
        onChange={change}
        omit={["source", "destination", kind.name, ...(stored ? ["from"] : [])]}
        widgets={{
          tables: ({ id, value: patterns, onChange: set }) => <TablePicker key={outlet.source} id={id} tables={tables} value={(patterns as string[] | undefined) ?? []} onChange={set} />,
          from: startAt(marks),
          forms: chosenForms(forms?.map((f) => f.name)),
        }}
      />
      {own && (
        <section aria-label={kind.title} className="own-section">
          <h2>{kind.title}</h2>
          <SchemaForm
            id={`${kind.name}-`}
            schema={own}
            value={(value[kind.name] as Section | undefined) ?? {}}
            onChange={(next) => change(put(value, kind.name, Object.keys(next).length ? next : undefined))}
          />
        </section>
      )}
    </>
  );
}

/** titled calls topics what the kind's trade calls them. */
function titled(schema: Schema, kind: Kind): Schema {
  const topic = schema.properties?.topic;
  if (!topic || !kind.topic) {
    return schema;
  }
  const title = kind.topic[0]!.toUpperCase() + kind.topic.slice(1);
  return { ...schema, properties: { ...schema.properties, topic: { ...topic, title, examples: ["{source}.{schema|log}.{table|messages}"] } } };
}

/** chosenForms asks which of the shared forms are used, in the order in which they are chosen. */
function chosenForms(names: string[] = []): Widget {
  return ({ id, schema, value, onChange }) => {
    const chosen = (value as string[] | undefined) ?? [];
    const all = [...names, ...chosen.filter((name) => !names.includes(name))];
    return (
      <fieldset className="part">
        <legend>{schema.title}</legend>
        {all.map((name) => (
          <Form.Check
            key={name}
            id={`${id}-${name}`}
            label={name}
            checked={chosen.includes(name)}
            onChange={(e) => {
              const next = e.target.checked ? [...chosen, name] : chosen.filter((one) => one !== name);
              onChange(next.length ? next : undefined);
            }}
          />
        ))}
        <Form.Text>{all.length ? "Their rows stand behind the outlet's own." : "There are none yet: the page of all outlets adds them."}</Form.Text>
      </fieldset>
    );
  };
}

/** startAt asks for the place at which a new outlet starts. */
function startAt(marks?: Mark[]): Widget {
  return ({ id, value, onChange }) => {
    const place = placeOf(String(value ?? "beginning"));
    return (
      <div className="part">
        <div className="rule-line">
          <PlaceFields
            id={id}
            label="Start at"
            place={place}
            marks={marks}
            kinds={places}
            offset="Offset that goes first"
            time="First commit that goes"
            onChange={(next) => onChange(placeText(next, marks))}
          />
        </div>
        <Form.Text>A new outlet begins there; it can be set to another place later.</Form.Text>
      </div>
    );
  };
}
