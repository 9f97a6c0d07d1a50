package sql

import (
	"bytes"
	"hash/maphash"

	"rillmark/internal/change"
	"rillmark/internal/encode"
)

// Row is what the changes of one row come to.
type Row struct {
	// Key is the row's, as columns of Values.
	Key []change.Value
	// Values is the row as it is now, nil for one that is gone. An omitted value is one
	// that the target has already.
	Values []change.Value
	// New says that the row was not there before, Found that it may be there, and mostly is
	// not: a load has read it, or its key has changed.
	New, Found bool
	// Last is the newest of the changes.
	Last *encode.Message

	gone bool // it came and went in between
	next *Row // another one whose key has the same hash
}

// Partial reports whether values are left as the target has them.
func (r *Row) Partial() bool {
	for i := range r.Values {
		if r.Values[i].Presence == change.Omitted {
			return true
		}
	}
	return false
}

// Net is what changes of rows of one schema version come to. Its rows are those of the
// messages: they are good as long as those are.
type Net struct {
	rows  map[uint64]*Row // by hashes of their keys: strings of them would cost more than all else
	seed  maphash.Seed
	order []*Row
	kinds [4][]*Row // what Rows gives
	pool  []Row
	keys  []change.Value
	moved []change.Value // the row of the changed key whose second half comes next
}

// restingRows is the number of rows whose room is always kept.
const restingRows = 512

// Reset forgets all. It keeps its room, but no message: a batch's rows would stay in memory with
// it. What a large batch needed is given back once a small one has followed.
func (n *Net) Reset() {
	if used := len(n.pool); used > 0 && used < cap(n.pool)/8 && cap(n.pool) > restingRows {
		*n = Net{}
		return
	}
	clear(n.rows)
	clear(n.pool)
	clear(n.keys)
	n.order, n.pool, n.keys, n.moved = n.order[:0], n.pool[:0], n.keys[:0], nil
}

// Add takes messages of rows with a key, in their order, and reports how many it took: it
// stops before the two halves of a changed key of which the log left values out that only
// the target has, and before a first half whose second is not among the messages.
func (n *Net) Add(messages []*encode.Message) int {
	if n.rows == nil {
		n.rows, n.seed = make(map[uint64]*Row, len(messages)), maphash.MakeSeed()
	}
	if cap(n.pool) < len(messages) {
		n.pool = make([]Row, 0, len(messages)) // pointers into it stay good: it does not grow
	}
	for i, m := range messages {
		if m.Operation == change.Delete && m.Rekeyed != nil && (i+1 == len(messages) || n.needsTarget(m, messages[i+1])) {
			return i
		}
		n.add(m)
	}
	return len(messages)
}

// needsTarget reports whether the second half of a changed key leaves values out that the
// first half's row, as it is known here, does not have.
func (n *Net) needsTarget(first, second *encode.Message) bool {
	if second.Rekeyed == nil || !change.Omits(second.Row) {
		return false
	}
	known, _ := n.find(first.OrderingKey)
	if known == nil || known.Values == nil {
		return true
	}
	for i, v := range second.Row {
		if v.Presence == change.Omitted && known.Values[i].Presence == change.Omitted {
			return true
		}
	}
	return false
}

// find is the row of a key, if it is known, and the key's hash.
func (n *Net) find(key []byte) (*Row, uint64) {
	hash := maphash.Bytes(n.seed, key)
	row := n.rows[hash]
	for row != nil && !bytes.Equal(row.Last.OrderingKey, key) {
		row = row.next
	}
	return row, hash
}

func (n *Net) add(m *encode.Message) {
	row, hash := n.find(m.OrderingKey)
	if row == nil {
		n.pool = append(n.pool, Row{New: m.Operation == change.Insert && m.Rekeyed == nil, Found: m.Operation == change.Existing || m.Rekeyed != nil, next: n.rows[hash]})
		row = &n.pool[len(n.pool)-1]
		n.rows[hash] = row
		n.order = append(n.order, row)
	}
	row.Last = m
	if m.Operation == change.Delete {
		n.moved = nil
		if m.Rekeyed != nil {
			n.moved = row.Values
		}
		row.Values, row.gone = nil, row.New
		row.Key = n.key(m, m.Before)
		return
	}
	older := row.Values
	if m.Rekeyed != nil {
		older = n.moved
	}
	row.Values, row.gone = change.Completed(m.Row, older), false
	row.Key = n.key(m, row.Values)
}

func (n *Net) key(m *encode.Message, image []change.Value) []change.Value {
	at := len(n.keys)
	for _, i := range m.Schema.Key() {
		n.keys = append(n.keys, image[i])
	}
	return n.keys[at:len(n.keys):len(n.keys)]
}

// Rows gives what is left to do: rows that are gone, rows of which values are left as they
// are, rows that are there, and rows that are new or mostly so. They are good until the next
// call.
func (n *Net) Rows() (gone, partial, there, fresh []*Row) {
	gone, partial, there, fresh = n.kinds[0][:0], n.kinds[1][:0], n.kinds[2][:0], n.kinds[3][:0]
	for _, r := range n.order {
		switch {
		case r.gone:
		case r.Values == nil:
			gone = append(gone, r)
		case r.Partial():
			partial = append(partial, r)
		case r.New, r.Found:
			fresh = append(fresh, r)
		default:
			there = append(there, r)
		}
	}
	n.kinds = [4][]*Row{gone, partial, there, fresh}
	return gone, partial, there, fresh
}
