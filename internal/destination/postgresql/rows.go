package postgresql

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
)

// stageOf is the binding's own temporary table.
func stageOf(b *sql.Binding) string { return "pg_temp." + quoted(b.Stage) }

func from(name string) func(string) string {
	return func(column string) string { return name + "." + column }
}

// Insert implements [sql.RowWriter].
func (d *database) Insert(ctx context.Context, b *sql.Binding, rows sql.Rows) error {
	return d.copyIn(ctx, b.SQL, b, b.All(), rows)
}

// staged runs a statement on rows' columns at places, which it finds as s.
func (d *database) staged(ctx context.Context, b *sql.Binding, places []int, rows sql.Rows, does string, build func() string) error {
	if err := d.stageRows(ctx, b, places, rows); err != nil {
		return err
	}
	_, err := d.conn.Exec(ctx, b.Text(does, build))
	return err
}

// Remove implements [sql.RowWriter].
func (d *database) Remove(ctx context.Context, b *sql.Binding, rows sql.Rows) error {
	if b.Keep != sql.Flagged {
		var seen seen
		if rows.N >= manyRows { // of few, the look would cost more than it saves
			var err error
			if seen, err = d.look(ctx, b); err != nil {
				return err
			}
		}
		return d.takeOut(ctx, b, rows, seen)
	}
	places := append(append([]int(nil), b.Key...), b.All()[len(b.From):]...)
	return d.staged(ctx, b, places, rows, "remove all", func() string {
		return "UPDATE " + b.SQL + " AS t SET " + b.Setting(places, from("s")) + " FROM " + stageOf(b) + " s WHERE " + b.Matching("t", "s")
	})
}

// Patch implements [sql.RowWriter].
func (d *database) Patch(ctx context.Context, b *sql.Binding, places []int, rows sql.Rows) error {
	return d.staged(ctx, b, places, rows, fmt.Sprint("patch all ", places), func() string {
		return "UPDATE " + b.SQL + " AS t SET " + b.Setting(places, from("s")) + " FROM " + stageOf(b) + " s WHERE " + b.Matching("t", "s")
	})
}

// EndVersions implements [sql.RowWriter].
func (d *database) EndVersions(ctx context.Context, b *sql.Binding, rows sql.Rows) error {
	return d.staged(ctx, b, append(append([]int(nil), b.Key...), b.All()[len(b.From):]...), rows, "end all", func() string {
		return fmt.Sprintf("UPDATE %s AS t SET %s = s.%s, %s = s.%s FROM %s s WHERE %s AND t.%s = 'infinity'", b.SQL, sql.Until, sql.From, sql.UntilOffset, sql.Offset, stageOf(b), b.Matching("t", "s"), sql.Until)
	})
}

// NoteKeys implements [sql.RowWriter].
func (d *database) NoteKeys(ctx context.Context, b *sql.Binding, into string, rows sql.Rows) error {
	return d.staged(ctx, b, b.Key, rows, "note "+into, func() string {
		return "INSERT INTO " + into + " (" + b.List(b.Key) + ") SELECT " + b.List(b.Key) + " FROM " + stageOf(b) + " ON CONFLICT DO NOTHING"
	})
}

// manyRows are renewed rather than updated, where nobody notices.
const manyRows = 256

// Replace implements [sql.RowWriter].
func (d *database) Replace(ctx context.Context, b *sql.Binding, rows sql.Rows) error {
	if rows.N >= manyRows && !d.fires && len(others(b)) == 0 {
		seen, err := d.look(ctx, b)
		if err != nil {
			return err
		}
		if !seen.noticed {
			return d.renew(ctx, b, rows, seen)
		}
	}
	if err := d.stageRows(ctx, b, b.All(), rows); err != nil {
		return err
	}
	if err := d.exec(ctx, "SAVEPOINT merge"); err != nil {
		return err
	}
	tag, err := d.conn.Exec(ctx, b.Text("replace all", func() string {
		return "UPDATE " + b.SQL + " AS t SET " + b.Setting(b.All(), from("s")) + " FROM " + stageOf(b) + " s WHERE " + b.Matching("t", "s")
	}))
	insert := b.Text("put in", func() string {
		return "INSERT INTO " + b.SQL + " (" + b.List(b.All()) + ") OVERRIDING SYSTEM VALUE SELECT " + b.List(b.All()) + " FROM " + stageOf(b)
	})
	switch {
	case isUnique(err):
		// Rows exchange a value that is unique: it is so again once all of them are written.
		if err := d.exec(ctx, "ROLLBACK TO SAVEPOINT merge"); err != nil {
			return err
		}
		err = d.exchange(ctx, b, insert)
	case err == nil && tag.RowsAffected() < int64(rows.N):
		_, err = d.conn.Exec(ctx, insert+" s WHERE NOT EXISTS (SELECT FROM "+b.SQL+" t WHERE "+b.Matching("t", "s")+")")
	}
	if err != nil {
		return err
	}
	return d.exec(ctx, "RELEASE SAVEPOINT merge")
}

