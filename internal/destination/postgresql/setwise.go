package postgresql

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
	"rillmark/internal/encode"
)

// setwise writes what many messages come to: rows that are new are copied straight in,
// others are staged first, and merged from there with one statement each.
func (w *writer) setwise(ctx context.Context, b *binding, messages []*encode.Message) error {
	each := rowsToWrite{len(messages), func(i int) []change.Value { return messages[i].Row }, b.flagging(func(i int) *encode.Message { return messages[i] }, false)}
	if len(b.key) == 0 {
		for _, m := range messages {
			if m.Operation == change.Update || m.Operation == change.Delete {
				return keyless(m)
			}
		}
		return w.copyIn(ctx, b.sql, b, b.all(), each)
	}
	if w.cautious[b.sql] == 0 && !slices.ContainsFunc(messages, func(m *encode.Message) bool {
		return m.Operation != change.Insert || m.Rekeyed != nil || omitsSome(m.Row)
	}) {
		// Rows that are new, each of another key: there is nothing to merge.
		if there, err := w.copyNew(ctx, b, each); err != nil || !there {
			return err
		}
	}
	for len(messages) > 0 {
		w.net.Reset()
		n := w.net.Add(messages)
		if err := w.merge(ctx, b); err != nil {
			return err
		}
		if messages = messages[n:]; len(messages) > 0 {
			// A changed key of which the target alone has values.
			both := min(2, len(messages)) // the second half may be in the next batch
			if err := w.single(ctx, b, messages[:both]); err != nil {
				return err
			}
			messages = messages[both:]
		}
	}
	return nil
}

func (w *writer) merge(ctx context.Context, b *binding) error {
	gone, partial, there, fresh := w.net.Rows()
	if err := w.removeAll(ctx, b, gone); err != nil {
		return err
	}
	if err := w.patchAll(ctx, b, partial); err != nil {
		return err
	}
	if err := w.replaceAll(ctx, b, there); err != nil {
		return err
	}
	return w.insertAll(ctx, b, fresh)
}

// rowsToWrite are rows of a schema version on their way into a table.
type rowsToWrite struct {
	n      int
	values func(i int) []change.Value
	// own appends one of our own columns of a row.
	own func(text []byte, i, which int) []byte
}

func (b *binding) merged(rows []*sql.Row) rowsToWrite {
	return rowsToWrite{len(rows), func(i int) []change.Value { return rows[i].Values }, b.flagging(func(i int) *encode.Message { return rows[i].Last }, false)}
}

// flagging appends our own columns of flagged rows.
func (b *binding) flagging(message func(i int) *encode.Message, deleted bool) func(text []byte, i, which int) []byte {
	own := b.keep.Own()
	return func(text []byte, i, which int) []byte {
		switch own[which] {
		case sql.Deleted:
			return strconv.AppendBool(text, deleted)
		case sql.Offset:
			return strconv.AppendInt(text, message(i).Offset, 10)
		default:
			return message(i).Committed.UTC().AppendFormat(text, timeFormat)
		}
	}
}

func (w *writer) removeAll(ctx context.Context, b *binding, gone []*sql.Row) error {
	if len(gone) == 0 {
		return nil
	}
	places := b.key
	if b.keep == sql.Flagged {
		places = append(append([]int(nil), b.key...), b.all()[len(b.from):]...)
	}
	image := make([]change.Value, len(b.schema.Columns))
	err := w.stageRows(ctx, b, places, rowsToWrite{len(gone), func(i int) []change.Value {
		for n, at := range b.schema.Key() {
			image[at] = gone[i].Key[n]
		}
		return image
	}, b.flagging(func(i int) *encode.Message { return gone[i].Last }, true)})
	if err != nil {
		return err
	}
	_, err = w.conn.Exec(ctx, b.text("remove all", func() string {
		if b.keep == sql.Flagged {
			return "UPDATE " + b.sql + " AS t SET " + b.setting(places, "s") + " FROM " + b.stage + " s WHERE " + b.matching("t", "s")
		}
		return "DELETE FROM " + b.sql + " t USING " + b.stage + " s WHERE " + b.matching("t", "s")
	}))
	return err
}

// patchAll writes rows of which values are left as they are: those of the same columns
// together.
func (w *writer) patchAll(ctx context.Context, b *binding, partial []*sql.Row) error {
	alike := make(map[string][]*sql.Row)
	places := make(map[string][]int)
	var order []string
	for _, r := range partial {
		carried := b.carried(r.Values)
		name := fmt.Sprint(carried)
		if alike[name] == nil {
			order, places[name] = append(order, name), append(carried, b.all()[len(b.from):]...)
		}
		alike[name] = append(alike[name], r)
	}
	for _, name := range order {
		if err := w.stageRows(ctx, b, places[name], b.merged(alike[name])); err != nil {
			return err
		}
		if _, err := w.conn.Exec(ctx, b.text("patch all "+name, func() string {
			return "UPDATE " + b.sql + " AS t SET " + b.setting(places[name], "s") + " FROM " + b.stage + " s WHERE " + b.matching("t", "s")
		})); err != nil {
			return err
		}
	}
	return nil
}

