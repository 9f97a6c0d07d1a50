package pgoutput

import (
	"encoding/binary"
	"fmt"
)

// Delete carries what the identity keeps of a row that went.
type Delete struct {
	Relation uint32
	OldKind  OldKind
	Old      []TupleColumn
}

// Decode implements [Message].
func (m *Delete) Decode(body []byte) error {
	r := reader{rest: body}
	m.Relation = r.uint32()
	m.OldKind = OldKind(r.uint8())
	if r.err == nil && m.OldKind != OldKey && m.OldKind != OldRow {
		r.err = fmt.Errorf("expected an old row, found %q", m.OldKind)
	}
	m.Old = decodeTuple(&r, m.Old)
	return r.finish("Delete")
}

// Encode implements [Message].
func (m *Delete) Encode(dst []byte) []byte {
	dst = binary.BigEndian.AppendUint32(append(dst, 'D'), m.Relation)
	return appendTuple(append(dst, byte(m.OldKind)), m.Old)
}
