package postgresql

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
	"rillmark/internal/encode"
)

// queued are statements that go to the server together.
type queued struct {
	w        *writer
	pipeline *pgconn.Pipeline
	waiting  int      // for so many answers
	made     []string // statements that are prepared with those
	together bool
}

// maxQueued bounds how many statements go out before the answers are read: both sides would
// wait for room otherwise.
const maxQueued = 200

// single writes rows one after another: each message as it is.
func (w *writer) single(ctx context.Context, b *binding, messages []*encode.Message) (err error) {
	q := &queued{w: w, pipeline: w.conn.PgConn().StartPipeline(ctx)}
	defer func() {
		if closing := q.pipeline.Close(); err == nil {
			err = closing
		}
	}()
	if err := q.rows(b, messages); err != nil {
		return err
	}
	return q.settle()
}

// rows queues messages of rows.
func (q *queued) rows(b *binding, messages []*encode.Message) (err error) {
	for i, m := range messages {
		switch {
		case b.keep == sql.Versions:
			err = q.version(b, m)
		case m.Operation == change.Delete && len(b.key) == 0:
			err = keyless(m)
		case m.Operation == change.Delete:
			if m.Rekeyed != nil && (i+1 == len(messages) || omitsSome(messages[i+1].Row)) {
				err = q.move(b, m)
			}
			if err == nil {
				err = q.remove(b, m)
			}
		case m.Operation == change.Update && len(b.key) == 0:
			err = keyless(m)
		case omitsSome(m.Row):
			err = q.patch(b, m)
		default:
			err = q.put(b, m)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func omitsSome(image []change.Value) bool {
	return slices.ContainsFunc(image, func(v change.Value) bool { return v.Presence == change.Omitted })
}

// run queues a statement, which is prepared the first time.
func (q *queued) run(text string, params [][]byte) error {
	name := q.w.prepared[text]
	if name == "" {
		if len(q.w.prepared) >= maxPrepared {
			clear(q.w.prepared)
			q.pipeline.SendQueryParams("DEALLOCATE ALL", nil, nil, nil, nil)
			q.waiting++
		}
		q.w.statements++
		name = fmt.Sprintf("rillmark_%d", q.w.statements)
		q.pipeline.SendPrepare(name, text, nil)
		q.waiting++
		q.w.prepared[text] = name
		q.made = append(q.made, text)
	}
	q.pipeline.SendQueryPrepared(name, params, nil, nil)
	if q.waiting++; q.waiting >= maxQueued && !q.together {
		return q.settle()
	}
	return nil
}

// fewest rows go to the server with the offset, in one go.
const fewest = 32

// atOnce writes a few rows of whole transactions, and the offset, in one transaction that goes
// to the server in one go. It reports whether it has; where the server refuses anything,
// nothing has been written.
func (w *writer) atOnce(ctx context.Context, batch *encode.Batch) (written bool, err error) {
	n := len(batch.Messages)
	if w.open || w.fires || n == 0 || n > fewest || batch.Messages[n-1].Offset > batch.Whole || batch.Bytes() > largestCopy {
		return false, nil
	}
	type part struct {
		b *binding
		m *encode.Message
	}
	parts := make([]part, 0, fewest)
	for i := range batch.Messages {
		m := &batch.Messages[i]
		t := w.tables[m.Table]
		if !m.Operation.IsRow() || t == nil || t.bound == nil || t.loading != "" || t.bound.schema.Fingerprint() != m.Schema.Fingerprint() || m.Rekeyed != nil {
			return false, nil
		}
		parts = append(parts, part{t.bound, m})
	}
	w.committed = batch.Messages[n-1].Committed
	offset := max(batch.Whole, w.durable)
	q := &queued{w: w, pipeline: w.conn.PgConn().StartPipeline(ctx), together: true}
	defer func() {
		// Closing sends what is queued: without its end, none of it stays.
		if closing := q.pipeline.Close(); err == nil {
			err = closing
		}
		if written = err == nil; written {
			w.done(offset)
			return
		}
		var refused *pgconn.PgError
		if rolling := w.exec(ctx, "ROLLBACK"); errors.As(err, &refused) {
			err = rolling // it is found out one after another what is refused
		}
	}()
	q.pipeline.SendQueryParams("BEGIN", nil, nil, nil, nil)
	q.waiting++
	for _, p := range parts {
		if err := q.rows(p.b, []*encode.Message{p.m}); err != nil {
			return false, err
		}
	}
	_, name := w.options.offsetsTable()
	err = q.run(`WITH mine AS (UPDATE `+name+` SET "offset" = $2::bigint, committed_at = $3::timestamptz WHERE token = $1::uuid AND epoch = $4::bigint RETURNING 1)
		SELECT 1 / (SELECT count(*) FROM mine) -- fails, and all with it, where another session has begun`,
		[][]byte{[]byte(w.outlet.Token), fmt.Append(nil, offset), stamp(w.committed), fmt.Append(nil, w.epoch)})
	if err != nil {
		return false, err
	}
	q.pipeline.SendQueryParams("COMMIT", nil, nil, nil, nil)
	q.waiting++
	return false, q.settle() // whether it is written is known once the pipeline is closed
}

// maxPrepared bounds the statements that a session keeps.
const maxPrepared = 1000

// settle waits for all answers.
func (q *queued) settle() error {
	if q.waiting == 0 {
		return nil
	}
	q.waiting = 0
	err := q.pipeline.Sync()
	for err == nil {
		var results any
		if results, err = q.pipeline.GetResults(); err != nil {
			break
		}
		switch r := results.(type) {
		case *pgconn.ResultReader:
			_, err = r.Close()
		case *pgconn.PipelineSync:
			q.made = q.made[:0]
			return nil
		}
	}
	for _, text := range q.made {
		delete(q.w.prepared, text) // what was prepared behind the failure is not there
	}
	return err
}

// row is a row's columns at places as parameters.
func (b *binding) row(image []change.Value, places []int) (params [][]byte, err error) {
	params = make([][]byte, 0, len(places)+3)
	for _, at := range places {
		text, null, err := b.value([]byte{}, at, image[b.from[at]])
		if err != nil {
			return nil, err
		}
		if null {
			text = nil
		}
		params = append(params, text)
	}
	return params, nil
}

func (b *binding) carried(image []change.Value) (places []int) {
	for at, i := range b.from {
		if image[i].Presence != change.Omitted {
			places = append(places, at)
		}
	}
	return places
}

func placeholders(from, n int) string {
	parts := make([]string, n)
	for i := range parts {
		parts[i] = fmt.Sprintf("$%d", from+i)
	}
	return strings.Join(parts, ", ")
}

// put writes a row of which everything is known.
func (q *queued) put(b *binding, m *encode.Message) error {
	params, err := b.row(m.Row, b.all()[:len(b.from)])
	if err != nil {
		return err
	}
	params = b.flags(params, m, false)
	return q.run(b.text("put", func() string {
		text := "INSERT INTO " + b.sql + " (" + b.list(b.all()) + ") OVERRIDING SYSTEM VALUE VALUES (" + placeholders(1, len(b.names)) + ")"
		if len(b.key) > 0 {
			text += " ON CONFLICT (" + strings.Join(b.keyNames(), ", ") + ") DO UPDATE SET " + b.setting(b.all(), "excluded")
		}
		return text
	}), params)
}

// patch writes what is known of a row that is there.
func (q *queued) patch(b *binding, m *encode.Message) error {
	if len(b.key) == 0 {
		return keyless(m)
	}
	places := b.carried(m.Row)
	params, err := b.row(m.Row, places)
	if err != nil {
		return err
	}
	params = b.flags(params, m, false)
	for i := len(b.from); i < len(b.names); i++ {
		places = append(places, i)
	}
	return q.run(b.text(fmt.Sprint("patch", places), func() string {
		var sets, wheres []string
		for i, at := range places {
			one := fmt.Sprintf("%s = $%d", b.names[at], i+1)
			if slices.Contains(b.key, at) {
				wheres = append(wheres, one)
			}
			sets = append(sets, one)
		}
		return "UPDATE " + b.sql + " SET " + strings.Join(sets, ", ") + " WHERE " + strings.Join(wheres, " AND ")
	}), params)
}

// remove takes a row out, or flags it.
func (q *queued) remove(b *binding, m *encode.Message) error {
	params, err := b.row(m.Before, b.key)
	if err != nil {
		return err
	}
	params = b.flags(params, m, true)
	return q.run(b.text("remove", func() string {
		where := " WHERE " + b.keyed()
		if b.keep == sql.Flagged {
			n := len(b.key)
			return fmt.Sprintf("UPDATE %s SET %s = $%d, %s = $%d, %s = $%d", b.sql, sql.Deleted, n+1, sql.Offset, n+2, sql.ChangedAt, n+3) + where
		}
		return "DELETE FROM " + b.sql + where
	}), params)
}

// move puts a copy of a row under its new key: the second half of the change may leave values
// out that only the row under the old key has, and may come with the next batch. It then
// writes what is known of it.
func (q *queued) move(b *binding, old *encode.Message) error {
	keys, err := b.row(withKey(b, old.Before, old.Rekeyed), b.key)
	if err != nil {
		return err
	}
	before, err := b.row(old.Before, b.key)
	if err != nil {
		return err
	}
	if err := q.run(b.text("clear", func() string {
		return "DELETE FROM " + b.sql + " WHERE " + b.keyed()
	}), keys); err != nil {
		return err
	}
	return q.run(b.text("move", func() string {
		values := slices.Clone(b.names)
		wheres := make([]string, len(b.key))
		for i, at := range b.key {
			values[at] = fmt.Sprintf("$%d", i+1)
			wheres[i] = fmt.Sprintf("%s = $%d", b.names[at], len(b.key)+i+1)
		}
		return "INSERT INTO " + b.sql + " (" + b.list(b.all()) + ") OVERRIDING SYSTEM VALUE SELECT " + strings.Join(values, ", ") + " FROM " + b.sql + " WHERE " + strings.Join(wheres, " AND ")
	}), append(keys, before...))
}