// replaceAll writes rows that are there, and puts in those that are not after all.
func (w *writer) replaceAll(ctx context.Context, b *binding, there []*sql.Row) error {
	if len(there) == 0 {
		return nil
	}
	if err := w.stageRows(ctx, b, b.all(), b.merged(there)); err != nil {
		return err
	}
	if err := w.exec(ctx, "SAVEPOINT merge"); err != nil {
		return err
	}
	tag, err := w.conn.Exec(ctx, b.text("replace all", func() string {
		return "UPDATE " + b.sql + " AS t SET " + b.setting(b.all(), "s") + " FROM " + b.stage + " s WHERE " + b.matching("t", "s")
	}))
	insert := b.text("put in", func() string {
		return "INSERT INTO " + b.sql + " (" + b.list(b.all()) + ") OVERRIDING SYSTEM VALUE SELECT " + b.list(b.all()) + " FROM " + b.stage
	})
	switch {
	case isUnique(err):
		// Rows exchange a value that is unique: it is so again once all of them are written.
		if err := w.exec(ctx, "ROLLBACK TO SAVEPOINT merge"); err != nil {
			return err
		}
		if _, err := w.conn.Exec(ctx, "DELETE FROM "+b.sql+" t USING "+b.stage+" s WHERE "+b.matching("t", "s")); err != nil {
			return err
		}
		_, err = w.conn.Exec(ctx, insert)
	case err == nil && tag.RowsAffected() < int64(len(there)):
		_, err = w.conn.Exec(ctx, insert+" s WHERE NOT EXISTS (SELECT FROM "+b.sql+" t WHERE "+b.matching("t", "s")+")")
	}
	if err != nil {
		return err
	}
	return w.exec(ctx, "RELEASE SAVEPOINT merge")
}

// cautiousFor is for how many batches rows of a table are merged rather than copied in, after
// some that were said to be new were there.
const cautiousFor = 20

// insertAll writes rows that are new, or mostly so.
func (w *writer) insertAll(ctx context.Context, b *binding, fresh []*sql.Row) error {
	if len(fresh) == 0 {
		return nil
	}
	if w.cautious[b.sql] > 0 {
		w.cautious[b.sql]--
		return w.replaceAll(ctx, b, fresh)
	}
	if there, err := w.copyNew(ctx, b, b.merged(fresh)); err != nil || !there {
		return err
	}
	return w.replaceAll(ctx, b, fresh)
}

// copyNew copies rows straight in. Where any of them is there, none is written.
func (w *writer) copyNew(ctx context.Context, b *binding, rows rowsToWrite) (there bool, err error) {
	if err := w.exec(ctx, "SAVEPOINT merge"); err != nil {
		return false, err
	}
	err = w.copyIn(ctx, b.sql, b, b.all(), rows)
	if isUnique(err) {
		w.cautious[b.sql] = cautiousFor
		return true, w.exec(ctx, "ROLLBACK TO SAVEPOINT merge")
	}
	if err != nil {
		return false, err
	}
	return false, w.exec(ctx, "RELEASE SAVEPOINT merge")
}

// stageRows puts rows' columns at places into the binding's own temporary table, alone.
func (w *writer) stageRows(ctx context.Context, b *binding, places []int, rows rowsToWrite) error {
	if !w.stages[b.stage] {
		if err := w.exec(ctx, "DROP TABLE IF EXISTS "+b.stage+"; CREATE TEMPORARY TABLE "+b.stage[len("pg_temp."):]+" AS SELECT "+b.list(b.all())+" FROM "+b.sql+" WITH NO DATA"); err != nil {
			return err
		}
		w.stages[b.stage] = true
	} else if err := w.exec(ctx, "TRUNCATE "+b.stage); err != nil {
		return err
	}
	return w.copyIn(ctx, b.stage, b, places, rows)
}

// largestCopy is about how much text is made before it goes to the server, which reads while
// the next is made.
const largestCopy = 64 << 10

// copyIn sends rows' columns at places with COPY.
func (w *writer) copyIn(ctx context.Context, into string, b *binding, places []int, rows rowsToWrite) error {
	source := &copying{w: w, b: b, places: places, rows: rows}
	_, err := w.conn.PgConn().CopyFrom(ctx, source, "COPY "+into+" ("+b.list(places)+") FROM STDIN")
	if source.err != nil {
		return source.err
	}
	return err
}

// copying makes the text of rows as it is read.
type copying struct {
	w       *writer
	b       *binding
	places  []int
	rows    rowsToWrite
	at      int
	text    []byte
	rest    []byte
	scratch []byte
	err     error
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

// fill makes the text of the next rows.
func (c *copying) fill() error {
	if c.at == c.rows.n {
		if cap(c.text) <= 16*largestCopy { // a large row's room is given back
			c.w.buffer = c.text
		}
		return io.EOF
	}
	if c.text == nil {
		c.text, c.w.buffer = c.w.buffer, nil
	}
	text := c.text[:0]
	for ; c.at < c.rows.n && len(text) < largestCopy; c.at++ {
		values := c.rows.values(c.at)
		for i, at := range c.places {
			if i > 0 {
				text = append(text, '\t')
			}
			if at >= len(c.b.from) {
				text = c.rows.own(text, c.at, at-len(c.b.from))
				continue
			}
			v := values[c.b.from[at]]
			switch {
			case v.Presence != change.Present:
				text = append(text, `\N`...)
			case c.b.write[at] == nil:
				text = appendCopied(text, v.Text)
			default:
				var err error
				if c.scratch, _, err = c.b.value(c.scratch[:0], at, v); err != nil {
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
