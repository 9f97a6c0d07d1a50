package shape

import (
	"cmp"
	"hash/fnv"
	"slices"

	"rillmark/internal/change"
)

// Net works out what changes of rows come to: an insert and a later delete
// cancel out, updates of one row become one. It keeps copies of one event a row
// and is empty again after [Net.Take].
type Net struct {
	// Limit is about how many bytes of rows are kept; rows above it are left out, all
	// but a share of them, which halves each time. 0 keeps all.
	Limit int

	rows          map[string]*netRow
	order         []*netRow
	bytes         int
	share, shares uint32 // which part of the rows is kept, of how many
}

type netRow struct {
	key     string
	event   change.Event // operation, images and place of what it comes to
	existed bool         // before the first of the changes
	gone    bool         // nothing is left of it
}

// Rows is how many rows have changes.
func (n *Net) Rows() int { return len(n.order) }

// Bytes is about how much memory the rows take.
func (n *Net) Bytes() int { return n.bytes }

// Joins reports whether an event is one of a row with a key, and so can become
// part of a net change. All others stand where they are: Take comes before them.
func Joins(e *change.Event) bool {
	return e.Operation.IsRow() && e.Schema != nil && len(e.Schema.Key()) > 0
}

// Add takes an event for which [Joins] holds. It copies what it keeps.
func (n *Net) Add(e *change.Event) {
	if n.rows == nil {
		n.rows = make(map[string]*netRow)
	}
	key := e.Table + "\x00" + change.RowKey(e.KeyValues(nil))
	if !n.keeps(key) {
		return
	}
	if n.Limit > 0 && n.bytes > n.Limit && len(n.order) > 1 && n.share == 0 {
		if n.halve(); !n.keeps(key) {
			return
		}
	}
	row := n.rows[key]
	if row == nil {
		row = &netRow{key: key, existed: e.Operation == change.Update || e.Operation == change.Delete, event: *e}
		row.event.Before, row.event.After = change.CloneImage(e.Before), change.CloneImage(e.After)
		row.event.Rekeyed, row.event.Body = change.CloneImage(e.Rekeyed), append([]byte(nil), e.Body...)
		n.rows[key] = row
		n.order = append(n.order, row)
		n.bytes += imageBytes(row.event.Before) + imageBytes(row.event.After) + 200
		return
	}
	before, was := row.event.Before, row.event.Operation
	filled, held := fill(e.After, row.event.After), imageBytes(row.event.After)
	row.event = *e
	row.event.After = change.CloneImage(filled)
	row.event.Rekeyed, row.event.Body = change.CloneImage(e.Rekeyed), append([]byte(nil), e.Body...)
	row.event.Before = before
	n.bytes += imageBytes(row.event.After) - held
	row.gone = false
	switch {
	case e.Operation == change.Delete && !row.existed:
		row.gone = true
	case e.Operation == change.Delete:
		if row.event.Before == nil {
			row.event.Before = change.CloneImage(e.Before)
		}
	case row.existed:
		row.event.Operation = change.Update
	case was == change.Existing && e.Operation != change.Existing:
		row.event.Operation = change.Existing
	default:
		if e.Operation == change.Update {
			row.event.Operation = change.Insert
		}
		row.event.Before = nil
	}
}

// keeps reports whether a row is of the share at hand.
func (n *Net) keeps(key string) bool {
	if n.shares < 2 {
		return true
	}
	h := fnv.New32a()
	h.Write([]byte(key)) // a hash takes all
	return h.Sum32()%n.shares == n.share
}

// halve leaves out half of the rows, to be read for again.
func (n *Net) halve() {
	n.shares = max(n.shares, 1) * 2
	kept := n.order[:0]
	n.bytes = 0
	for _, row := range n.order {
		if !n.keeps(row.key) {
			delete(n.rows, row.key)
			continue
		}
		kept = append(kept, row)
		n.bytes += imageBytes(row.event.Before) + imageBytes(row.event.After) + 200
	}
	clear(n.order[len(kept):])
	n.order = kept
}

// fill gives an omitted value its value of the image before, where the log had
// carried it then.
func fill(after, before []change.Value) []change.Value {
	if after == nil || len(before) != len(after) {
		return after
	}
	for i := range after {
		if after[i].Presence == change.Omitted {
			after[i] = before[i]
		}
	}
	return after
}

// Take hands the net changes out, each at the offset of its newest change, in
// the order of those, and forgets them.
func (n *Net) Take(each func(*change.Event) error) error {
	live := n.order[:0]
	for _, row := range n.order {
		if !row.gone {
			live = append(live, row)
		}
	}
	slices.SortFunc(live, func(a, b *netRow) int { return cmp.Compare(a.event.Offset, b.event.Offset) })
	for _, row := range live {
		if err := each(&row.event); err != nil {
			return err
		}
	}
	n.order = n.order[:0]
	clear(n.rows)
	n.bytes = 0
	return nil
}

func imageBytes(image []change.Value) int {
	size := 32 * len(image)
	for _, v := range image {
		size += len(v.Text)
	}
	return size
}
