package pgoutput

import (
	"encoding/binary"
	"fmt"
)

// Insert carries a new row.
type Insert struct {
	Relation uint32
	New      []TupleColumn
}

// Decode implements [Message].
func (m *Insert) Decode(body []byte) error {
	r := reader{rest: body}
	m.Relation = r.uint32()
	if mark := r.uint8(); r.err == nil && mark != 'N' {
		r.err = fmt.Errorf("expected a new row, found %q", mark)
	}
	m.New = decodeTuple(&r, m.New)
	return r.finish("Insert")
}

// Encode implements [Message].
func (m *Insert) Encode(dst []byte) []byte {
	dst = binary.BigEndian.AppendUint32(append(dst, 'I'), m.Relation)
	return appendTuple(append(dst, 'N'), m.New)
}
