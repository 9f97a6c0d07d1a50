package binlog

// The fields of a table map's optional metadata.
const (
	metaSignedness     = 1
	metaDefaultCharset = 2
	metaColumnCharset  = 3
	metaNames          = 4
	metaSetLabels      = 5
	metaEnumLabels     = 6
	metaGeometry       = 7
	metaKey            = 8
	metaKeyPrefix      = 9
	metaLabelDefault   = 10
	metaLabelCharset   = 11
)

// optional reads what comes behind the fixed part.
func (m *TableMap) optional(p *parts) error {
	for len(p.data) > 0 {
		kind := p.number(1)
		f := &parts{data: p.sized(p.length())}
		if p.bad {
			return malformed("the metadata of a table map is too short")
		}
		switch kind {
		case metaSignedness:
			m.signedness(f)
		case metaDefaultCharset:
			m.defaultCharset(f, (*Column).hasCharset)
		case metaColumnCharset:
			m.columnCharset(f, (*Column).hasCharset)
		case metaNames:
			m.Full = true
			for i := range m.Columns {
				m.Columns[i].Name = string(f.sized(f.length()))
			}
		case metaSetLabels:
			m.labels(f, ColSet)
		case metaEnumLabels:
			m.labels(f, ColEnum)
		case metaGeometry:
			for i := range m.Columns {
				if m.Columns[i].Type == ColGeometry {
					m.Columns[i].Geometry = uint8(f.length())
				}
			}
		case metaKey, metaKeyPrefix:
			m.key(f, kind == metaKeyPrefix)
		case metaLabelDefault:
			m.defaultCharset(f, (*Column).hasLabels)
		case metaLabelCharset:
			m.columnCharset(f, (*Column).hasLabels)
		}
		if f.bad {
			return malformed("the metadata of a table map is too short")
		}
	}
	return nil
}

// isNumber reports whether the metadata has a bit on the column's sign.
func (c *Column) isNumber() bool {
	switch c.Type {
	case ColTiny, ColShort, ColLong, ColLongLong, ColInt24, ColFloat, ColDouble, ColNewDecimal, ColYear:
		return true
	}
	return false
}

func (c *Column) hasCharset() bool {
	switch c.Type {
	case ColVarchar, ColVarString, ColString, ColTinyBlob, ColBlob, ColMediumBlob, ColLongBlob, ColGeometry, ColBlobCompressed, ColVarcharCompr:
		return true
	}
	return false
}

func (c *Column) hasLabels() bool { return c.Type == ColEnum || c.Type == ColSet }

func (m *TableMap) signedness(f *parts) {
	at := 0
	for i := range m.Columns {
		if !m.Columns[i].isNumber() {
			continue
		}
		if at/8 >= len(f.data) {
			f.bad = true
			return
		}
		m.Columns[i].Unsigned = f.data[at/8]&(0x80>>(at%8)) != 0
		at++
	}
}

// defaultCharset is one collation for all, and pairs of index and collation for others.
func (m *TableMap) defaultCharset(f *parts, counts func(*Column) bool) {
	standard := uint16(f.length())
	others := make(map[uint64]uint16)
	for len(f.data) > 0 {
		index := f.length()
		others[index] = uint16(f.length())
	}
	at := uint64(0)
	for i := range m.Columns {
		if !counts(&m.Columns[i]) {
			continue
		}
		m.Columns[i].Collation = standard
		if other, is := others[at]; is {
			m.Columns[i].Collation = other
		}
		at++
	}
}

func (m *TableMap) columnCharset(f *parts, counts func(*Column) bool) {
	for i := range m.Columns {
		if counts(&m.Columns[i]) {
			m.Columns[i].Collation = uint16(f.length())
		}
	}
}

func (m *TableMap) labels(f *parts, kind byte) {
	for i := range m.Columns {
		if m.Columns[i].Type != kind {
			continue
		}
		n := f.length()
		if n > uint64(len(f.data)) {
			f.bad = true
			return
		}
		m.Columns[i].Labels = make([][]byte, n)
		for j := range m.Columns[i].Labels {
			m.Columns[i].Labels[j] = append([]byte(nil), f.sized(f.length())...)
		}
	}
}

func (m *TableMap) key(f *parts, prefixes bool) {
	for place := 1; len(f.data) > 0; place++ {
		i := f.length()
		if i >= uint64(len(m.Columns)) {
			f.bad = true
			return
		}
		m.Columns[i].Key = place
		if prefixes {
			m.Columns[i].Prefix = int(f.length())
		}
	}
}
