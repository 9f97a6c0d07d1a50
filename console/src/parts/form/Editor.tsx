import { useState, type ReactNode } from "react";
import { ButtonGroup, Form, ToggleButton } from "react-bootstrap";
import { fieldsOf, type Schema, type Section } from "./schema";

interface Props<D> {
  /** id is the JSON text's. */
  id: string;
  value: D;
  onChange: (value: D) => void;
  /** schema names the fields that can be added to the text. */
  schema?: Schema;
  /** onWrong says whether the text is no JSON at the moment. */
  onWrong: (wrong: string) => void;
  children: ReactNode;
}

/** Editor shows a definition as a form, or as its JSON. */
export function Editor<D extends object>({ id, value, onChange, schema, onWrong, children }: Props<D>) {
  const [view, setView] = useState<"form" | "json">("form");
  const [text, setText] = useState("");
  const write = (next: string) => {
    setText(next);
    try {
      onChange(JSON.parse(next));
      onWrong("");
    } catch (error) {
      onWrong(`This is no JSON yet: ${(error as Error).message}`);
    }
  };
  const show = (next: "form" | "json") => {
    setText(JSON.stringify(value, null, 2));
    onWrong("");
    setView(next);
  };
  const absent = schema ? fieldsOf(schema).filter(([name]) => (value as Section)[name] === undefined) : [];
  return (
    <>
      <ButtonGroup size="sm" className="views" aria-label="View of the definition">
        {(["form", "json"] as const).map((one) => (
          <ToggleButton key={one} id={`${id}-view-${one}`} type="radio" variant="outline-secondary" value={one} checked={view === one} onChange={() => show(one)}>
            {one === "form" ? "Form" : "JSON"}
          </ToggleButton>
        ))}
      </ButtonGroup>
      {view === "form" ? (
        children
      ) : (
        <>
          <Form.Group controlId={id}>
            <Form.Label className="visually-hidden">Definition</Form.Label>
            <Form.Control as="textarea" className="code" spellCheck={false} rows={Math.min(Math.max(text.split("\n").length + 1, 8), 30)} value={text} onChange={(e) => write(e.target.value)} />
          </Form.Group>
          {absent.length > 0 && (
            <Form.Group controlId={`${id}-add`} className="add-field">
              <Form.Label>Add a field</Form.Label>
              <Form.Select
                size="sm"
                value=""
                onChange={(e) => {
                  const [name, field] = absent.find(([one]) => one === e.target.value)!;
                  write(JSON.stringify({ ...value, [name]: begin(field) }, null, 2));
                }}
              >
                <option value="">choose …</option>
                {absent.map(([name, field]) => (
                  <option key={name} value={name}>
                    {name}: {field.title}
                  </option>
                ))}
              </Form.Select>
            </Form.Group>
          )}
        </>
      )}
    </>
  );
}

/** begin is a value to begin with. */
function begin(field: Schema): unknown {
  switch (field.type) {
    case "object":
      return {};
    case "array":
      return [];
    case "boolean":
      return true;
    default:
      return field.default ?? field.enum?.[0] ?? field.examples?.[0] ?? (field.type === "integer" ? 0 : "");
  }
}
