// Package catalogue is what a MariaDB server's information_schema says of tables, and how
// that goes together with what the log says of them.
package catalogue

import (
	"context"
	"strconv"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/values"
	"rillmark/internal/mariadb/wire"
)

// Table is a table of a source.
type Table struct {
	Database, Table string
	// Engine is the storage engine's name, Rows the server's own estimate.
	Engine string
	Rows   int64
	// Versioned keeps the history of its rows by itself; ByTransaction says that it does
	// so by the numbers of transactions.
	Versioned, ByTransaction bool
	// Columns are all that the log has, in its order.
	Columns []*values.Column
	// Filled says of each column whether adding it gave rows a value that is not null.
	Filled []bool
	// Prefix is set where the key has only the beginning of a column.
	Prefix bool
	// Unfit is why a table cannot be captured; empty where it can.
	Unfit string
}

// Name is the table's in events.
func (t *Table) Name() string { return change.TableName(t.Database, t.Table) }

// Key is the names of the key's columns in key order; nil without one.
func (t *Table) Key() []string {
	var key []string
	for place := 1; ; place++ {
		found := false
		for _, c := range t.Columns {
			if c.Key == place {
				key, found = append(key, c.Name), true
			}
		}
		if !found {
			return key
		}
	}
}

// Transactional reports whether a snapshot of the storage engine can be relied on.
func (t *Table) Transactional() bool { return t.Engine == "InnoDB" }

// ours are the databases of the server itself.
const ours = "('mysql', 'information_schema', 'performance_schema', 'sys')"

// Charsets are the character sets by the numbers of their collations.
func Charsets(ctx context.Context, conn *wire.Conn) (values.Charsets, error) {
	rows, err := conn.All(ctx, 3, "SELECT id, character_set_name, full_collation_name FROM information_schema.collation_character_set_applicability WHERE id IS NOT NULL")
	if err != nil { // a server from before these columns
		if rows, err = conn.All(ctx, 3, "SELECT id, character_set_name, collation_name FROM information_schema.collations WHERE id IS NOT NULL"); err != nil {
			return nil, err
		}
	}
	longest := make(map[string]int)
	all, err := conn.All(ctx, 2, "SELECT character_set_name, maxlen FROM information_schema.character_sets")
	if err != nil {
		return nil, err
	}
	for _, row := range all {
		longest[row[0]], _ = strconv.Atoi(row[1])
	}
	sets := make(values.Charsets, len(rows))
	for _, row := range rows {
		if id, err := strconv.ParseUint(row[0], 10, 16); err == nil {
			sets[uint16(id)] = values.Charset{Name: row[1], Collation: row[2], Longest: longest[row[1]]}
		}
	}
	return sets, nil
}

// Reader looks tables up.
type Reader struct {
	Conn *wire.Conn
	Sets values.Charsets
	// numbers are those of collations by name.
	numbers map[string]uint16
}

// NewReader looks tables up over a session, which stays the caller's.
func NewReader(ctx context.Context, conn *wire.Conn) (*Reader, error) {
	sets, err := Charsets(ctx, conn)
	if err != nil {
		return nil, err
	}
	r := &Reader{Conn: conn, Sets: sets, numbers: make(map[string]uint16)}
	for _, from := range []string{"SELECT full_collation_name, id FROM information_schema.collation_character_set_applicability WHERE id IS NOT NULL", "SELECT collation_name, id FROM information_schema.collations WHERE id IS NOT NULL"} {
		rows, err := conn.All(ctx, 2, from)
		if err != nil {
			continue // a server from before the first view's columns
		}
		for _, row := range rows {
			if id, err := strconv.ParseUint(row[1], 10, 16); err == nil {
				r.numbers[row[0]] = uint16(id)
			}
		}
	}
	return r, nil
}

// List is all tables that the login sees, by name. One table is asked for where database
// is not empty.
func (r *Reader) List(ctx context.Context, database, table string) (map[string]*Table, error) {
	where := " NOT IN " + ours
	if database != "" {
		where = " = " + wire.Text(database)
	}
	only := ""
	if table != "" {
		only = " AND table_name = " + wire.Text(table)
	}
	rows, err := r.Conn.All(ctx, 5, "SELECT table_schema, table_name, coalesce(engine, ''), coalesce(table_rows, 0), table_type FROM information_schema.tables WHERE table_schema"+where+only+
		" AND table_type IN ('BASE TABLE', 'SYSTEM VERSIONED')")
	if err != nil {
		return nil, err
	}
	all := make(map[string]*Table, len(rows))
	for _, row := range rows {
		t := &Table{Database: row[0], Table: row[1], Engine: row[2], Versioned: row[4] == "SYSTEM VERSIONED"}
		t.Rows, _ = strconv.ParseInt(row[3], 10, 64)
		all[t.Name()] = t
	}
	if err := r.columns(ctx, all, where+only); err != nil {
		return nil, err
	}
	if err := r.keys(ctx, all, where+only); err != nil {
		return nil, err
	}
	for _, t := range all {
		t.history()
		for _, c := range t.Columns {
			if err := c.Prepare(r.Sets); err != nil && t.Unfit == "" {
				t.Unfit = err.Error()
			}
		}
	}
	return all, nil
}

