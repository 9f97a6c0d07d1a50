package pgoutput

import (
	"encoding/binary"
	"fmt"
)

// ColumnKind is how a [TupleColumn] carries its value.
type ColumnKind uint8

// The kinds of TupleData.
const (
	KindNull      ColumnKind = 'n'
	KindUnchanged ColumnKind = 'u' // a large value that did not change and was not logged
	KindText      ColumnKind = 't'
	KindBinary    ColumnKind = 'b'
	// KindTooLarge is none of the protocol's: a reader puts it in the place of a
	// value that it passed over. Data is the value's own kind and its size, in
	// nine bytes.
	KindTooLarge ColumnKind = 'x'
)

// TupleColumn is one column's value. Data points into the message's buffer.
type TupleColumn struct {
	Kind ColumnKind
	Data []byte
}

// decodeTuple reads TupleData into columns, reusing their space.
func decodeTuple(r *reader, columns []TupleColumn) []TupleColumn {
	n := r.count(uint32(r.uint16()), 1)
	if cap(columns) < n {
		columns = make([]TupleColumn, n)
	}
	columns = columns[:n]
	// The loop of the hot path: it works on the slice itself instead of going
	// through the reader's methods for each field.
	rest := r.rest
	for i := range columns {
		if len(rest) == 0 {
			r.err = ErrTruncated
			return nil
		}
		kind := ColumnKind(rest[0])
		rest = rest[1:]
		switch kind {
		case KindText, KindBinary, KindTooLarge:
			if len(rest) < 4 {
				r.err = ErrTruncated
				return nil
			}
			size := binary.BigEndian.Uint32(rest)
			if uint64(size) > uint64(len(rest)-4) {
				r.err = fmt.Errorf("%w: column %d needs %d bytes, %d are left", ErrTruncated, i, size, len(rest)-4)
				return nil
			}
			columns[i] = TupleColumn{Kind: kind, Data: rest[4 : 4+size : 4+size]}
			rest = rest[4+size:]
		case KindNull, KindUnchanged:
			columns[i] = TupleColumn{Kind: kind}
		default:
			r.err = fmt.Errorf("column %d has unknown kind %q", i, kind)
			return nil
		}
	}
	r.rest = rest
	return columns
}

func appendTuple(dst []byte, columns []TupleColumn) []byte {
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(columns)))
	for _, c := range columns {
		dst = append(dst, byte(c.Kind))
		if c.Kind != KindNull && c.Kind != KindUnchanged {
			dst = binary.BigEndian.AppendUint32(dst, uint32(len(c.Data)))
			dst = append(dst, c.Data...)
		}
	}
	return dst
}
