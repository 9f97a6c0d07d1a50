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
	visible       int // of order, those of which a change was let through
	bytes         int
	share, shares uint32 // which part of the rows is kept, of how many
}

type netRow struct {
	key   string
	event change.Event // operation, images and place of what it comes to
	// known is the row's newest image, with values of changes that were kept back, too: what
	// the log omits later is completed from it. Often it is the event's own image.
	known   []change.Value
	moved   []change.Value // known, before the row went on under another key
	origin  []change.Value // the key under which whoever reads has the row, where that is another
	kept    bool           // only changes that were kept back have come so far
	existed bool           // before the first of the changes
	gone    bool           // nothing is left of it
}

// Rows is how many rows have changes that were let through.
func (n *Net) Rows() int { return n.visible }

// Bytes is about how much memory the rows take.
func (n *Net) Bytes() int { return n.bytes }

// Joins reports whether an event is one of a row with a key, and so can become
// part of a net change. All others stand where they are: Take comes before them.
func Joins(e *change.Event) bool {
	return e.Operation.IsRow() && e.Schema != nil && len(e.Schema.Key()) > 0
}

// Add takes an event for which [Joins] holds. It copies what it keeps.
func (n *Net) Add(e *change.Event) {
	row, is := n.row(e)
	if row == nil {
		return
	}
	held := row.bytes()
	after := change.Completed(e.After, n.older(row, e))
	from, was := row.event, row.event.Operation
	row.event = *e
	row.event.After = change.CloneImage(after)
	row.event.Rekeyed, row.event.Body = change.CloneImage(e.Rekeyed), append([]byte(nil), e.Body...)
	if former := n.former(e); former != nil && former.gone {
		row.event.Rekeyed = former.origin // nobody was told of the key in between
		if first := n.rows[netKey(e.Table, former.origin)]; first != nil && first.event.Operation == change.Delete && first.event.Rekeyed != nil {
			first.event.Rekeyed = change.CloneImage(e.KeyValues(nil))
		}
	}
	row.knows(e, row.event.After)
	switch {
	case e.Operation == change.Insert:
		row.origin = row.event.Rekeyed
	case e.Operation == change.Delete && e.Rekeyed == nil:
		row.origin = nil
	}
	if is && !row.kept {
		row.event.Before = from.Before
		if e.Rekeyed == nil && e.Operation == change.Update && change.Omits(after) {
			row.event.Rekeyed = from.Rekeyed // what is still missing is in the row of the former key
		}
		row.join(e, was)
	} else {
		row.existed = e.Operation == change.Update || e.Operation == change.Delete
		row.event.Before = change.CloneImage(e.Before)
		row.kept = false
		n.visible++
	}
	n.bytes += row.bytes() - held
}

// join makes the row's event, which has the newest change, what it comes to with those before.
func (r *netRow) join(e *change.Event, was change.Operation) {
	r.gone = false
	switch {
	case e.Operation == change.Delete && !r.existed:
		r.gone = true
	case e.Operation == change.Delete:
		if r.event.Before == nil {
			r.event.Before = change.CloneImage(e.Before)
		}
	case r.existed:
		r.event.Operation = change.Update
	case was == change.Existing && e.Operation != change.Existing:
		r.event.Operation = change.Existing
	default:
		if e.Operation == change.Update {
			r.event.Operation = change.Insert
		}
		r.event.Before = nil
	}
}

// KeepBack takes note of an event for which [Joins] holds and that is not let through. Later events
// may omit values that this one has brought: they are taken from here. after is the row after the
// event, which a filter may have taken from it. KeepBack copies what it keeps.
func (n *Net) KeepBack(e *change.Event, after []change.Value) {
	row, is := n.row(e)
	if row == nil {
		return
	}
	held := row.bytes()
	if !is {
		row.kept = true
		held = 0
	}
	row.knows(e, change.CloneImage(change.Completed(after, n.older(row, e))))
	n.bytes += row.bytes() - held
}

// row finds the row of an event, and makes it where it is not known; nil for one that is not of
// the share at hand.
func (n *Net) row(e *change.Event) (row *netRow, is bool) {
	if n.rows == nil {
		n.rows = make(map[string]*netRow)
	}
	key := netKey(e.Table, e.KeyValues(nil))
	if !n.keeps(key) {
		return nil, false
	}
	if row = n.rows[key]; row == nil && n.Limit > 0 && n.bytes > n.Limit && len(n.order) > 1 && n.share == 0 {
		if n.halve(); !n.keeps(key) {
			return nil, false
		}
	}
	if row != nil {
		return row, true
	}
	row = &netRow{key: key}
	n.rows[key] = row
	n.order = append(n.order, row)
	return row, false
}

// knows takes the row's image after an event, which it owns from now on.
func (r *netRow) knows(e *change.Event, after []change.Value) {
	r.moved = nil
	if e.Operation == change.Delete && e.Rekeyed != nil {
		r.moved = r.known
	}
	r.known = after
}

// former is the row under the key that a row had before; nil where that has not changed with the
// event, or is not known.
func (n *Net) former(e *change.Event) *netRow {
	if e.Operation != change.Insert || e.Rekeyed == nil {
		return nil
	}
	return n.rows[netKey(e.Table, e.Rekeyed)]
}

// older is the image from which omitted values of an event are completed: the row's own, or that
// of its former key.
func (n *Net) older(row *netRow, e *change.Event) []change.Value {
	if e.Operation != change.Insert || e.Rekeyed == nil {
		return row.known
	}
	if former := n.former(e); former != nil {
		return former.moved
	}
	return nil
}

func netKey(table string, key []change.Value) string {
	return table + "\x00" + change.RowKey(key)
}

// bytes is about how much memory a row takes.
func (r *netRow) bytes() int {
	size := imageBytes(r.event.Before) + imageBytes(r.event.After) + 200
	if len(r.known) > 0 && (len(r.event.After) == 0 || &r.known[0] != &r.event.After[0]) {
		size += imageBytes(r.known)
	}
	if r.moved != nil {
		size += imageBytes(r.moved)
	}
	return size
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
	n.bytes, n.visible = 0, 0
	for _, row := range n.order {
		if !n.keeps(row.key) {
			delete(n.rows, row.key)
			continue
		}
		kept = append(kept, row)
		n.bytes += row.bytes()
		if !row.kept {
			n.visible++
		}
	}
	clear(n.order[len(kept):])
	n.order = kept
}

// Take hands the net changes out, each at the offset of its newest change, in
// the order of those, and forgets them.
func (n *Net) Take(each func(*change.Event) error) error {
	live := n.order[:0]
	for _, row := range n.order {
		if !row.gone && !row.kept {
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
	n.bytes, n.visible = 0, 0
	return nil
}

func imageBytes(image []change.Value) int {
	size := 32 * len(image)
	for _, v := range image {
		size += len(v.Text)
	}
	return size
}
