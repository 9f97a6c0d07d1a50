package test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// fold is the written rules once more, over events as they are delivered and on
// purpose without any of the product's code.
type fold struct {
	tables map[string]map[string]map[string]json.RawMessage
	loaded map[string]bool
	moved  map[string]map[string]json.RawMessage
}

func newFold() *fold {
	return &fold{tables: make(map[string]map[string]map[string]json.RawMessage), loaded: make(map[string]bool), moved: make(map[string]map[string]json.RawMessage)}
}

// markJSONNulls tells the JSON document null from SQL's.
func (d *eventData) markJSONNulls(row map[string]json.RawMessage) {
	for _, name := range d.JSONNull["after"] {
		row[name] = json.RawMessage(`"the document null"`)
	}
}

func keyText(key map[string]json.RawMessage) string {
	raw, _ := json.Marshal(key) // sorts its members
	return string(raw)
}

func (f *fold) apply(e *event) {
	d := e.Data
	if f.tables[d.Table] == nil {
		f.tables[d.Table] = make(map[string]map[string]json.RawMessage)
	}
	rows, key := f.tables[d.Table], keyText(d.Key)
	switch d.Operation {
	case "existing", "insert":
		row := make(map[string]json.RawMessage)
		if d.Rekeyed != nil {
			for name, v := range f.moved[d.Table+keyText(d.Rekeyed)] {
				row[name] = v
			}
		}
		for name, v := range d.After {
			row[name] = v
		}
		d.markJSONNulls(row)
		rows[key] = row
	case "update":
		if rows[key] == nil {
			rows[key] = make(map[string]json.RawMessage)
		}
		for name, v := range d.After {
			rows[key][name] = v
		}
		d.markJSONNulls(rows[key])
	case "delete":
		if d.Rekeyed != nil {
			f.moved[d.Table+key] = rows[key]
		}
		delete(rows, key)
	case "truncate", "void":
		clear(rows)
		f.loaded[d.Table] = f.loaded[d.Table] && d.Operation == "truncate"
	case "loaded":
		f.loaded[d.Table] = true
	case "schema":
		f.schema(d.Table, rows, d.Schema)
	}
}

// schema moves the values of renamed columns and forgets those of columns that are
// gone.
func (f *fold) schema(table string, rows map[string]map[string]json.RawMessage, raw json.RawMessage) {
	var s struct {
		Definition *struct{ Columns []struct{ Name string } }
		Rewrites   bool
		Renamed    []struct{ From, To string }
		Filled     map[string]json.RawMessage
	}
	json.Unmarshal(raw, &s) //nolint:errcheck // an empty one shows
	if s.Definition == nil {
		clear(rows)
		f.loaded[table] = false
		return
	}
	f.loaded[table] = f.loaded[table] && !s.Rewrites
	for _, row := range rows {
		moved := make(map[string]json.RawMessage)
		for _, r := range s.Renamed {
			if v, there := row[r.From]; there {
				moved[r.To] = v
			}
		}
		for _, r := range s.Renamed {
			delete(row, r.From)
		}
		for name, v := range moved {
			row[name] = v
		}
		has := make(map[string]bool)
		for _, c := range s.Definition.Columns {
			has[c.Name] = true
			if _, there := row[c.Name]; !there && !s.Rewrites {
				row[c.Name] = json.RawMessage("null")
				if v, filled := s.Filled[c.Name]; filled {
					row[c.Name] = v
				}
			}
		}
		for name := range row {
			if !has[name] {
				delete(row, name)
			}
		}
	}
}

// equals compares a folded table with what the source has now.
func (f *fold) equals(t *testing.T, db *pgx.Conn, table string) {
	t.Helper()
	require.True(t, f.loaded["public."+table], "%s was loaded", table)
	want := selectAll(t, db, table)
	got := make(map[string]map[string]string)
	for key, row := range f.tables["public."+table] {
		got[key] = make(map[string]string)
		for name, v := range row {
			got[key][name] = normal(v)
		}
	}
	require.Equal(t, len(want), len(got), "rows of %s", table)
	for key, row := range want {
		require.Equal(t, row, got[key], "%s %s", table, key)
	}
}

// normal writes a value so that equal ones are equal texts.
func normal(raw json.RawMessage) string {
	d := json.NewDecoder(strings.NewReader(string(raw)))
	d.UseNumber()
	var v any
	if d.Decode(&v) != nil {
		return "?" + string(raw)
	}
	out, _ := json.Marshal(v)
	return string(out)
}

