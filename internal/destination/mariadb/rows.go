package mariadb

import (
	"context"
	"slices"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
	"rillmark/internal/mariadb/wire"
)

// largestStatement is about how long the statements are that rows go in.
const largestStatement = 64 << 10

// write runs statements that write rows. What the server only warns of has changed a value.
func (d *database) write(ctx context.Context, statements []byte) (int64, error) {
	if len(statements) >= d.packet {
		return 0, &errTooLong{len(statements), d.packet}
	}
	done, err := d.conn.Run(ctx, string(statements))
	if err == nil && done.Warnings > 0 {
		err = d.changed(ctx)
	}
	return done.Touched, err
}

// changed is what the server warns of.
func (d *database) changed(ctx context.Context) error {
	rows, err := d.conn.All(ctx, 3, "SHOW WARNINGS LIMIT 1")
	if err != nil {
		return err
	}
	if len(rows) == 0 { // it was not the last of several statements
		return &errChanged{"the server warns of it"}
	}
	return &errChanged{rows[0][2]}
}

// appendRow appends a row's columns at places, in parentheses.
func (d *database) appendRow(dst []byte, b *sql.Binding, places []int, image []change.Value, own func(dst []byte, which int) ([]byte, bool)) ([]byte, error) {
	dst = append(dst, '(')
	for n, at := range places {
		if n > 0 {
			dst = append(dst, ',')
		}
		var err error
		if dst, err = d.appendValue(dst, b, at, image, own); err != nil {
			return dst, err
		}
	}
	return append(dst, ')'), nil
}

func (d *database) appendValue(dst []byte, b *sql.Binding, at int, image []change.Value, own func(dst []byte, which int) ([]byte, bool)) ([]byte, error) {
	if at >= len(b.From) {
		start := len(dst)
		dst, null := own(append(dst, '\''), at-len(b.From))
		if null {
			return append(dst[:start], "NULL"...), nil
		}
		return append(dst, '\''), nil
	}
	dst, null, err := b.Value(dst, at, image[b.From[at]])
	if null {
		dst = append(dst, "NULL"...)
	}
	return dst, err
}

// insert puts rows' columns at places into a table; behind stands what follows the rows.
func (d *database) insert(ctx context.Context, into string, b *sql.Binding, places []int, rows sql.Rows, behind string) error {
	if behind == "" && rows.N >= enoughToLoad && d.loads {
		return d.load(ctx, into, b, places, rows)
	}
	head := "INSERT INTO " + into + " (" + b.List(places) + ") VALUES "
	text := d.buffer
	defer func() {
		if cap(text) <= 4*largestStatement { // a large row's room is given back
			d.buffer = text[:0]
		}
	}()
	limit := min(largestStatement, d.packet/2)
	for i := 0; i < rows.N; {
		text = append(text[:0], head...)
		for first := i; i < rows.N && (i == first || len(text) < limit); i++ {
			if i > first {
				text = append(text, ',')
			}
			at := len(text)
			var err error
			row := i
			if text, err = d.appendRow(text, b, places, rows.Values(i), func(dst []byte, which int) ([]byte, bool) { return rows.Own(dst, row, which) }); err != nil {
				return err
			}
			if len(text)+len(behind) >= d.packet && i > first { // it goes alone
				text = text[:at-1]
				break
			}
		}
		text = append(text, behind...)
		if _, err := d.write(ctx, text); err != nil {
			return err
		}
	}
	return nil
}

// Insert implements [sql.RowWriter].
func (d *database) Insert(ctx context.Context, b *sql.Binding, rows sql.Rows) error {
	return d.insert(ctx, b.SQL, b, b.All(), rows, "")
}

// replacing is what makes of an INSERT one that writes over rows that are there.
func replacing(b *sql.Binding) string {
	return b.Text("replacing", func() string {
		return " ON DUPLICATE KEY UPDATE " + b.Setting(b.All(), func(name string) string { return "VALUES(" + name + ")" })
	})
}

// byKeyAlone reports whether a row's key is the only thing that must be unique: a row that is
// there is that of the key.
func byKeyAlone(b *sql.Binding) bool { return len(b.Uniques) == 1 && len(b.Key) > 0 }

