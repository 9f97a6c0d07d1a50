package postgresql

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/session"
)

func quoted(name string) string  { return session.Quoted(name) }
func literal(text string) string { return session.Literal(text) }

// table is a table of the database.
type table struct {
	source       string // its name in events
	schema, name string
	sql          string // both, quoted
	keep         sql.Keep
	columns      []*column
	uniques      [][]string // columns of unique indexes that hold for all rows
	loading      string     // quoted name of the keys that a load has brought; empty for none
	bound        *binding   // for the newest schema version
}

type column struct {
	name, kind string
	notNull    bool
	generated  bool
}

func (t *table) column(name string) *column {
	for _, c := range t.columns {
		if c.name == name {
			return c
		}
	}
	return nil
}

// place is the table's name here, for a table of the source.
func (o *OutletSettings) place(source string) (schema, name string, err error) {
	from, bare, ok := change.SplitTable(source)
	if !ok {
		return "", "", fmt.Errorf("%q is no name of a table", source)
	}
	put := names(from, bare)
	schema, name = put.Replace(o.Schema), put.Replace(o.Table)
	for _, one := range []string{schema, name} {
		if one == "" || len(one) > 63 || strings.ContainsRune(one, 0) {
			return "", "", &engine.Fault{Code: "name-unfit", Final: true, Message: fmt.Sprintf("%s cannot be named %q here: a name has 1 to 63 bytes", source, one),
				Fix: "give the outlet other templates in postgresql.schema and postgresql.table, or leave the table out"}
		}
	}
	return schema, name, nil
}

// look reads a table's definition, which has no columns where it is not there.
func (w *writer) look(ctx context.Context, source string) (*table, error) {
	schema, name, err := w.options.place(source)
	if err != nil {
		return nil, err
	}
	t := &table{source: source, schema: schema, name: name, sql: quoted(schema) + "." + quoted(name), keep: w.kept(source)}
	var oid uint32
	var kind string
	err = w.conn.QueryRow(ctx, "SELECT c.oid, c.relkind::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2", schema, name).Scan(&oid, &kind)
	if errors.Is(err, pgx.ErrNoRows) {
		return t, nil
	}
	if err != nil {
		return nil, err
	}
	if kind != "r" && kind != "p" {
		return nil, &engine.Fault{Code: "no-table", Final: true, Message: t.sql + " is no table", Fix: "rename it, or give the outlet another name for " + source}
	}
	rows, _ := w.conn.Query(ctx, `SELECT attname, format_type(atttypid, atttypmod), attnotnull, attgenerated <> '' FROM pg_attribute
		WHERE attrelid = $1 AND attnum > 0 AND NOT attisdropped ORDER BY attnum`, oid)
	var c column
	if _, err := pgx.ForEachRow(rows, []any{&c.name, &c.kind, &c.notNull, &c.generated}, func() error {
		one := c
		t.columns = append(t.columns, &one)
		return nil
	}); err != nil {
		return nil, err
	}
	rows, _ = w.conn.Query(ctx, `SELECT (SELECT array_agg(a.attname::text) FROM unnest((i.indkey::int2[])[0:i.indnkeyatts - 1]) k JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k)
		FROM pg_index i WHERE i.indrelid = $1 AND i.indisunique AND i.indimmediate AND i.indisvalid AND i.indpred IS NULL AND i.indexprs IS NULL`, oid)
	var unique []string
	_, err = pgx.ForEachRow(rows, []any{&unique}, func() error {
		t.uniques = append(t.uniques, slices.Clone(unique))
		return nil
	})
	return t, err
}

// tableFor is the table for rows of a table of the source, made where there is none.
func (w *writer) tableFor(ctx context.Context, source string, schema *change.Schema) (*table, error) {
	if t := w.tables[source]; t != nil {
		return t, nil
	}
	t, err := w.look(ctx, source)
	if err != nil {
		return nil, err
	}
	for _, other := range w.tables {
		if other.sql == t.sql {
			return nil, &engine.Fault{Code: "same-table", Final: true, Message: fmt.Sprintf("%s and %s would both be written into %s", other.source, source, t.sql),
				Fix: "give the outlet templates in postgresql.schema and postgresql.table that keep them apart, or leave one of them out"}
		}
	}
	if err := w.claim(ctx, t); err != nil {
		return nil, err
	}
	state := w.state.Tables[source]
	if err := w.asBefore(t, state); err != nil {
		return nil, err
	}
	switch {
	case len(t.columns) == 0:
		if err := w.create(ctx, t, schema); err != nil {
			return nil, err
		}
		if state == nil {
			state = t.fresh()
		}
	case state == nil:
		if state, err = w.meet(ctx, t, schema); err != nil {
			return nil, err
		}
	}
	t.loading = state.Loading
	if w.state.Tables[source] == nil || state.Rewound {
		now := *state
		now.Rewound = false
		w.state.Tables[source], w.stateChanged = &now, true
	}
	w.tables[source] = t
	return t, nil
}