// seen is what matters of a table for changing many of its rows.
type seen struct {
	// noticed says that somebody would notice that a row is taken out and put in again rather
	// than updated: whoever decodes this database's log, triggers and rules that act for us, too.
	noticed bool
	// large says that the server always finds rows by an index rather than reading them all.
	large bool
}

// largeTable is how many bytes a table has that is large.
const largeTable = 64 << 20

func (d *database) look(ctx context.Context, b *sql.Binding) (s seen, err error) {
	err = d.conn.QueryRow(ctx, `WITH it AS (SELECT $1::text::regclass AS oid) SELECT EXISTS (SELECT FROM pg_replication_slots WHERE database = current_database())
		OR EXISTS (SELECT FROM it, pg_trigger WHERE (tgrelid = it.oid OR tgrelid IN (SELECT relid FROM pg_partition_tree(it.oid))) AND NOT tgisinternal AND tgenabled IN ('A', 'R'))
		OR EXISTS (SELECT FROM it, pg_rewrite WHERE ev_class = it.oid AND ev_enabled IN ('A', 'R')),
		(SELECT relkind = 'r' AND pg_relation_size(oid) > $2 FROM it JOIN pg_class USING (oid))`, b.SQL, largeTable).Scan(&s.noticed, &s.large)
	return s, err
}

// renew takes rows out by their keys and copies them in as they are now: the server needs less
// time for that than to update them.
func (d *database) renew(ctx context.Context, b *sql.Binding, rows sql.Rows, seen seen) error {
	if err := d.takeOut(ctx, b, rows, seen); err != nil {
		return err
	}
	return d.copyIn(ctx, b.SQL, b, b.All(), rows)
}

// takeOut deletes rows by their keys.
func (d *database) takeOut(ctx context.Context, b *sql.Binding, rows sql.Rows, seen seen) error {
	at := b.Key[0]
	column := b.Column(b.Source.Columns[b.From[at]].Name)
	// A cast to a type with a length would cut a value that is too long for it.
	if len(b.Key) > 1 || strings.Contains(column.Kind, "(") {
		return d.staged(ctx, b, b.Key, rows, "remove all", func() string {
			return "DELETE FROM " + b.SQL + " t USING " + stageOf(b) + " s WHERE " + b.Matching("t", "s")
		})
	}
	if numbers, is := integerKeys(b, at, column.Kind, rows); is {
		return d.takeOutNumbers(ctx, b, quoted(column.Name), numbers, seen)
	}
	keys := make([]string, rows.N)
	var text []byte
	for i := range keys {
		var err error
		if text, _, err = b.Value(text[:0], at, rows.Values(i)[b.From[at]]); err != nil {
			return err
		}
		keys[i] = string(text)
	}
	_, err := d.conn.Exec(ctx, b.Text("remove by key", func() string {
		return "DELETE FROM " + b.SQL + " WHERE " + quoted(column.Name) + " = ANY ($1::text[]::" + column.Kind + "[])"
	}), keys)
	return err
}

// others are the quoted names of the columns that a table has besides those that are written.
func others(b *sql.Binding) (names []string) {
	for _, c := range b.Columns {
		if !c.Generated && b.Source.Column(c.Name) == nil && !isOwn(b.Keep, c.Name) {
			names = append(names, quoted(c.Name))
		}
	}
	return names
}

// exchange takes rows out and puts them in again as they are now. What the table has besides
// the source's columns stays with them.
func (d *database) exchange(ctx context.Context, b *sql.Binding, insert string) error {
	others := others(b)
	remove := "DELETE FROM " + b.SQL + " t USING " + stageOf(b) + " s WHERE " + b.Matching("t", "s")
	if len(others) == 0 {
		if err := d.exec(ctx, remove); err != nil {
			return err
		}
		return d.exec(ctx, insert)
	}
	kept := "pg_temp." + quoted(b.Stage[:min(len(b.Stage), 55)]+"_kept")
	list := joined(others)
	if err := d.exec(ctx, "DROP TABLE IF EXISTS "+kept+"; CREATE TEMPORARY TABLE "+kept[len("pg_temp."):]+" AS SELECT "+b.List(b.Key)+", "+list+" FROM "+b.SQL+" WITH NO DATA"); err != nil {
		return err
	}
	if err := d.exec(ctx, "WITH gone AS ("+remove+" RETURNING t.*) INSERT INTO "+kept+" SELECT "+b.List(b.Key)+", "+list+" FROM gone"); err != nil {
		return err
	}
	columns := b.List(b.All())
	if err := d.exec(ctx, "INSERT INTO "+b.SQL+" ("+columns+", "+list+") OVERRIDING SYSTEM VALUE SELECT "+qualified("s", b.Names)+", "+qualified("k", others)+" FROM "+stageOf(b)+" s JOIN "+kept+" k ON "+b.Matching("k", "s")); err != nil {
		return err
	}
	return d.exec(ctx, insert+" s WHERE NOT EXISTS (SELECT FROM "+b.SQL+" t WHERE "+b.Matching("t", "s")+"); DROP TABLE "+kept)
}

