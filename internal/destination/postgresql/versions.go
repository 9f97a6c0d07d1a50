package postgresql

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
	"rillmark/internal/encode"
)

// A version holds from the commit that made it until the commit that ended it: a row as of
// a time is the one of which _from <= time and time < _until. A delete is a version of its
// own that never holds.

// version writes one message as a version, and ends the one before it.
func (q *queued) version(b *binding, m *encode.Message) error {
	image := m.Row
	if m.Operation == change.Delete {
		image = m.Before
	}
	if len(b.key) > 0 {
		key, err := b.row(image, b.key)
		if err != nil {
			return err
		}
		if err := q.run(b.text("end", func() string {
			n := len(b.key)
			return fmt.Sprintf("UPDATE %s SET %s = $%d, %s = $%d WHERE %s AND %s = 'infinity'", b.sql, sql.Until, n+1, sql.UntilOffset, n+2, b.keyed(), sql.Until)
		}), append(key, stamp(m.Committed), fmt.Append(nil, m.Offset))); err != nil {
			return err
		}
	}
	places := b.all()[:len(b.from)]
	params, err := b.row(image, places)
	if err != nil {
		return err
	}
	until := infinity
	if m.Operation == change.Delete {
		until = stamp(m.Committed)
	}
	params = append(params, []byte(m.Operation.String()), fmt.Append(nil, m.Offset), stamp(m.Committed), until, nil)
	carried := b.carried(image)
	if len(carried) == len(b.from) || len(b.key) == 0 || m.Operation == change.Delete {
		return q.run(b.text("version", func() string {
			return "INSERT INTO " + b.sql + " (" + b.list(b.all()) + ") OVERRIDING SYSTEM VALUE VALUES (" + placeholders(1, len(b.names)) + ")"
		}), params)
	}
	// What the log left out is as it was in the version before.
	previous := image
	if m.Rekeyed != nil {
		previous = withKey(b, image, m.Rekeyed)
	}
	key, err := b.row(previous, b.key)
	if err != nil {
		return err
	}
	return q.run(b.text(fmt.Sprint("version of", carried), func() string {
		values := make([]string, len(b.names))
		for at := range b.names {
			values[at] = fmt.Sprintf("$%d", at+1)
			if at < len(b.from) && !slices.Contains(carried, at) {
				values[at] = fmt.Sprintf("CASE WHEN $%d::text IS NULL THEN before.%s END", at+1, b.names[at])
			}
		}
		wheres := make([]string, len(b.key))
		for i, name := range b.keyNames() {
			wheres[i] = fmt.Sprintf("%s = $%d", name, len(b.names)+i+1)
		}
		return "INSERT INTO " + b.sql + " (" + b.list(b.all()) + ") OVERRIDING SYSTEM VALUE SELECT " + strings.Join(values, ", ") +
			" FROM (SELECT) one LEFT JOIN LATERAL (SELECT * FROM " + b.sql + " WHERE " + strings.Join(wheres, " AND ") + " AND " + sql.Operation + " <> 'delete' ORDER BY " + sql.Offset + " DESC LIMIT 1) before ON true"
	}), append(params, key...))
}

// keyed is a condition on the key, in the first parameters.
func (b *binding) keyed() string {
	wheres := make([]string, len(b.key))
	for i, name := range b.keyNames() {
		wheres[i] = fmt.Sprintf("%s = $%d", name, i+1)
	}
	return strings.Join(wheres, " AND ")
}

// withKey is a row's image under another key.
func withKey(b *binding, image, key []change.Value) []change.Value {
	other := append([]change.Value(nil), image...)
	for n, at := range b.schema.Key() {
		other[at] = key[n]
	}
	return other
}

// versions writes many messages at once. Those of which the log left values out that only
// the target has are written one after another, all before them first.
func (w *writer) versions(ctx context.Context, b *binding, messages []*encode.Message) error {
	newest := make(map[string]*made)
	var run []*made
	flush := func() error {
		err := w.versionsAtOnce(ctx, b, run)
		run = run[:0]
		clear(newest)
		return err
	}
	for _, m := range messages {
		one := &made{message: m, image: m.Row}
		before := newest[string(m.OrderingKey)]
		if m.Operation == change.Delete {
			one.image = m.Before
		} else if omitsSome(m.Row) && len(b.key) > 0 {
			if before == nil || m.Rekeyed != nil || !one.completed(before) {
				if err := flush(); err != nil {
					return err
				}
				if err := w.single(ctx, b, []*encode.Message{m}); err != nil {
					return err
				}
				continue
			}
		}
		if before != nil {
			before.endedAt, before.endedBy = m.Committed, m.Offset
		}
		one.first = before == nil
		newest[string(m.OrderingKey)] = one
		run = append(run, one)
	}
	return flush()
}

// made is a version on its way.
type made struct {
	message *encode.Message
	image   []change.Value
	first   bool // it ends one that is in the table
	endedAt time.Time
	endedBy int64 // 0 for the newest
}

// completed takes what was left out from the version before; false where that has none.
func (v *made) completed(before *made) bool {
	image := append([]change.Value(nil), v.image...)
	for i := range image {
		if image[i].Presence == change.Omitted {
			if image[i] = before.image[i]; image[i].Presence == change.Omitted {
				return false
			}
		}
	}
	v.image = image
	return true
}

func (w *writer) versionsAtOnce(ctx context.Context, b *binding, all []*made) error {
	if len(all) == 0 {
		return nil
	}
	if len(b.key) > 0 {
		var ending []*made
		for _, v := range all {
			if v.first {
				ending = append(ending, v)
			}
		}
		if err := w.stageRows(ctx, b, append(append([]int(nil), b.key...), b.all()[len(b.from):]...), b.made(ending)); err != nil {
			return err
		}
		if _, err := w.conn.Exec(ctx, b.text("end all", func() string {
			return fmt.Sprintf("UPDATE %s AS t SET %s = s.%s, %s = s.%s FROM %s s WHERE %s AND t.%s = 'infinity'", b.sql, sql.Until, sql.From, sql.UntilOffset, sql.Offset, b.stage, b.matching("t", "s"), sql.Until)
		})); err != nil {
			return err
		}
	}
	return w.copyIn(ctx, b.sql, b, b.all(), b.made(all))
}

// made are versions to write.
func (b *binding) made(all []*made) rowsToWrite {
	own := b.keep.Own()
	return rowsToWrite{len(all), func(i int) []change.Value { return all[i].image }, func(text []byte, i, which int) []byte {
		v := all[i]
		switch own[which] {
		case sql.Operation:
			return append(text, v.message.Operation.String()...)
		case sql.Offset:
			return strconv.AppendInt(text, v.message.Offset, 10)
		case sql.From:
			return v.message.Committed.UTC().AppendFormat(text, timeFormat)
		case sql.Until:
			switch {
			case v.message.Operation == change.Delete:
				return v.message.Committed.UTC().AppendFormat(text, timeFormat)
			case v.endedBy == 0:
				return append(text, infinity...)
			}
			return v.endedAt.UTC().AppendFormat(text, timeFormat)
		default:
			if v.endedBy == 0 || v.message.Operation == change.Delete {
				return append(text, `\N`...)
			}
			return strconv.AppendInt(text, v.endedBy, 10)
		}
	}}
}