// fresh is the state of a table that nothing is under way in.
func (t *table) fresh() *tableState { return &tableState{Target: t.sql, Keep: t.keep} }

// asBefore refuses a table that is not the one that the outlet has written so far: rows
// would be missing there.
func (w *writer) asBefore(t *table, state *tableState) error {
	again := "add another outlet, or `rillmark outlet rewind " + w.outlet.Name + " --to beginning`"
	switch {
	case state == nil:
		return nil
	case state.Target != t.sql:
		return &engine.Fault{Code: "other-table", Final: true, Message: fmt.Sprintf("the rows of %s are in %s, and the outlet now names %s", t.source, state.Target, t.sql),
			Fix: "give the outlet its former names again, or rename the table and say so in " + w.options.Offsets + "; for a table that begins anew, add another outlet"}
	case state.Keep != t.keep:
		return &engine.Fault{Code: "other-table", Final: true, Message: fmt.Sprintf("the rows of %s are kept as %s, and the outlet now says %s", t.source, state.Keep, t.keep),
			Fix: "set it back, or add another outlet with names of its own"}
	case len(t.columns) == 0 && !state.Rewound:
		return &engine.Fault{Code: "table-gone", Final: true, Message: fmt.Sprintf("%s is gone, and with it the rows that the outlet has written", t.sql), Fix: "bring it back from a backup, or " + again}
	}
	return nil
}

// meet decides what becomes of the rows of a table that the outlet comes to for the first
// time.
func (w *writer) meet(ctx context.Context, t *table, schema *change.Schema) (*tableState, error) {
	state := t.fresh()
	filled, err := w.filled(ctx, t)
	switch {
	case err != nil || !filled:
		return state, err
	case w.options.Present == "keep":
		state.Kept = true
		return state, nil
	case w.options.Present == "refuse":
		return nil, &engine.Fault{Code: "table-has-rows", Final: true, Message: fmt.Sprintf("%s has rows that the outlet did not write", t.sql),
			Fix: "empty it, or set postgresql.present in the outlet: replace removes, once the load is complete, what the source does not have; keep leaves them"}
	}
	if err := w.alter(ctx, t, schema); err != nil {
		return nil, err
	}
	return state, w.beginReload(ctx, t, schema, state)
}

// definable says why a table is not made or altered where that is so.
func (w *writer) definable(t *table, statements ...string) error {
	if w.options.Definitions == "follow" {
		return nil
	}
	return &engine.Fault{Code: "definition-needed", Final: true, Message: fmt.Sprintf("%s is not as the rows of %s need it, and the outlet's definitions are fixed", t.sql, t.source),
		Fix: "run this on the database, then `rillmark outlet resume " + w.outlet.Name + "`: " + strings.Join(statements, "; ")}
}

// define runs statements that make or alter a table, within the open transaction.
func (w *writer) define(ctx context.Context, t *table, statements ...string) error {
	if len(statements) == 0 {
		return nil
	}
	if err := w.definable(t, statements...); err != nil {
		return err
	}
	for _, statement := range statements {
		if _, err := w.conn.Exec(ctx, statement); err != nil {
			var refused *pgconn.PgError
			if errors.As(err, &refused) && !strings.HasPrefix(refused.Code, "42501") && strings.HasPrefix(refused.Code, "42") || refusesRow(err) {
				return &engine.Fault{Code: "definition-refused", Final: true, Cause: err, Message: "the database refuses: " + statement,
					Fix: "alter the table by hand so that it holds the source's rows, then `rillmark outlet resume " + w.outlet.Name + "`"}
			}
			return err
		}
	}
	return nil
}

// own are the definitions of the columns that a way to keep rows adds.
func own(k sql.Keep) []*column {
	switch k {
	case sql.Flagged:
		return []*column{{sql.Deleted, "boolean", true, false}, {sql.Offset, "bigint", false, false}, {sql.ChangedAt, "timestamp with time zone", false, false}}
	case sql.Versions:
		return []*column{{sql.Operation, "text", true, false}, {sql.Offset, "bigint", true, false}, {sql.From, "timestamp with time zone", true, false},
			{sql.Until, "timestamp with time zone", true, false}, {sql.UntilOffset, "bigint", false, false}}
	case sql.Current:
	}
	return nil
}

