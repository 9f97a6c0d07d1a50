package sql

import (
	"context"
	"fmt"
	"slices"
	"strconv"

	"rillmark/internal/change"
	"rillmark/internal/encode"
)

// setwise writes what many messages come to: rows that are new go straight in, others are
// merged.
func (w *Writer) setwise(ctx context.Context, b *Binding, messages []*encode.Message) error {
	each := Rows{len(messages), func(i int) []change.Value { return messages[i].Row }, w.flagging(b, func(i int) *encode.Message { return messages[i] }, false)}
	if len(b.Key) == 0 {
		for _, m := range messages {
			if m.Operation == change.Update || m.Operation == change.Delete {
				return Keyless(m)
			}
		}
		return w.db.Insert(ctx, b, each)
	}
	if w.cautious[b.SQL] == 0 && !slices.ContainsFunc(messages, func(m *encode.Message) bool {
		return m.Operation != change.Insert || m.Rekeyed != nil || change.Omits(m.Row)
	}) {
		// Rows that are new, each of another key: there is nothing to merge.
		if there, err := w.insertNew(ctx, b, each); err != nil || !there {
			return err
		}
	}
	defer w.net.Reset()
	for len(messages) > 0 {
		w.net.Reset()
		n := w.net.Add(messages)
		if err := w.merge(ctx, b); err != nil {
			return err
		}
		if messages = messages[n:]; len(messages) > 0 {
			// A changed key of which the target alone has values.
			both := min(2, len(messages)) // the second half may be in the next batch
			if err := w.db.Single(ctx, b, messages[:both]); err != nil {
				return err
			}
			messages = messages[both:]
		}
	}
	return nil
}

func (w *Writer) merge(ctx context.Context, b *Binding) error {
	gone, partial, there, fresh := w.net.Rows()
	if len(gone) > 0 {
		if err := w.db.Remove(ctx, b, w.removed(b, gone)); err != nil {
			return err
		}
	}
	if err := w.patchAll(ctx, b, partial); err != nil {
		return err
	}
	if len(there) > 0 {
		if err := w.db.Replace(ctx, b, w.merged(b, there)); err != nil {
			return err
		}
	}
	return w.insertAll(ctx, b, fresh)
}

func (w *Writer) merged(b *Binding, rows []*Row) Rows {
	return Rows{len(rows), func(i int) []change.Value { return rows[i].Values }, w.flagging(b, func(i int) *encode.Message { return rows[i].Last }, false)}
}

func (w *Writer) removed(b *Binding, gone []*Row) Rows {
	image := make([]change.Value, len(b.Source.Columns))
	return Rows{len(gone), func(i int) []change.Value {
		for n, at := range b.Source.Key() {
			image[at] = gone[i].Key[n]
		}
		return image
	}, w.flagging(b, func(i int) *encode.Message { return gone[i].Last }, true)}
}

func (w *Writer) flagging(b *Binding, message func(i int) *encode.Message, deleted bool) func(dst []byte, i, which int) ([]byte, bool) {
	return func(dst []byte, i, which int) ([]byte, bool) { return b.AppendFlag(dst, message(i), deleted, which) }
}

// AppendFlag appends one of our own columns of a flagged row that a message has touched.
func (b *Binding) AppendFlag(dst []byte, m *encode.Message, deleted bool, which int) (text []byte, null bool) {
	switch which {
	case 0: // Deleted
		if deleted {
			return append(dst, '1'), false
		}
		return append(dst, '0'), false
	case 1: // Offset
		return strconv.AppendInt(dst, m.Offset, 10), false
	default: // ChangedAt
		return b.dialect.AppendTime(dst, m.Committed), false
	}
}

// patchAll writes rows of which values are left as they are: those of the same columns
// together.
func (w *Writer) patchAll(ctx context.Context, b *Binding, partial []*Row) error {
	alike := make(map[string][]*Row)
	places := make(map[string][]int)
	var order []string
	for _, r := range partial {
		carried := b.Carried(r.Values)
		name := fmt.Sprint(carried)
		if alike[name] == nil {
			order, places[name] = append(order, name), append(carried, b.All()[len(b.From):]...)
		}
		alike[name] = append(alike[name], r)
	}
	for _, name := range order {
		if err := w.db.Patch(ctx, b, places[name], w.merged(b, alike[name])); err != nil {
			return err
		}
	}
	return nil
}

// cautiousFor is for how many batches rows of a table are merged rather than put in, after
// some that should have been new were there.
const cautiousFor = 20

// insertAll writes rows that are new, or mostly so.
func (w *Writer) insertAll(ctx context.Context, b *Binding, fresh []*Row) error {
	if len(fresh) == 0 {
		return nil
	}
	if w.cautious[b.SQL] > 0 {
		w.cautious[b.SQL]--
		return w.db.Replace(ctx, b, w.merged(b, fresh))
	}
	if there, err := w.insertNew(ctx, b, w.merged(b, fresh)); err != nil || !there {
		return err
	}
	return w.db.Replace(ctx, b, w.merged(b, fresh))
}

// insertNew puts rows in. Where any of them is there, none is written.
func (w *Writer) insertNew(ctx context.Context, b *Binding, rows Rows) (there bool, err error) {
	if err := w.exec(ctx, "SAVEPOINT merge"); err != nil {
		return false, err
	}
	err = w.db.Insert(ctx, b, rows)
	if w.db.IsUnique(err) {
		w.cautious[b.SQL] = cautiousFor
		w.db.Undone()
		return true, w.exec(ctx, "ROLLBACK TO SAVEPOINT merge")
	}
	if err != nil {
		return false, err
	}
	return false, w.exec(ctx, "RELEASE SAVEPOINT merge")
}
