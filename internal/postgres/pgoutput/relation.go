package pgoutput

import "encoding/binary"

// ReplicaIdentity is what a table writes of the old row into the log.
type ReplicaIdentity uint8

// The replica identities, by the letters of pg_class.relreplident.
const (
	IdentityDefault ReplicaIdentity = 'd' // the primary key
	IdentityFull    ReplicaIdentity = 'f' // the whole row
	IdentityIndex   ReplicaIdentity = 'i' // a chosen unique index
	IdentityNothing ReplicaIdentity = 'n'
)

// Relation describes a table before its first row, and again when it changed.
type Relation struct {
	OID             uint32
	Namespace       string
	Name            string
	ReplicaIdentity ReplicaIdentity
	Columns         []RelationColumn
}

// RelationColumn is one column of a [Relation].
type RelationColumn struct {
	// Identity marks the columns of the replica identity, not of the primary
	// key: under [IdentityFull] every column has it.
	Identity bool
	Name     string
	TypeOID  uint32
	TypeMod  int32
}

// Decode implements [Message].
func (m *Relation) Decode(body []byte) error {
	r := reader{rest: body}
	m.OID = r.uint32()
	m.Namespace = r.string()
	m.Name = r.string()
	m.ReplicaIdentity = ReplicaIdentity(r.uint8())
	// A column takes ten bytes at least: flags, an empty name, type, modifier.
	n := r.count(uint32(r.uint16()), 10)
	m.Columns = make([]RelationColumn, n)
	for i := range m.Columns {
		c := &m.Columns[i]
		c.Identity = r.uint8()&1 != 0
		c.Name = r.string()
		c.TypeOID = r.uint32()
		c.TypeMod = int32(r.uint32())
	}
	return r.finish("Relation")
}

// Encode implements [Message].
func (m *Relation) Encode(dst []byte) []byte {
	dst = binary.BigEndian.AppendUint32(append(dst, 'R'), m.OID)
	dst = appendString(dst, m.Namespace)
	dst = appendString(dst, m.Name)
	dst = append(dst, byte(m.ReplicaIdentity))
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(m.Columns)))
	for _, c := range m.Columns {
		flags := byte(0)
		if c.Identity {
			flags = 1
		}
		dst = appendString(append(dst, flags), c.Name)
		dst = binary.BigEndian.AppendUint32(dst, c.TypeOID)
		dst = binary.BigEndian.AppendUint32(dst, uint32(c.TypeMod))
	}
	return dst
}
