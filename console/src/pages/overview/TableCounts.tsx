import { Fragment, lazy, Suspense, useState } from "react";
import { Button, Table } from "react-bootstrap";
import type { TableStatus } from "../../api/types";
import { count } from "../../parts/numbers";
import { LoadProgress } from "../../parts/LoadProgress";
import { StateMark } from "../../parts/StateMark";

// Fetched when a table is opened.
const TableFlow = lazy(() => import("./TableFlow").then((m) => ({ default: m.TableFlow })));

const shown = ["existing", "insert", "update", "delete", "truncate", "schema"] as const;

/** TableCounts is what the journal holds, by table and operation; a table opens into what became
 * of its events at each outlet. */
export function TableCounts({ source, tables }: { source: string; tables: TableStatus[] }) {
  const [open, setOpen] = useState<string>();
  if (tables.length === 0) {
    return <p className="note">The tables are listed once the source has been started.</p>;
  }
  const total = (operation: string) => tables.reduce((sum, t) => sum + (t.counts[operation] ?? 0), 0);
  return (
    <div className="table-scroll" tabIndex={0} role="region" aria-label="Events by table and operation">
      <Table size="sm" className="counts">
        <thead>
          <tr>
            <th scope="col">table</th>
            <th scope="col">state</th>
            <th scope="col" className="number">
              last load
            </th>
            {shown.map((operation) => (
              <th scope="col" key={operation} className="number">
                {operation}
              </th>
            ))}
            <th scope="col">note</th>
          </tr>
        </thead>
        <tbody>
          {tables.map((t) => (
            <Fragment key={t.name}>
              <tr data-table={t.name}>
                <th scope="row">
                  <Button variant="link" size="sm" aria-expanded={open === t.name} onClick={() => setOpen(open === t.name ? undefined : t.name)}>
                    {t.name}
                  </Button>
                </th>
                <td>
                  <StateMark state={t.state} />
                  {t.state === "loading" && <LoadProgress table={t} />}
                </td>
                <td className="number">{t.rows_done ? count(t.rows_done) : <span className="none">–</span>}</td>
                {shown.map((operation) => (
                  <td key={operation} className="number" data-operation={operation}>
                    {t.counts[operation] ? count(t.counts[operation]) : <span className="none">–</span>}
                  </td>
                ))}
                <td className="note-cell" title={t.note}>
                  {t.note}
                </td>
              </tr>
              {open === t.name && (
                <tr className="outcome-detail">
                  <td colSpan={4 + shown.length}>
                    <Suspense fallback={<p className="note">Looking …</p>}>
                      <TableFlow source={source} table={t.name} />
                    </Suspense>
                  </td>
                </tr>
              )}
            </Fragment>
          ))}
        </tbody>
        <tfoot>
          <tr>
            <th scope="row">all tables</th>
            <td />
            <td className="number">{count(tables.reduce((sum, t) => sum + t.rows_done, 0))}</td>
            {shown.map((operation) => (
              <td key={operation} className="number">
                {count(total(operation))}
              </td>
            ))}
            <td />
          </tr>
        </tfoot>
      </Table>
    </div>
  );
}