// selectAll reads a table with each value in the form that the design gives it,
// which the server itself works out.
func selectAll(t *testing.T, db *pgx.Conn, table string) map[string]map[string]string {
	t.Helper()
	ctx := context.Background()
	rows, _ := db.Query(ctx, `SELECT a.attname::text, format_type(a.atttypid, NULL), coalesce(a.attnum = ANY(i.indkey), false)
		FROM pg_attribute a LEFT JOIN pg_index i ON i.indrelid = a.attrelid AND i.indisprimary
		WHERE a.attrelid = $1::text::regclass AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`, table)
	type column struct {
		name, kind string
		key        bool
	}
	columns, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (c column, err error) {
		return c, r.Scan(&c.name, &c.kind, &c.key)
	})
	require.NoError(t, err)
	parts := make([]string, len(columns))
	for n, c := range columns {
		value := pgx.Identifier{c.name}.Sanitize()
		switch c.kind {
		case "timestamp with time zone":
			value = "to_char(" + value + ` AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"')`
		case "timestamp without time zone":
			value = "to_char(" + value + `, 'YYYY-MM-DD"T"HH24:MI:SS.US')`
		case "numeric":
			value += "::text"
		case "json", "jsonb":
			value = "CASE WHEN " + value + "::text = 'null' THEN to_jsonb('the document null'::text) ELSE " + value + "::jsonb END"
		case "bytea":
			value = "replace(encode(" + value + ", 'base64'), E'\\n', '')"
		}
		parts[n] = fmt.Sprintf("coalesce(to_jsonb(%s)::text, 'null')", value)
	}
	all, _ := db.Query(ctx, "SELECT ARRAY["+strings.Join(parts, ", ")+"] FROM "+table)
	values, err := pgx.CollectRows(all, pgx.RowTo[[]string])
	require.NoError(t, err)
	want := make(map[string]map[string]string, len(values))
	for _, row := range values {
		key, texts := make(map[string]json.RawMessage), make(map[string]string)
		for n, c := range columns {
			texts[c.name] = normal(json.RawMessage(row[n]))
			if c.key {
				key[c.name] = json.RawMessage(row[n])
			}
		}
		want[keyText(key)] = texts
	}
	return want
}

// proveJournal holds what every journal promises: offsets without a gap, ids
// that are unique, and transactions that are whole and in order.
func proveJournal(t *testing.T, events []*event) *fold {
	t.Helper()
	for n, e := range events {
		require.Equal(t, int64(n+1), e.offset(), "offsets have no gap")
	}
	return provePart(t, events)
}

// provePart is proveJournal for a reader who does not get what is loaded for others alone.
func provePart(t *testing.T, events []*event) *fold {
	t.Helper()
	f := newFold()
	ids, begun := make(map[string]bool), make(map[string]int64)
	versions := make(map[string]string) // the newest that a schema event has announced
	for n, e := range events {
		require.False(t, ids[e.ID], "id %s comes once", e.ID)
		ids[e.ID] = true
		if e.Data.Transaction.Index == 0 && e.Data.Transaction.ID != "" {
			require.Zero(t, begun[e.Data.Transaction.ID], "transaction %s comes once, again at %d", e.Data.Transaction.ID, e.offset())
			begun[e.Data.Transaction.ID] = e.offset()
		}
		if n > 0 {
			before, now := events[n-1].Data.Transaction, e.Data.Transaction
			if now.Index == 0 {
				require.True(t, before.Last, "the event before %s ends its transaction", e.ID)
			} else {
				require.Equal(t, before.ID, now.ID, "%s goes on in its transaction", e.ID)
				require.Equal(t, before.Index+1, now.Index, "%s is the next of its transaction", e.ID)
				require.False(t, before.Last, "%s comes after its transaction's last", e.ID)
			}
		}
		switch e.Data.Operation {
		case "schema":
			if versions[e.Data.Table] = e.DataSchema; strings.Contains(string(e.Data.Schema), `"definition":null`) {
				versions[e.Data.Table] = "none: the table is gone"
			}
		case "existing", "insert", "update", "delete":
			require.Equal(t, versions[e.Data.Table], e.DataSchema, "%s: a row follows the version that its table's schema event has announced", e.ID)
		}
		f.apply(e)
	}
	if len(events) > 0 {
		require.True(t, events[len(events)-1].Data.Transaction.Last, "the journal ends with a whole transaction")
	}
	return f
}
