package reading

import (
	"context"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/journal"
	"rillmark/internal/service/base"
)

// RowHistory is what the journal has of one row.
type RowHistory struct {
	Table string            `json:"table"`
	Key   map[string]string `json:"key"`
	// Events are the row's, oldest first, with those of the table that touch every row.
	Events []json.RawMessage `json:"events" doc:"The row's events as CloudEvents, oldest first; a truncate and a void of the table are among them"`
	// More says that there are older ones.
	More  bool  `json:"more" doc:"Whether there are older ones than these"`
	Read  int64 `json:"read" doc:"Events of the journal that were read for it"`
	First int64 `json:"first" doc:"The oldest offset that the journal has"`
}

const (
	// mostVersions of a row are kept at a time.
	mostVersions = 1000
	// mostKeys are how often a changed key is followed.
	mostKeys = 50
)

// HistoryOf asks for a row's history.
type HistoryOf struct {
	Table string
	// Key has the text of each column of the table's key.
	Key map[string]string
	Span
	// Limit is how many of the newest events there are to be.
	Limit int
}

// found is an event of the row.
type found struct {
	offset int64
	body   json.RawMessage
	row    bool
}

// search looks for a row's events under one key within some offsets.
type search struct {
	values  []string // the key's texts
	within  journal.Range
	forward bool // only up to the row's end under this key
	back    bool // only from its beginning under this key on
}

// History reads every version of a row that the journal has. A changed key is followed.
func (s *Reading) History(ctx context.Context, source string, of HistoryOf) (*RowHistory, error) {
	record, err := s.Catalog.Source(ctx, source)
	if err != nil {
		return nil, base.Answer(err, "source", source)
	}
	columns, exact, err := s.keyOf(ctx, record, of.Table)
	if err != nil {
		return nil, err
	}
	if text, alone := of.Key[""]; alone && len(columns) == 1 {
		of.Key = map[string]string{columns[0]: text}
	}
	values := make([]string, len(columns))
	for i, name := range columns {
		text, given := of.Key[name]
		if !given || len(of.Key) != len(columns) {
			return nil, &engine.Fault{Code: base.CodeInvalid, Message: fmt.Sprintf("the key of %s is %s: give a value for each of them, and no other", of.Table, strings.Join(columns, ", "))}
		}
		values[i] = text
	}
	head, err := s.Store.Head(ctx, record.ID)
	if err != nil {
		return nil, base.Answer(err, "source", source)
	}
	within := journal.Range{First: head.First, Last: head.Next - 1}
	if of.From != "" {
		passed, err := s.Place(ctx, record.ID, of.From)
		if err != nil {
			return nil, err
		}
		within.First = passed + 1
	}
	if of.Until != "" {
		if within.Last, err = s.End(ctx, record.ID, of.Until, within.First-1); err != nil {
			return nil, err
		}
	}
	origin, err := s.Origin(ctx, record)
	if err != nil {
		return nil, base.Answer(err, "source", source)
	}
	h := &historian{Reading: s, source: record.ID, origin: origin.Fill, table: of.Table, columns: columns, exact: exact, within: within,
		maker: encode.NewMaker(encode.Shape{Address: s.Config.PublicURL, Format: encode.FormatCloudEvents}, encode.Capabilities{}),
		limit: min(max(of.Limit, 1), mostVersions), seen: make(map[string]bool), events: make(map[int64]found)}
	if err := h.follow(ctx, values); err != nil {
		return nil, base.Answer(err, "source", source)
	}
	result := &RowHistory{Table: of.Table, Key: of.Key, Events: []json.RawMessage{}, Read: h.read, First: head.First}
	all := make([]found, 0, len(h.events))
	for _, one := range h.events {
		all = append(all, one)
	}
	slices.SortFunc(all, func(a, b found) int { return int(a.offset - b.offset) })
	for len(all) > 0 && !all[0].row {
		all = all[1:] // the table was emptied before the row came
	}
	if n := len(all) - h.limit; n > 0 {
		all, result.More = all[n:], true
	}
	result.More = result.More || h.dropped
	for _, one := range all {
		result.Events = append(result.Events, one.body)
	}
	return result, nil
}

// keyOf are the columns of a table's key; exact says that no version of it has another.
func (s *Reading) keyOf(ctx context.Context, record *catalog.Source, table string) (columns []string, exact bool, err error) {
	versions, err := s.Catalog.SchemaVersions(ctx, record.Name)
	if err != nil {
		return nil, false, base.Answer(err, "source", record.Name)
	}
	states, err := s.Catalog.TableStates(ctx, record.ID)
	if err != nil {
		return nil, false, base.Answer(err, "source", record.Name)
	}
	names := func(schema *change.Schema) (names []string) {
		for _, i := range schema.Key() {
			names = append(names, schema.Columns[i].Name)
		}
		return names
	}
	exact = true
	known := false
	if state := states[table]; state != nil && state.Schema != nil {
		columns, known = names(state.Schema), true
	}
	for _, v := range versions {
		if v.Schema.Table != table {
			continue
		}
		if !known {
			columns, known = names(v.Schema), true
		}
		exact = exact && slices.Equal(names(v.Schema), columns)
	}
	switch {
	case !known:
		return nil, false, &engine.Fault{Code: base.CodeNotFound, Message: fmt.Sprintf("the journal of %s has no table %q", record.Name, table), Fix: "`rillmark source show " + record.Name + "` lists its tables"}
	case len(columns) == 0:
		return nil, false, &engine.Fault{Code: base.CodeInvalid, Message: fmt.Sprintf("%s has no key, by which its rows could be told apart", table), Fix: "give it one in the source's rule (`key`), or in the database"}
	}
	return columns, exact, nil
}

