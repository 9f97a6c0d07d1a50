package sql

import (
	"context"

	"rillmark/internal/change"
	"rillmark/internal/encode"
)

// The log leaves a large value out of an update that does not touch it, and the table has it
// already. Where it has not, because the outlet's condition kept the row out until now, or it
// began with the journal's newest event, what is known of the row is not enough: the source
// is asked for the whole row, for this outlet alone.

// lacking finds the rows of messages that leave values out of what is not here, by their
// ordering keys, with their keys.
func (w *Writer) lacking(ctx context.Context, b *Binding, messages []*encode.Message) (map[string][]change.Value, error) {
	if len(b.Key) == 0 || w.outlet.ReadAgain == nil {
		return nil, nil
	}
	if state := w.record.Tables[b.Table.Source]; state != nil && (state.Reading || state.Rewound) {
		return nil, nil // the load brings it
	}
	var sought []Sought
	var asked []*encode.Message
	known := make(map[string]bool)
	for i, m := range messages {
		key := string(m.OrderingKey)
		switch {
		case m.Operation == change.Delete:
			if m.Rekeyed == nil {
				known[key] = true
			}
		case !change.Omits(m.Row):
			known[key] = true
		case known[key], m.Operation == change.Existing: // that one is as whole as it can be
		case m.Rekeyed != nil && i > 0 && messages[i-1].Rekeyed != nil:
			known[key] = true
			if !known[string(messages[i-1].OrderingKey)] {
				sought, asked = append(sought, Sought{Image: b.WithKey(m.Row, m.Rekeyed)}), append(asked, m)
			}
		case m.Rekeyed != nil && b.Keep == Versions: // the first half was in the batch before
			known[key] = true
			sought, asked = append(sought, Sought{b.WithKey(m.Row, m.Rekeyed), true}), append(asked, m)
		default: // and has put a copy under this key
			known[key] = true
			sought, asked = append(sought, Sought{Image: m.Row}), append(asked, m)
		}
	}
	if len(asked) == 0 {
		return nil, nil
	}
	absent, err := w.db.Absent(ctx, b, sought)
	if err != nil || len(absent) == 0 {
		return nil, err
	}
	lacking := make(map[string][]change.Value, len(absent))
	for _, i := range absent {
		key := make([]change.Value, 0, len(b.Key))
		for _, at := range b.Source.Key() {
			key = append(key, asked[i].Row[at])
		}
		lacking[string(asked[i].OrderingKey)] = key
	}
	return lacking, nil
}

// fetch has the rows read again that messages leave values out of and that are not here. It
// gives back the messages that can be written without them.
func (w *Writer) fetch(ctx context.Context, b *Binding, messages []*encode.Message) ([]*encode.Message, error) {
	lacking, err := w.lacking(ctx, b, messages)
	if err != nil || len(lacking) == 0 {
		return messages, err
	}
	var keys [][]change.Value
	for name, key := range lacking {
		if name = b.Table.Source + "\x00" + name; !w.fetched[name] {
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
	for _, m := range messages {
		_, lacks := lacking[string(m.OrderingKey)]
		switch {
		case lacks && m.Operation != change.Delete && change.Omits(m.Row):
			continue
		case lacks:
			delete(lacking, string(m.OrderingKey)) // it is whole from here on, or gone
		}
		rest = append(rest, m)
	}
	return rest, nil
}