// stageRows puts rows' columns at places into the binding's own temporary table, alone.
func (d *database) stageRows(ctx context.Context, b *sql.Binding, places []int, rows sql.Rows) error {
	stage := stageOf(b)
	if !d.stages[stage] {
		if err := d.exec(ctx, "DROP TABLE IF EXISTS "+stage+"; CREATE TEMPORARY TABLE "+quoted(b.Stage)+" AS SELECT "+b.List(b.All())+" FROM "+b.SQL+" WITH NO DATA"); err != nil {
			return err
		}
		d.stages[stage] = true
	} else if err := d.exec(ctx, "TRUNCATE "+stage); err != nil {
		return err
	}
	return d.copyIn(ctx, stage, b, places, rows)
}

// largestCopy is about how much text is made before it goes to the server, which reads while
// the next is made.
const largestCopy = 64 << 10

// copyIn sends rows' columns at places with COPY: in binary form, which the server reads in
// half the time, as long as every value has one.
func (d *database) copyIn(ctx context.Context, into string, b *sql.Binding, places []int, rows sql.Rows) error {
	source := &copying{d: d, b: b, places: places, rows: rows}
	copies := "COPY " + into + " (" + b.List(places) + ") FROM STDIN"
	if rows.N > 0 && d.canPack(b, places) {
		// What the form of a value lacks shows on the way: the savepoint ends with the one around it.
		if err := d.exec(ctx, "SAVEPOINT packed"); err != nil {
			return err
		}
		source.packings = d.packings(b)
		_, err := d.conn.PgConn().CopyFrom(ctx, source, copies+" (FORMAT binary)")
		if !errors.Is(source.err, errUnpacked) {
			return err
		}
		d.keepPackings(b, nil) // others like it will come
		if err := d.exec(ctx, "ROLLBACK TO SAVEPOINT packed"); err != nil {
			return err
		}
		source = &copying{d: d, b: b, places: places, rows: rows}
	}
	_, err := d.conn.PgConn().CopyFrom(ctx, source, copies)
	if source.err != nil {
		return source.err
	}
	return err
}

// copying makes the form of rows as it is read.
type copying struct {
	d        *database
	b        *sql.Binding
	places   []int
	rows     sql.Rows
	packings []packing // of a binary form; nil for text
	at       int
	text     []byte
	rest     []byte
	scratch  []byte
	err      error
}

// Read implements [io.Reader].
func (c *copying) Read(p []byte) (int, error) {
	if len(c.rest) == 0 {
		if err := c.fill(); err != nil {
			return 0, err
		}
	}
	n := copy(p, c.rest)
	c.rest = c.rest[n:]
	return n, nil
}

// fill makes the form of the next rows.
func (c *copying) fill() error {
	if c.at == c.rows.N {
		if cap(c.text) <= 16*largestCopy { // a large row's room is given back
			c.d.buffer = c.text
		}
		return io.EOF
	}
	if c.text == nil {
		c.text, c.d.buffer = c.d.buffer, nil
	}
	text := c.text[:0]
	if c.packings != nil {
		text, c.err = c.fillPacked(text, c.packings)
		c.text, c.rest = text, text
		return c.err
	}
	for ; c.at < c.rows.N && len(text) < largestCopy; c.at++ {
		values := c.rows.Values(c.at)
		for i, at := range c.places {
			if i > 0 {
				text = append(text, '\t')
			}
			if at >= len(c.b.From) {
				var null bool
				if text, null = c.rows.Own(text, c.at, at-len(c.b.From)); null {
					text = append(text, `\N`...)
				}
				continue
			}
			v := values[c.b.From[at]]
			switch {
			case v.Presence != change.Present:
				text = append(text, `\N`...)
			case c.b.Write[at] == nil:
				text = appendCopied(text, v.Text)
			default:
				var err error
				if c.scratch, _, err = c.b.Value(c.scratch[:0], at, v); err != nil {
					c.err = err
					return err
				}
				text = appendCopied(text, c.scratch)
			}
		}
		text = append(text, '\n')
	}
	c.text, c.rest = text, text
	return nil
}