// historian collects a row's events.
type historian struct {
	*Reading
	source  int64
	origin  func(*change.Event)
	table   string
	columns []string
	exact   bool
	within  journal.Range
	maker   *encode.Maker
	limit   int
	seen    map[string]bool
	events  map[int64]found
	dropped bool // older ones than the limit
	read    int64
	out     encode.Batch
}

// follow looks for the row under the key that was given, and under those that it had before
// and after.
func (h *historian) follow(ctx context.Context, values []string) error {
	todo := []search{{values: values, within: h.within}}
	for n := 0; n < len(todo) && n < mostKeys; n++ {
		more, err := h.look(ctx, &todo[n])
		if err != nil {
			return err
		}
		for _, one := range more {
			if id := fmt.Sprint(one.values, one.forward); !h.seen[id] {
				h.seen[id] = true
				todo = append(todo, one)
			}
		}
	}
	return nil
}

// look collects the events of one key, and says under which other keys to look on.
func (h *historian) look(ctx context.Context, q *search) (more []search, err error) {
	if q.within.First > q.within.Last {
		return nil, nil
	}
	ranges := []journal.Range{q.within}
	if h.exact {
		key := make([]change.Value, len(q.values))
		for i, text := range q.values {
			key[i] = change.Of(text)
		}
		if ranges, err = h.Store.KeyRanges(ctx, h.source, []uint64{journal.KeyHash(h.table, key)}, q.within); err != nil {
			return nil, err
		}
	}
	tables := "^" + regexp.QuoteMeta(h.table) + "$"
	var of []found // under this key, oldest first
	wants := func(table string) bool { return table == h.table }
	for _, r := range ranges {
		reader := h.Store.Reader(h.source, r.First, journal.ReaderOptions{Tables: tables, Wants: wants})
		for reader.Position() <= r.Last {
			batch, err := reader.TryNext(ctx)
			if err != nil {
				return nil, err
			}
			if batch == nil {
				break
			}
			h.read += batch.Last - batch.First + 1
			var e change.Event
			for batch.Next(&e) && e.Offset <= r.Last {
				whole := e.Operation == change.Truncate || e.Operation == change.Void
				if !whole && !h.is(&e, q.values) {
					continue
				}
				one, err := h.message(&e)
				if err != nil {
					return nil, err
				}
				of = append(of, one)
				if !whole && e.Rekeyed != nil {
					more = append(more, h.otherKey(&e, q)...)
				}
				born := e.Operation == change.Insert && e.Rekeyed == nil || e.Operation == change.Truncate
				if q.back && born {
					of = of[:0] // an earlier row of that key
					if !whole {
						of = append(of, one)
					}
				}
				if q.forward && (e.Operation == change.Delete || e.Operation == change.Truncate) {
					return more, h.keep(of)
				}
				if len(of) > 2*h.limit {
					of, h.dropped = slices.Clone(of[len(of)-h.limit:]), true
				}
			}
			if err := batch.Err(); err != nil {
				return nil, err
			}
		}
	}
	return more, h.keep(of)
}

func (h *historian) keep(of []found) error {
	for _, one := range of {
		h.events[one.offset] = one
	}
	return nil
}

// is reports whether an event is of a row with that key.
func (h *historian) is(e *change.Event, values []string) bool {
	image := e.Image()
	if !e.Operation.IsRow() || image == nil {
		return false
	}
	for i, name := range h.columns {
		at := slices.IndexFunc(e.Schema.Columns, func(c change.Column) bool { return c.Name == name })
		if at < 0 || image[at].Presence != change.Present || string(image[at].Text) != values[i] {
			return false
		}
	}
	return true
}

// otherKey says where to look on for a row whose key has changed with an event.
func (h *historian) otherKey(e *change.Event, q *search) []search {
	other := make([]string, len(e.Rekeyed))
	for i, v := range e.Rekeyed {
		other[i] = string(v.Text)
	}
	if len(other) != len(h.columns) {
		return nil
	}
	if e.Operation == change.Delete { // the row goes on under the other key
		if q.back {
			return nil
		}
		return []search{{values: other, within: journal.Range{First: e.Offset + 1, Last: h.within.Last}, forward: true}}
	}
	if q.forward {
		return nil
	}
	return []search{{values: other, within: journal.Range{First: h.within.First, Last: e.Offset - 1}, back: true}}
}

func (h *historian) message(e *change.Event) (found, error) {
	h.origin(e)
	h.out.Reset()
	if err := h.maker.Append(&h.out, e, true); err != nil {
		return found{}, err
	}
	if len(h.out.Messages) != 1 || h.out.Messages[0].EncodeError != nil {
		return found{}, &engine.Fault{Code: "not-shown", Message: fmt.Sprintf("the event at offset %d cannot be written as JSON", e.Offset), Fix: "`rillmark watch` with --from and --until shows what is around it"}
	}
	return found{offset: e.Offset, body: slices.Clone(h.out.Messages[0].Body), row: e.Operation.IsRow()}, nil
}
