package pgoutput

import (
	"encoding/binary"
	"fmt"
)

// OldKind says what an old row holds.
type OldKind uint8

// The kinds of old row.
const (
	OldNone OldKind = 0
	OldKey  OldKind = 'K' // the identity's columns; a null elsewhere may mean "not carried"
	OldRow  OldKind = 'O' // all columns, under [IdentityFull]
)

// Update carries a changed row and, where the identity says so or the key
// changed, the old one.
type Update struct {
	Relation uint32
	OldKind  OldKind
	Old      []TupleColumn
	New      []TupleColumn
}

// Decode implements [Message].
func (m *Update) Decode(body []byte) error {
	r := reader{rest: body}
	m.Relation = r.uint32()
	m.OldKind = OldNone
	m.Old = m.Old[:0]
	mark := r.uint8()
	if mark == 'K' || mark == 'O' {
		m.OldKind = OldKind(mark)
		m.Old = decodeTuple(&r, m.Old)
		mark = r.uint8()
	}
	if r.err == nil && mark != 'N' {
		r.err = fmt.Errorf("expected a new row, found %q", mark)
	}
	m.New = decodeTuple(&r, m.New)
	return r.finish("Update")
}

// Encode implements [Message].
func (m *Update) Encode(dst []byte) []byte {
	dst = binary.BigEndian.AppendUint32(append(dst, 'U'), m.Relation)
	if m.OldKind != OldNone {
		dst = appendTuple(append(dst, byte(m.OldKind)), m.Old)
	}
	return appendTuple(append(dst, 'N'), m.New)
}
