package sql

import (
	"context"
	"slices"

	"rillmark/internal/change"
	"rillmark/internal/encode"
)

// The log leaves a large value out of an update that does not touch it, and the table has it
// already. Where a load of the table is complete and it has no such row, because the outlet's
// condition kept it out until now, the source is asked for the whole row, for this outlet alone.

// What is known of a row at some point of a run of messages.
const (
	unknown = iota
	there
	gone
)

// lacking finds the messages that leave values out of rows that are not here, by their
// places, with the rows' keys.
func (w *Writer) lacking(ctx context.Context, b *Binding, messages []*encode.Message) (map[int][]change.Value, error) {
	if len(b.Key) == 0 || w.outlet.ReadAgain == nil || !slices.ContainsFunc(messages, leavesOut) {
		return nil, nil
	}
	if state := w.record.Tables[b.Table.Source]; state != nil && (state.Reading || state.Rewound) {
		return nil, nil // the load brings it
	}
	lacking := make(map[int][]change.Value)
	lacks := func(i int) {
		var key []change.Value
		for _, at := range b.Source.Key() {
			key = append(key, messages[i].Row[at])
		}
		lacking[i] = key
	}
	var sought []Sought
	var asked []int
	known := make(map[string]int)
	before := unknown // of the row whose key has changed, before it left the former one
	for i, m := range messages {
		key := string(m.OrderingKey)
		is := known[key]
		if m.Operation == change.Delete {
			before, known[key] = is, gone
			continue
		}
		known[key] = there
		if !leavesOut(m) {
			continue
		}
		one := Sought{Image: m.Row}
		if m.Rekeyed != nil {
			if i > 0 && messages[i-1].Rekeyed != nil {
				is, one.Image = before, b.WithKey(m.Row, m.Rekeyed)
			} else if is = unknown; b.Keep == Versions {
				one = Sought{b.WithKey(m.Row, m.Rekeyed), true} // the first half was in the batch before
			} // which otherwise has put a copy under this key
		}
		switch is {
		case gone:
			lacks(i)
		case unknown:
			sought, asked = append(sought, one), append(asked, i)
		}
	}
	if len(asked) > 0 {
		absent, err := w.db.Absent(ctx, b, sought)
		if err != nil {
			return nil, err
		}
		for _, at := range absent {
			lacks(asked[at])
		}
	}
	return lacking, nil
}

// leavesOut reports whether a message is of a row that has values which it does not carry,
// and is not one that a load has read, which is as whole as it can be.
func leavesOut(m *encode.Message) bool {
	return m.Operation != change.Delete && m.Operation != change.Existing && change.Omits(m.Row)
}

// fetch has the rows read again that messages leave values out of and that are not here. It
// gives back the messages that can be written without them.
func (w *Writer) fetch(ctx context.Context, b *Binding, messages []*encode.Message) ([]*encode.Message, error) {
	lacking, err := w.lacking(ctx, b, messages)
	if err != nil || len(lacking) == 0 {
		return messages, err
	}
	var keys [][]change.Value
	for i, key := range lacking {
		if name := b.Table.Source + "\x00" + string(messages[i].OrderingKey); !w.fetched[name] {
			w.fetched[name] = true
			keys = append(keys, key)
		}
	}
	if len(keys) > 0 {
		// On record before the offset that passes the messages can be.
		if err := w.outlet.ReadAgain(ctx, b.Source, keys); err != nil {
			return nil, err
		}
	}
	rest := make([]*encode.Message, 0, len(messages))
	waits := make(map[string]bool) // rows that are not here until they are read again, or come whole
	for i, m := range messages {
		key := string(m.OrderingKey)
		if lacking[i] != nil {
			waits[key] = true
		}
		if waits[key] && m.Operation != change.Delete && change.Omits(m.Row) {
			continue
		}
		delete(waits, key)
		rest = append(rest, m)
	}
	return rest, nil
}
