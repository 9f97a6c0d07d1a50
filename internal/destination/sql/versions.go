package sql

import (
	"context"
	"strconv"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/encode"
)

// A version holds from the commit that made it until the commit that ended it: a row as of
// a time is the one of which _from <= time and time < _until. A delete is a version of its
// own that never holds.

// versions writes many messages at once. Those of which the log left values out that only
// the target has are written one after another, all before them first.
func (w *Writer) versions(ctx context.Context, b *Binding, messages []*encode.Message) error {
	newest := make(map[string]*made)
	var run []*made
	flush := func() error {
		err := w.versionsAtOnce(ctx, b, run)
		run = run[:0]
		clear(newest)
		return err
	}
	for _, m := range messages {
		if len(b.Key) == 0 && m.Before != nil {
			// It ends an equal row, which may be among those before it.
			if err := flush(); err != nil {
				return err
			}
			if err := w.db.Single(ctx, b, []*encode.Message{m}); err != nil {
				return err
			}
			continue
		}
		one := &made{message: m, image: m.Row}
		before := newest[string(m.OrderingKey)]
		if m.Operation == change.Delete {
			one.image = m.Before
		} else if change.Omits(m.Row) && len(b.Key) > 0 {
			if before == nil || m.Rekeyed != nil || !one.completed(before) {
				if err := flush(); err != nil {
					return err
				}
				if err := w.db.Single(ctx, b, []*encode.Message{m}); err != nil {
					return err
				}
				continue
			}
		}
		if len(b.Key) > 0 { // rows without a key are versions of their own
			if before != nil {
				before.endedAt, before.endedBy = m.Committed, m.Offset
			}
			one.first = before == nil
			newest[string(m.OrderingKey)] = one
		}
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
	v.image = change.Completed(v.image, before.image)
	return !change.Omits(v.image)
}

func (w *Writer) versionsAtOnce(ctx context.Context, b *Binding, all []*made) error {
	if len(all) == 0 {
		return nil
	}
	if len(b.Key) > 0 {
		var ending []*made
		for _, v := range all {
			if v.first {
				ending = append(ending, v)
			}
		}
		if err := w.db.EndVersions(ctx, b, w.made(b, ending)); err != nil {
			return err
		}
	}
	return w.db.Insert(ctx, b, w.made(b, all))
}

// made are versions to write.
func (w *Writer) made(b *Binding, all []*made) Rows {
	return Rows{len(all), func(i int) []change.Value { return all[i].image }, func(dst []byte, i, which int) ([]byte, bool) { return all[i].appendOwn(dst, b, which) }}
}

// VersionOf appends our own columns of the version that a message makes, as the newest one.
func VersionOf(b *Binding, m *encode.Message) func(dst []byte, which int) (text []byte, null bool) {
	v := &made{message: m}
	return func(dst []byte, which int) ([]byte, bool) { return v.appendOwn(dst, b, which) }
}

func (v *made) appendOwn(dst []byte, b *Binding, which int) (text []byte, null bool) {
	switch which {
	case 0: // Operation
		return append(dst, v.message.Operation.String()...), false
	case 1: // Offset
		return strconv.AppendInt(dst, v.message.Offset, 10), false
	case 2: // From
		return b.dialect.AppendTime(dst, v.message.Committed), false
	case 3: // Until
		switch {
		case v.message.Operation == change.Delete:
			return b.dialect.AppendTime(dst, v.message.Committed), false
		case v.endedBy == 0:
			return append(dst, b.dialect.Infinity()...), false
		}
		return b.dialect.AppendTime(dst, v.endedAt), false
	default: // UntilOffset
		if v.endedBy == 0 || v.message.Operation == change.Delete {
			return dst, true
		}
		return strconv.AppendInt(dst, v.endedBy, 10), false
	}
}