// Replace implements [sql.RowWriter].
func (d *database) Replace(ctx context.Context, b *sql.Binding, rows sql.Rows) error {
	if byKeyAlone(b) {
		return d.insert(ctx, b.SQL, b, b.All(), rows, replacing(b))
	}
	if err := d.stageRows(ctx, b, b.All(), rows); err != nil {
		return err
	}
	if err := d.conn.Exec(ctx, "SAVEPOINT merge"); err != nil {
		return err
	}
	n, err := d.write(ctx, []byte("UPDATE "+d.joined(b)+" SET "+d.setting(b, b.All())))
	columns := b.List(b.All())
	put := "INSERT INTO " + b.SQL + " (" + columns + ") SELECT " + columns + " FROM " + d.stage(b) + " s"
	rest := put + " WHERE NOT EXISTS (SELECT 1 FROM " + b.SQL + " t WHERE " + b.Matching("t", "s") + ")"
	switch {
	case d.IsUnique(err):
		// Rows exchange a value that is unique: it is so again once all of them are written.
		if err := d.conn.Exec(ctx, "ROLLBACK TO SAVEPOINT merge"); err != nil {
			return err
		}
		err = d.exchange(ctx, b, put, rest)
	case err == nil && n < int64(rows.N):
		_, err = d.write(ctx, []byte(rest))
	}
	return err
}

// exchange takes rows out and puts them in again as they are now. What the table has besides
// the source's columns stays with them.
func (d *database) exchange(ctx context.Context, b *sql.Binding, put, rest string) error {
	var others []string
	for _, c := range b.Columns {
		if !c.Generated && b.Source.Column(c.Name) == nil && !slices.Contains(b.Keep.Own(), c.Name) {
			others = append(others, wire.Name(c.Name))
		}
	}
	remove := "DELETE " + b.SQL + " FROM " + d.joined(b)
	if len(others) == 0 {
		if _, err := d.write(ctx, []byte(remove)); err != nil {
			return err
		}
		_, err := d.write(ctx, []byte(put))
		return err
	}
	kept := d.stage(b)
	kept = kept[:len(kept)-1] + "_kept`"
	list := strings.Join(others, ", ")
	if err := d.conn.Exec(ctx, "DROP TEMPORARY TABLE IF EXISTS "+kept); err != nil {
		return err
	}
	for _, statement := range []string{
		"CREATE TEMPORARY TABLE " + kept + " ENGINE = MyISAM SELECT " + qualified(b.SQL, b.KeyNames()) + ", " + qualified(b.SQL, others) + " FROM " + d.joined(b),
		remove,
		"INSERT INTO " + b.SQL + " (" + b.List(b.All()) + ", " + list + ") SELECT " + qualified("s", b.Names) + ", " + qualified("k", others) + " FROM " + d.stage(b) + " s JOIN " + kept + " k ON " + b.Matching("k", "s"),
		rest,
	} {
		if _, err := d.write(ctx, []byte(statement)); err != nil {
			return err
		}
	}
	return d.conn.Exec(ctx, "DROP TEMPORARY TABLE "+kept)
}

func qualified(table string, names []string) string {
	parts := make([]string, len(names))
	for i, name := range names {
		parts[i] = table + "." + name
	}
	return strings.Join(parts, ", ")
}

// stage is the binding's own temporary table.
func (d *database) stage(b *sql.Binding) string {
	schema, _ := d.options.offsetsTable()
	return schema + "." + wire.Name(b.Stage)
}

// joined pairs what is staged, as s, with the rows that are there: each is found by its key,
// whatever the server takes a new table's size for. An alias of the table would need a database
// that is chosen (DELETE).
func (d *database) joined(b *sql.Binding) string {
	return b.Text("joined", func() string {
		hint := ""
		if name := keyIndex(b); name != "" {
			hint = " FORCE INDEX FOR JOIN (" + wire.Name(name) + ")"
		}
		return d.stage(b) + " s STRAIGHT_JOIN " + b.SQL + hint + " ON " + b.Matching(b.SQL, "s")
	})
}

