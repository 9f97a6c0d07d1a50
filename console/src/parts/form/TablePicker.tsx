import { useState } from "react";
import { Form } from "react-bootstrap";
import { matches, words } from "./schema";

interface Props {
  id: string;
  /** tables are those that there are. */
  tables: string[];
  value: string[];
  onChange: (patterns: string[]) => void;
  /** none says what no pattern means. */
  none?: string;
}

/** TablePicker chooses tables from a list, or by patterns, and shows what they match. */
export function TablePicker({ id, tables, value, onChange, none }: Props) {
  const [typed, setTyped] = useState(value.join(" "));
  const [search, setSearch] = useState("");
  const chosen = tables.filter((t) => value.some((p) => matches(p, t)));
  const set = (patterns: string[]) => {
    setTyped(patterns.join(" "));
    onChange(patterns);
  };
  return (
    <div className="table-picker">
      <Form.Group controlId={id}>
        <Form.Label>Tables</Form.Label>
        <Form.Control
          size="sm"
          className="code"
          placeholder="public.loans public.hold*"
          value={typed}
          onChange={(e) => {
            setTyped(e.target.value);
            onChange(words(e.target.value));
          }}
        />
        <Form.Text>
          {value.length === 0
            ? (none ?? `Without a pattern, all ${tables.length} tables and those to come`)
            : `${chosen.length} of ${tables.length} tables match; * stands for any characters, ? for one`}
        </Form.Text>
      </Form.Group>
      {tables.length > 0 && (
        <div>
          {tables.length > 8 && <Form.Control size="sm" type="search" aria-label="Search tables" placeholder="Search tables" value={search} onChange={(e) => setSearch(e.target.value)} />}
          <ul className="table-list" aria-label="Tables of the source">
            {tables
              .filter((t) => t.toLowerCase().includes(search.toLowerCase()))
              .map((table) => {
                const named = value.includes(table) || (table.startsWith("public.") && value.includes(table.slice("public.".length)));
                const by = value.find((p) => matches(p, table));
                return (
                  <li key={table}>
                    <Form.Check
                      id={`${id}-${table}`}
                      label={
                        <>
                          {table}
                          {by && !named && <span className="by">by {by}</span>}
                        </>
                      }
                      checked={by !== undefined}
                      disabled={by !== undefined && !named}
                      onChange={(e) => set(e.target.checked ? [...value, table] : value.filter((p) => p !== table && `public.${p}` !== table))}
                    />
                  </li>
                );
              })}
          </ul>
        </div>
      )}
    </div>
  );
}