// Find is one table; nil where there is none.
func (r *Reader) Find(ctx context.Context, database, table string) (*Table, error) {
	all, err := r.List(ctx, database, table)
	if err != nil {
		return nil, err
	}
	return all[change.TableName(database, table)], nil
}

func (r *Reader) columns(ctx context.Context, all map[string]*Table, where string) error {
	rows, err := r.Conn.All(ctx, 14, `SELECT table_schema, table_name, column_name, column_type, data_type, is_nullable, coalesce(collation_name, ''), coalesce(character_octet_length, 0),
		coalesce(numeric_precision, 0), coalesce(numeric_scale, 0), coalesce(datetime_precision, 0), extra, coalesce(column_default, 'NULL'), is_generated
		FROM information_schema.columns WHERE table_schema`+where+" ORDER BY table_schema, table_name, ordinal_position")
	if err != nil {
		return err
	}
	checks, err := r.Conn.All(ctx, 4, "SELECT constraint_schema, table_name, constraint_name, check_clause FROM information_schema.check_constraints WHERE level = 'Column' AND check_clause LIKE 'json\\_valid(%' AND constraint_schema"+strings.ReplaceAll(where, "table_schema", "constraint_schema"))
	if err != nil {
		return err
	}
	json := make(map[[3]string]bool)
	for _, c := range checks {
		json[[3]string(c[:3])] = c[3] == "json_valid("+wire.Name(c[2])+")"
	}
	for _, row := range rows {
		t := all[change.TableName(row[0], row[1])]
		if t == nil {
			continue // a view, or a sequence
		}
		number := func(i int) int {
			n, _ := strconv.Atoi(row[i])
			return n
		}
		d := described{name: row[2], columnType: row[3], dataType: row[4], nullable: row[5] == "YES", collation: r.numbers[row[6]],
			octets: number(7), precision: number(8), scale: number(9), decimals: number(10), extra: strings.ToUpper(row[11]), generated: row[13] == "ALWAYS", json: json[[3]string{row[0], row[1], row[2]}]}
		c, unfit := d.column()
		if unfit != "" && t.Unfit == "" {
			t.Unfit = unfit
		}
		if d.generated && strings.HasPrefix(d.columnType, "bigint") && t.Versioned && strings.Contains(d.extra, "STORED GENERATED") {
			t.ByTransaction = true
		}
		t.Columns = append(t.Columns, c)
		t.Filled = append(t.Filled, !d.nullable || row[12] != "NULL" || d.generated)
	}
	return nil
}

// keys finds the key: the primary one, or the first unique one without nulls.
func (r *Reader) keys(ctx context.Context, all map[string]*Table, where string) error {
	rows, err := r.Conn.All(ctx, 6, "SELECT table_schema, table_name, index_name, seq_in_index, column_name, coalesce(sub_part, 0) FROM information_schema.statistics WHERE non_unique = 0 AND table_schema"+where)
	if err != nil {
		return err
	}
	type index struct {
		columns []string
		prefix  bool
	}
	indexes := make(map[*Table]map[string]*index)
	order := make(map[*Table][]string)
	for _, row := range rows {
		t := all[change.TableName(row[0], row[1])]
		if t == nil {
			continue
		}
		if indexes[t] == nil {
			indexes[t] = make(map[string]*index)
		}
		one := indexes[t][row[2]]
		if one == nil {
			one = new(index)
			indexes[t][row[2]], order[t] = one, append(order[t], row[2])
		}
		one.columns, one.prefix = append(one.columns, row[4]), one.prefix || row[5] != "0"
	}
	for t, names := range order {
		best := indexes[t]["PRIMARY"]
		for _, name := range names {
			if best == nil && !indexes[t][name].prefix && t.forbidsNulls(indexes[t][name].columns) {
				best = indexes[t][name]
			}
		}
		if best == nil {
			continue
		}
		t.Prefix = best.prefix
		for place, name := range best.columns {
			if c := t.column(name); c != nil {
				c.Key = place + 1
			}
		}
	}
	return nil
}

func (t *Table) column(name string) *values.Column {
	for _, c := range t.Columns {
		if c.Name == name {
			return c
		}
	}
	return nil
}

func (t *Table) forbidsNulls(columns []string) bool {
	for _, name := range columns {
		if c := t.column(name); c == nil || c.Nullable {
			return false
		}
	}
	return true
}

// history adds what a table that keeps its own history has in the log and not in the
// catalogue: when each row began and ended, the latter as the key's last part.
func (t *Table) history() {
	if !t.Versioned {
		return
	}
	for _, name := range []string{"row_start", "row_end"} {
		if t.column(name) != nil {
			continue
		}
		c := &values.Column{Kind: values.Timestamp, Invisible: true, Log: binlog.Column{Type: binlog.ColTimestamp2, Meta: 6, Name: name}}
		c.Name, c.Type = name, "timestamp(6)"
		t.Columns, t.Filled = append(t.Columns, c), append(t.Filled, true)
	}
	if n := len(t.Key()); n > 0 {
		if c := t.column("row_end"); c != nil && c.Key == 0 {
			c.Key = n + 1
		}
	}
}
