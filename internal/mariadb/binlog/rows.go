package binlog

// Rows is an event with rows of one table.
type Rows struct {
	Table uint64 // the ID of its table map
	Flags uint16
	Kind  RowsKind
	Width int
	// Before and After are bitmaps of the columns that are there: Before of a delete and
	// an update, After of a write and an update.
	Before, After []byte
	// Data is the rows one after the other; see [Rows.Next].
	Data []byte
}

// RowsKind says what happened to the rows.
type RowsKind uint8

// The kinds.
const (
	Write RowsKind = iota
	Update
	Delete
)

// FlagStatementEnd marks the last event of a statement.
const FlagStatementEnd = 1

// DecodeRows reads the body of an event with rows; scratch is room for what is
// compressed, which the result may keep.
func DecodeRows(kind Type, body, scratch []byte) (r Rows, err error) {
	p := &parts{data: body}
	r.Table, r.Flags = p.number(6), uint16(p.number(2))
	compressed, v2 := kind >= TypeWriteCompressedV1, kind >= TypeWriteRows && kind <= TypeDeleteRows || kind >= TypeWriteCompressed
	if v2 {
		more := p.number(2)
		if more < 2 {
			return r, malformed("an event with rows is too short")
		}
		p.sized(more - 2)
	}
	switch kind {
	case TypeUpdateRowsV1, TypeUpdateRows, TypeUpdateCompressedV1, TypeUpdateCompressed:
		r.Kind = Update
	case TypeDeleteRowsV1, TypeDeleteRows, TypeDeleteCompressedV1, TypeDeleteCompressed:
		r.Kind = Delete
	default: // a write
	}
	width := p.length()
	if p.bad || width > MaxColumns {
		return r, malformed("an event with rows is too short, or has more columns than a table can have")
	}
	r.Width = int(width)
	bitmap := p.take((r.Width + 7) / 8)
	switch r.Kind {
	case Write:
		r.After = bitmap
	case Delete:
		r.Before = bitmap
	case Update:
		r.Before, r.After = bitmap, p.take((r.Width+7)/8)
	}
	if p.bad {
		return r, malformed("an event with rows is too short")
	}
	if r.Data = p.data; compressed && len(p.data) > 0 {
		r.Data, err = inflate(scratch[:0], p.data)
	}
	return r, err
}

// Has reports whether a bitmap has a column.
func Has(bitmap []byte, column int) bool { return bitmap[column/8]&(1<<(column%8)) != 0 }

// IsFull reports whether a bitmap has every column.
func IsFull(bitmap []byte, width int) bool {
	for i := range width / 8 {
		if bitmap[i] != 0xFF {
			return false
		}
	}
	if rest := width % 8; rest > 0 {
		return bitmap[width/8]|^byte(1<<rest-1) == 0xFF
	}
	return true
}
