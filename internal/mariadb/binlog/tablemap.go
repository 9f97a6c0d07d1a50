package binlog

// The types of columns, by their codes in the log.
const (
	ColDecimalOld     = 0
	ColTiny           = 1
	ColShort          = 2
	ColLong           = 3
	ColFloat          = 4
	ColDouble         = 5
	ColNull           = 6
	ColTimestamp      = 7
	ColLongLong       = 8
	ColInt24          = 9
	ColDate           = 10
	ColTime           = 11
	ColDateTime       = 12
	ColYear           = 13
	ColNewDate        = 14
	ColVarchar        = 15
	ColBit            = 16
	ColTimestamp2     = 17
	ColDateTime2      = 18
	ColTime2          = 19
	ColBlobCompressed = 140
	ColVarcharCompr   = 141
	ColNewDecimal     = 246
	ColEnum           = 247
	ColSet            = 248
	ColTinyBlob       = 249
	ColMediumBlob     = 250
	ColLongBlob       = 251
	ColBlob           = 252
	ColVarString      = 253
	ColString         = 254
	ColGeometry       = 255
)

// Column is one column as a table map describes it. What stands in the optional metadata
// is zero where the server does not write it.
type Column struct {
	Type byte // one of the Col constants; of a CHAR, ENUM or SET its real one
	// Meta is what the type needs: a length in bytes, precision and scale, decimals.
	Meta     uint16
	Nullable bool

	Name      string
	Unsigned  bool
	Collation uint16 // its number
	Labels    [][]byte
	Geometry  uint8 // the subtype's number
	// Key is the column's place in the key, from 1; 0 for a column outside.
	Key int
	// Prefix is how many characters of it the key has; 0 for all.
	Prefix int
}

// MaxColumns is how many columns a table can have.
const MaxColumns = 4096

// TableMap says which table the rows that follow belong to.
type TableMap struct {
	ID       uint64
	Flags    uint16
	Database string
	Table    string
	Columns  []Column
	// Full is true where the optional metadata is there in full.
	Full bool
}

// DecodeTableMap reads the body of a table map.
func DecodeTableMap(body []byte) (*TableMap, error) {
	p := &parts{data: body}
	m := &TableMap{ID: p.number(6), Flags: uint16(p.number(2))}
	m.Database = string(p.sized(p.number(1)))
	p.take(1)
	m.Table = string(p.sized(p.number(1)))
	p.take(1)
	n := p.length()
	if p.bad || n > MaxColumns {
		return nil, malformed("a table map is too short, or has more columns than a table can have")
	}
	types := p.sized(n)
	meta := &parts{data: p.sized(p.length())}
	nulls := p.take((int(n) + 7) / 8)
	if p.bad {
		return nil, malformed("a table map is too short")
	}
	m.Columns = make([]Column, n)
	for i := range m.Columns {
		c := &m.Columns[i]
		c.Type, c.Nullable = types[i], nulls[i/8]&(1<<(i%8)) != 0
		c.readMeta(meta)
	}
	if meta.bad {
		return nil, malformed("the types in a table map are too short")
	}
	return m, m.optional(p)
}

// readMeta reads what a type needs.
func (c *Column) readMeta(p *parts) {
	switch c.Type {
	case ColFloat, ColDouble, ColTinyBlob, ColBlob, ColMediumBlob, ColLongBlob, ColGeometry, ColTimestamp2, ColDateTime2, ColTime2, ColBlobCompressed:
		c.Meta = uint16(p.number(1))
	case ColVarchar, ColVarcharCompr, ColBit:
		c.Meta = uint16(p.number(2))
	case ColNewDecimal:
		c.Meta = uint16(p.number(1))<<8 | uint16(p.number(1)) // precision, scale
	case ColString, ColEnum, ColSet, ColVarString:
		first, second := p.number(1), p.number(1)
		real := byte(first)
		if first&0x30 != 0x30 { // a CHAR of more than 255 bytes
			second |= ((first & 0x30) ^ 0x30) << 4
			real = byte(first | 0x30)
		}
		c.Type, c.Meta = real, uint16(second)
	}
}
