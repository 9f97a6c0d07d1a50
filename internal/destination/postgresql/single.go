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
	d        *database
	pipeline *pgconn.Pipeline
	waiting  int      // for so many answers
	made     []string // statements that are prepared with those
	together bool
}

// maxQueued bounds how many statements go out before the answers are read: both sides would
// wait for room otherwise.
const maxQueued = 200

// Single implements [sql.RowWriter].
func (d *database) Single(ctx context.Context, b *sql.Binding, messages []*encode.Message) (err error) {
	q := &queued{d: d, pipeline: d.conn.PgConn().StartPipeline(ctx)}
	defer func() {
		if closing := q.pipeline.Close(); err == nil {
			err = closing
		}
	}()
	if err := q.rows(b, messages); err != nil {
		return q.abandoned(err)
	}
	return q.settle()
}

// abandoned is an error over which no more is queued. What was queued before gets its answers:
// a pipeline that ends without them takes the connection along, and with it the transaction.
func (q *queued) abandoned(err error) error {
	if refused := q.settle(); refused != nil {
		return refused // without which nothing can follow in this transaction
	}
	return err
}

// rows queues messages of rows.
func (q *queued) rows(b *sql.Binding, messages []*encode.Message) (err error) {
	for i, m := range messages {
		switch {
		case b.Keep == sql.Versions:
			err = q.version(b, m)
		case m.Operation == change.Delete && len(b.Key) == 0:
			err = sql.Keyless(m)
		case m.Operation == change.Delete:
			if m.Rekeyed != nil && (i+1 == len(messages) || change.Omits(messages[i+1].Row)) {
				err = q.move(b, m)
			}
			if err == nil {
				err = q.remove(b, m)
			}
		case m.Operation == change.Update && len(b.Key) == 0:
			err = sql.Keyless(m)
		case change.Omits(m.Row):
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

// run queues a statement, which is prepared the first time.
func (q *queued) run(text string, params [][]byte) error {
	name := q.d.prepared[text]
	if name == "" {
		if q.d.stale || len(q.d.prepared) >= maxPrepared {
			q.d.stale = false
			clear(q.d.prepared)
			q.pipeline.SendQueryParams("DEALLOCATE ALL", nil, nil, nil, nil)
			q.waiting++
		}
		q.d.statements++
		name = fmt.Sprintf("rillmark_%d", q.d.statements)
		q.pipeline.SendPrepare(name, text, nil)
		q.waiting++
		q.d.prepared[text] = name
		q.made = append(q.made, text)
	}
	q.pipeline.SendQueryPrepared(name, params, nil, nil)
	if q.waiting++; q.waiting >= maxQueued && !q.together {
		return q.settle()
	}
	return nil
}

// AtOnce implements [sql.RowWriter].
func (d *database) AtOnce(ctx context.Context, bindings []*sql.Binding, messages []*encode.Message, r *sql.Record) (written bool, err error) {
	if d.fires {
		return false, nil // constraints are looked at when the transaction ends
	}
	q := &queued{d: d, pipeline: d.conn.PgConn().StartPipeline(ctx), together: true}
	defer func() {
		// Closing sends what is queued: without its end, none of it stays.
		if closing := q.pipeline.Close(); err == nil {
			err = closing
		}
		if written = err == nil; written {
			return
		}
		var refused *pgconn.PgError
		if rolling := d.exec(ctx, "ROLLBACK"); errors.As(err, &refused) {
			err = rolling // it is found out one after another what is refused
		}
	}()
	q.pipeline.SendQueryParams("BEGIN", nil, nil, nil, nil)
	q.waiting++
	for i := range messages {
		if err := q.rows(bindings[i], messages[i:i+1]); err != nil {
			return false, q.abandoned(err)
		}
	}
	_, name := d.options.offsetsTable()
	err = q.run(`WITH mine AS (UPDATE `+name+` SET "offset" = $2::bigint, committed_at = $3::timestamptz WHERE token = $1::uuid AND epoch = $4::bigint RETURNING 1)
		SELECT 1 / (SELECT count(*) FROM mine) -- fails, and all with it, where another session has begun`,
		[][]byte{[]byte(d.outlet.Token), fmt.Append(nil, r.Offset), d.AppendTime(nil, r.Committed), fmt.Append(nil, d.epoch)})
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
		delete(q.d.prepared, text) // what was prepared behind the failure is not there
	}
	return err
}

// row is a row's columns at places as parameters.
func row(b *sql.Binding, image []change.Value, places []int) (params [][]byte, err error) {
	params = make([][]byte, 0, len(places)+3)
	for _, at := range places {
		text, null, err := b.Value([]byte{}, at, image[b.From[at]])
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

// flags appends the texts of our own columns, for rows that are kept flagged.
func flags(dst [][]byte, b *sql.Binding, m *encode.Message, deleted bool) [][]byte {
	if b.Keep != sql.Flagged {
		return dst
	}
	for which := range b.Keep.Own() {
		text, _ := b.AppendFlag(nil, m, deleted, which)
		dst = append(dst, text)
	}
	return dst
}

// quotedList joins names, quoted.
func quotedList(names []string) string {
	all := make([]string, len(names))
	for i, name := range names {
		all[i] = quoted(name)
	}
	return joined(all)
}

func joined(names []string) string { return strings.Join(names, ", ") }

func qualified(table string, names []string) string {
	parts := make([]string, len(names))
	for i, name := range names {
		parts[i] = table + "." + name
	}
	return joined(parts)
}

func isOwn(k sql.Keep, name string) bool { return slices.Contains(k.Own(), name) }

func placeholders(from, n int) string {
	parts := make([]string, n)
	for i := range parts {
		parts[i] = fmt.Sprintf("$%d", from+i)
	}
	return strings.Join(parts, ", ")
}

// put writes a row of which everything is known.
func (q *queued) put(b *sql.Binding, m *encode.Message) error {
	params, err := row(b, m.Row, b.All()[:len(b.From)])
	if err != nil {
		return err
	}
	params = flags(params, b, m, false)
	return q.run(b.Text("put", func() string {
		text := "INSERT INTO " + b.SQL + " (" + b.List(b.All()) + ") OVERRIDING SYSTEM VALUE VALUES (" + placeholders(1, len(b.Names)) + ")"
		if len(b.Key) > 0 {
			text += " ON CONFLICT (" + strings.Join(b.KeyNames(), ", ") + ") DO UPDATE SET " + b.Setting(b.All(), from("excluded"))
		}
		return text
	}), params)
}

// patch writes what is known of a row that is there.
func (q *queued) patch(b *sql.Binding, m *encode.Message) error {
	if len(b.Key) == 0 {
		return sql.Keyless(m)
	}
	places := b.Carried(m.Row)
	params, err := row(b, m.Row, places)
	if err != nil {
		return err
	}
	params = flags(params, b, m, false)
	for i := len(b.From); i < len(b.Names); i++ {
		places = append(places, i)
	}
	return q.run(b.Text(fmt.Sprint("patch", places), func() string {
		var sets, wheres []string
		for i, at := range places {
			one := fmt.Sprintf("%s = $%d", b.Names[at], i+1)
			if slices.Contains(b.Key, at) {
				wheres = append(wheres, one)
			}
			sets = append(sets, one)
		}
		return "UPDATE " + b.SQL + " SET " + strings.Join(sets, ", ") + " WHERE " + strings.Join(wheres, " AND ")
	}), params)
}

// remove takes a row out, or flags it.
func (q *queued) remove(b *sql.Binding, m *encode.Message) error {
	params, err := row(b, m.Before, b.Key)
	if err != nil {
		return err
	}
	params = flags(params, b, m, true)
	return q.run(b.Text("remove", func() string {
		where := " WHERE " + keyed(b)
		if b.Keep == sql.Flagged {
			n := len(b.Key)
			return fmt.Sprintf("UPDATE %s SET %s = $%d, %s = $%d, %s = $%d", b.SQL, sql.Deleted, n+1, sql.Offset, n+2, sql.ChangedAt, n+3) + where
		}
		return "DELETE FROM " + b.SQL + where
	}), params)
}

// move puts a copy of a row under its new key: the second half of the change may leave values
// out that only the row under the old key has, and may come with the next batch. It then
// writes what is known of it.
func (q *queued) move(b *sql.Binding, old *encode.Message) error {
	keys, err := row(b, b.WithKey(old.Before, old.Rekeyed), b.Key)
	if err != nil {
		return err
	}
	before, err := row(b, old.Before, b.Key)
	if err != nil {
		return err
	}
	if err := q.run(b.Text("clear", func() string {
		return "DELETE FROM " + b.SQL + " WHERE " + keyed(b)
	}), keys); err != nil {
		return err
	}
	return q.run(b.Text("move", func() string {
		values := slices.Clone(b.Names)
		wheres := make([]string, len(b.Key))
		for i, at := range b.Key {
			values[at] = fmt.Sprintf("$%d", i+1)
			wheres[i] = fmt.Sprintf("%s = $%d", b.Names[at], len(b.Key)+i+1)
		}
		return "INSERT INTO " + b.SQL + " (" + b.List(b.All()) + ") OVERRIDING SYSTEM VALUE SELECT " + strings.Join(values, ", ") + " FROM " + b.SQL + " WHERE " + strings.Join(wheres, " AND ")
	}), append(keys, before...))
}

// version writes one message as a version, and ends the one before it.
func (q *queued) version(b *sql.Binding, m *encode.Message) error {
	image := m.Row
	if m.Operation == change.Delete {
		image = m.Before
	}
	if len(b.Key) > 0 {
		key, err := row(b, image, b.Key)
		if err != nil {
			return err
		}
		if err := q.run(b.Text("end", func() string {
			n := len(b.Key)
			return fmt.Sprintf("UPDATE %s SET %s = $%d, %s = $%d WHERE %s AND %s = 'infinity'", b.SQL, sql.Until, n+1, sql.UntilOffset, n+2, keyed(b), sql.Until)
		}), append(key, q.d.AppendTime(nil, m.Committed), fmt.Append(nil, m.Offset))); err != nil {
			return err
		}
	}
	if len(b.Key) == 0 && m.Before != nil {
		if err := q.endEqual(b, m); err != nil {
			return err
		}
	}
	places := b.All()[:len(b.From)]
	params, err := row(b, image, places)
	if err != nil {
		return err
	}
	own := sql.VersionOf(b, m)
	for which := range b.Keep.Own() {
		text, null := own(nil, which)
		if null {
			text = nil
		}
		params = append(params, text)
	}
	carried := b.Carried(image)
	if len(carried) == len(b.From) || len(b.Key) == 0 || m.Operation == change.Delete {
		return q.run(b.Text("version", func() string {
			return "INSERT INTO " + b.SQL + " (" + b.List(b.All()) + ") OVERRIDING SYSTEM VALUE VALUES (" + placeholders(1, len(b.Names)) + ")"
		}), params)
	}
	// What the log left out is as it was in the version before.
	previous := image
	if m.Rekeyed != nil {
		previous = b.WithKey(image, m.Rekeyed)
	}
	key, err := row(b, previous, b.Key)
	if err != nil {
		return err
	}
	return q.run(b.Text(fmt.Sprint("version of", carried), func() string {
		values := make([]string, len(b.Names))
		for at := range b.Names {
			values[at] = fmt.Sprintf("$%d", at+1)
			if at < len(b.From) && !slices.Contains(carried, at) {
				values[at] = fmt.Sprintf("CASE WHEN $%d::text IS NULL THEN before.%s END", at+1, b.Names[at])
			}
		}
		wheres := make([]string, len(b.Key))
		for i, name := range b.KeyNames() {
			wheres[i] = fmt.Sprintf("%s = $%d", name, len(b.Names)+i+1)
		}
		return "INSERT INTO " + b.SQL + " (" + b.List(b.All()) + ") OVERRIDING SYSTEM VALUE SELECT " + strings.Join(values, ", ") +
			" FROM (SELECT) one LEFT JOIN LATERAL (SELECT * FROM " + b.SQL + " WHERE " + strings.Join(wheres, " AND ") + " AND " + sql.Operation + " <> 'delete' ORDER BY " + sql.Until + " DESC, " + sql.Offset + " DESC LIMIT 1) before ON true"
	}), append(params, key...))
}

// endEqual ends one of the versions that hold and equal the row before a message, of a table without
// a key. Some types know no equality: their texts do.
func (q *queued) endEqual(b *sql.Binding, m *encode.Message) error {
	params, err := row(b, m.Before, b.All()[:len(b.From)])
	if err != nil {
		return err
	}
	return q.run(b.Text("end equal", func() string {
		n := len(b.From)
		where := sql.Until + " = 'infinity' AND " + sql.Operation + " <> 'delete'"
		for at := range b.From {
			where += fmt.Sprintf(" AND %s::text IS NOT DISTINCT FROM ($%d::%s)::text", b.Names[at], at+1, b.Column(b.Source.Columns[b.From[at]].Name).Kind)
		}
		return fmt.Sprintf("UPDATE %s SET %s = $%d, %s = $%d WHERE ctid = (SELECT ctid FROM %[1]s WHERE %[6]s LIMIT 1)", b.SQL, sql.Until, n+1, sql.UntilOffset, n+2, where)
	}), append(params, q.d.AppendTime(nil, m.Committed), fmt.Append(nil, m.Offset)))
}

// keyed is a condition on the key, in the first parameters.
func keyed(b *sql.Binding) string {
	wheres := make([]string, len(b.Key))
	for i, name := range b.KeyNames() {
		wheres[i] = fmt.Sprintf("%s = $%d", name, i+1)
	}
	return strings.Join(wheres, " AND ")
}