// keyIndex is the index by which rows are found: its columns begin with those of the key.
func keyIndex(b *sql.Binding) (best string) {
	for name, columns := range b.Indexes {
		n := len(b.Key)
		if len(columns) < n {
			continue
		}
		begins := true
		for _, at := range b.Key {
			key := b.Source.Columns[b.From[at]].Name
			begins = begins && slices.ContainsFunc(columns[:n], func(c string) bool { return strings.EqualFold(c, key) })
		}
		// The newest version is found by what comes next.
		next := b.Keep == sql.Versions && len(columns) > n && columns[n] == sql.Until
		if begins && (best == "" || next || name == "PRIMARY" && b.Keep != sql.Versions) {
			best = name
		}
	}
	return best
}

// stageRows puts rows' columns at places into the binding's own temporary table, alone.
func (d *database) stageRows(ctx context.Context, b *sql.Binding, places []int, rows sql.Rows) error {
	stage := d.stage(b)
	if !d.stages[stage] {
		if err := d.conn.Exec(ctx, "DROP TEMPORARY TABLE IF EXISTS "+stage); err != nil {
			return err
		}
		var parts []string
		for _, name := range b.Names {
			i := slices.IndexFunc(b.Columns, func(c *sql.Column) bool { return strings.EqualFold(wire.Name(c.Name), name) })
			c := *b.Columns[i]
			c.NotNull = false
			parts = append(parts, definition(&c))
		}
		if err := d.conn.Exec(ctx, "CREATE TEMPORARY TABLE "+stage+" ("+strings.Join(parts, ", ")+") ENGINE = MyISAM"); err != nil {
			return err
		}
		d.stages[stage] = true
	} else if err := d.conn.Exec(ctx, "DELETE FROM "+stage); err != nil {
		return err
	}
	return d.insert(ctx, stage, b, places, rows, "")
}

// Patch implements [sql.RowWriter].
func (d *database) Patch(ctx context.Context, b *sql.Binding, places []int, rows sql.Rows) error {
	if err := d.stageRows(ctx, b, places, rows); err != nil {
		return err
	}
	_, err := d.write(ctx, []byte("UPDATE "+d.joined(b)+" SET "+d.setting(b, places)))
	return err
}

// setting assigns to the rows that are there what is staged at places.
func (d *database) setting(b *sql.Binding, places []int) string {
	var parts []string
	for _, at := range places {
		if !slices.Contains(b.Key, at) {
			parts = append(parts, b.SQL+"."+b.Names[at]+" = s."+b.Names[at])
		}
	}
	if len(parts) == 0 { // a row that is nothing but its key
		name := b.Names[b.Key[0]]
		return b.SQL + "." + name + " = s." + name
	}
	return strings.Join(parts, ", ")
}

func keyAndOwn(b *sql.Binding) []int {
	return append(append([]int(nil), b.Key...), b.All()[len(b.From):]...)
}

// Remove implements [sql.RowWriter].
func (d *database) Remove(ctx context.Context, b *sql.Binding, rows sql.Rows) error {
	places := b.Key
	if b.Keep == sql.Flagged {
		places = keyAndOwn(b)
	}
	if err := d.stageRows(ctx, b, places, rows); err != nil {
		return err
	}
	statement := "DELETE " + b.SQL + " FROM " + d.joined(b)
	if b.Keep == sql.Flagged {
		statement = "UPDATE " + d.joined(b) + " SET " + d.setting(b, places)
	}
	_, err := d.write(ctx, []byte(statement))
	return err
}

// EndVersions implements [sql.RowWriter].
func (d *database) EndVersions(ctx context.Context, b *sql.Binding, rows sql.Rows) error {
	if err := d.stageRows(ctx, b, keyAndOwn(b), rows); err != nil {
		return err
	}
	_, err := d.write(ctx, []byte("UPDATE "+d.joined(b)+" AND "+b.SQL+"."+sql.Until+" = '"+infinity+"' SET "+b.SQL+"."+sql.Until+" = s."+sql.From+", "+b.SQL+"."+sql.UntilOffset+" = s."+sql.Offset))
	return err
}

// NoteKeys implements [sql.RowWriter].
func (d *database) NoteKeys(ctx context.Context, b *sql.Binding, into string, rows sql.Rows) error {
	name := b.KeyNames()[0]
	return d.insert(ctx, into, b, b.Key, rows, " ON DUPLICATE KEY UPDATE "+name+" = "+name)
}