// create makes a table as the rows of a schema version need it.
func (w *writer) create(ctx context.Context, t *table, schema *change.Schema) error {
	var statements, parts []string
	var there bool
	if err := w.conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_namespace WHERE nspname = $1)", t.schema).Scan(&there); err != nil {
		return err
	}
	if !there {
		statements = append(statements, "CREATE SCHEMA "+quoted(t.schema))
	}
	for i := range schema.Columns {
		c := &schema.Columns[i]
		kind, before, err := w.typeOf(ctx, schema.Engine, c)
		if err != nil {
			return err
		}
		statements = appendNew(statements, before)
		made := &column{name: c.Name, kind: kind, notNull: c.Key > 0 || !c.Nullable && t.keep == sql.Current}
		t.columns = append(t.columns, made)
	}
	for _, c := range own(t.keep) {
		if t.column(c.name) != nil {
			return w.ownColumn(t, c.name)
		}
		t.columns = append(t.columns, c)
	}
	for _, c := range t.columns {
		parts = append(parts, definition(c))
	}
	var key []string
	for _, i := range schema.Key() {
		key = append(key, quoted(schema.Columns[i].Name))
	}
	if len(key) > 0 && t.keep != sql.Versions {
		parts = append(parts, "PRIMARY KEY ("+strings.Join(key, ", ")+")")
	}
	statements = append(statements, "CREATE TABLE "+t.sql+" ("+strings.Join(parts, ", ")+")")
	if len(key) > 0 && t.keep == sql.Versions {
		statements = append(statements, "CREATE INDEX ON "+t.sql+" ("+strings.Join(append(key, quoted(sql.Offset)), ", ")+")")
	}
	if err := w.define(ctx, t, statements...); err != nil {
		return err
	}
	again, err := w.look(ctx, t.source)
	if err == nil {
		t.columns, t.uniques = again.columns, again.uniques
		w.log("info", "table-made", "made "+t.sql+" for "+t.source)
	}
	return err
}

// appendNew appends statements that are not among them yet: two columns may need one type.
func appendNew(statements, more []string) []string {
	for _, one := range more {
		if !slices.Contains(statements, one) {
			statements = append(statements, one)
		}
	}
	return statements
}

func (w *writer) ownColumn(t *table, name string) error {
	return &engine.Fault{Code: "column-taken", Final: true, Message: fmt.Sprintf("%s has a column %s of its own, which rows kept as %s need for something else", t.source, name, t.keep),
		Fix: "keep its rows as current, or leave the column out by a rule of the source"}
}

func definition(c *column) string {
	text := quoted(c.name) + " " + c.kind
	if c.notNull {
		text += " NOT NULL"
	}
	if c.name == sql.Deleted {
		text += " DEFAULT false"
	}
	return text
}

// typeName is a type's name as the server itself writes it: of its own types, or with a
// schema, with modifiers, and arrays of them.
var typeName = regexp.MustCompile(`^(?:("(?:[^"]|"")+"|[a-z_][a-z0-9_$]*)\.)?("(?:[^"]|"")+"|[a-z_][a-z0-9_$]*(?: [a-z]+)*)(\(-?[0-9, -]+\))?( with(?:out)? time zone)?((?:\[\])*)$`)

// typeOf is the type of a column here, and what has to be done before it is there.
func (w *writer) typeOf(ctx context.Context, e change.Engine, c *change.Column) (kind string, before []string, err error) {
	kind = wanted(e, c)
	parts := typeName.FindStringSubmatch(kind)
	if parts == nil {
		return generalType(c), nil, nil
	}
	var there, isEnum bool
	err = w.conn.QueryRow(ctx, "SELECT to_regtype($1) IS NOT NULL, coalesce((SELECT typtype = 'e' FROM pg_type WHERE oid = to_regtype($2)), false)", kind, strings.TrimSuffix(kind, parts[5])).Scan(&there, &isEnum)
	if err != nil {
		return "", nil, err
	}
	switch {
	case there && isEnum && len(c.Labels) > 0:
		return kind, nil, w.addLabels(ctx, strings.TrimSuffix(kind, parts[5]), c.Labels)
	case there:
		return kind, nil, nil
	case len(c.Labels) > 0 && parts[1] != "" && (c.Rule == change.RuleEnum || c.Element == change.RuleEnum):
		return kind, []string{"CREATE SCHEMA IF NOT EXISTS " + parts[1], enumStatement(parts[1]+"."+parts[2], c.Labels)}, nil
	}
	return generalType(c), nil, nil
}

// addLabels gives an enum the labels that it lacks. A label can be used only once the
// transaction that adds it is over: that is done on a session of its own, and once more
// does no harm.
func (w *writer) addLabels(ctx context.Context, kind string, labels []string) error {
	rows, _ := w.conn.Query(ctx, "SELECT enumlabel::text FROM pg_enum WHERE enumtypid = to_regtype($1) ORDER BY enumsortorder", kind)
	known, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil || !slices.ContainsFunc(labels, func(label string) bool { return !slices.Contains(known, label) }) {
		return err
	}
	aside, err := w.connect(ctx, w.application()+" definitions")
	if err != nil {
		return err
	}
	defer aside.Close(context.WithoutCancel(ctx)) //nolint:errcheck // what it did is committed
	for i, label := range labels {
		if slices.Contains(known, label) {
			continue
		}
		statement := "ALTER TYPE " + kind + " ADD VALUE IF NOT EXISTS " + literal(label)
		if i > 0 {
			statement += " AFTER " + literal(labels[i-1])
		}
		if err := w.definable(&table{sql: "type " + kind, source: "the source"}, statement); err != nil {
			return err
		}
		if _, err := aside.Exec(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}
