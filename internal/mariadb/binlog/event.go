package binlog

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
)

// Type is an event's type code.
type Type uint8

// The types that a server of today writes or sends.
const (
	TypeQuery              Type = 2
	TypeStop               Type = 3
	TypeRotate             Type = 4
	TypeIntvar             Type = 5
	TypeRand               Type = 13
	TypeUserVar            Type = 14
	TypeFormatDescription  Type = 15
	TypeXid                Type = 16
	TypeBeginLoadQuery     Type = 17
	TypeExecuteLoadQuery   Type = 18
	TypeTableMap           Type = 19
	TypeWriteRowsV1        Type = 23
	TypeUpdateRowsV1       Type = 24
	TypeDeleteRowsV1       Type = 25
	TypeIncident           Type = 26
	TypeHeartbeat          Type = 27
	TypeIgnorable          Type = 28
	TypeWriteRows          Type = 30
	TypeUpdateRows         Type = 31
	TypeDeleteRows         Type = 32
	TypeXAPrepare          Type = 38
	TypeAnnotateRows       Type = 160
	TypeCheckpoint         Type = 161
	TypeGTID               Type = 162
	TypeGTIDList           Type = 163
	TypeStartEncryption    Type = 164
	TypeQueryCompressed    Type = 165
	TypeWriteCompressedV1  Type = 166
	TypeUpdateCompressedV1 Type = 167
	TypeDeleteCompressedV1 Type = 168
	TypeWriteCompressed    Type = 169
	TypeUpdateCompressed   Type = 170
	TypeDeleteCompressed   Type = 171
)

// HeaderSize is the size of an event's header in bytes.
const HeaderSize = 19

// The flags of a header.
const (
	// FlagArtificial marks an event that is not in the file: it was made for the reader.
	FlagArtificial = 0x20
	// FlagIgnorable marks an event that a reader who does not know it may skip.
	FlagIgnorable = 0x80
)

// Header is what every event begins with.
type Header struct {
	Time   uint32 // seconds since 1970-01-01 UTC
	Type   Type
	Server uint32
	Size   uint32
	// End is where the next event begins in the file, modulo 4 GiB; 0 where that is not
	// known.
	End   uint32
	Flags uint16
}

// ErrMalformed is an event that is not what its type says.
var ErrMalformed = errors.New("the event is malformed")

// ErrChecksum is an event whose bytes are not those that were written.
var ErrChecksum = errors.New("the event's checksum is wrong")

func malformed(what string) error { return fmt.Errorf("%w: %s", ErrMalformed, what) }

// Split takes an event apart; with checksum, its last four bytes are one and are checked.
func Split(event []byte, checksum bool) (h Header, body []byte, err error) {
	if len(event) < HeaderSize {
		return h, nil, malformed("it is shorter than a header")
	}
	h = Header{Time: binary.LittleEndian.Uint32(event), Type: Type(event[4]), Server: binary.LittleEndian.Uint32(event[5:]),
		Size: binary.LittleEndian.Uint32(event[9:]), End: binary.LittleEndian.Uint32(event[13:]), Flags: binary.LittleEndian.Uint16(event[17:])}
	if uint64(h.Size) != uint64(len(event)) {
		return h, nil, malformed(fmt.Sprintf("it says that it has %d bytes, and has %d", h.Size, len(event)))
	}
	if !checksum {
		return h, event[HeaderSize:], nil
	}
	n := len(event) - 4
	if n < HeaderSize {
		return h, nil, malformed("it has no room for its checksum")
	}
	if crc32.ChecksumIEEE(event[:n]) != binary.LittleEndian.Uint32(event[n:]) {
		return h, nil, ErrChecksum
	}
	return h, event[HeaderSize:n], nil
}

// IsRows reports whether a type is one of those that carry rows.
func (t Type) IsRows() bool {
	return t >= TypeWriteRowsV1 && t <= TypeDeleteRowsV1 || t >= TypeWriteRows && t <= TypeDeleteRows || t >= TypeWriteCompressedV1 && t <= TypeDeleteCompressed
}

// parts reads the parts of a body. Once something is missing, all further reads are zero
// and bad is true.
type parts struct {
	data []byte
	bad  bool
}

func (p *parts) take(n int) []byte {
	if n < 0 || n > len(p.data) {
		p.bad, p.data = true, nil
		return nil
	}
	taken := p.data[:n:n]
	p.data = p.data[n:]
	return taken
}

func (p *parts) number(n int) uint64 {
	var v uint64
	for i, b := range p.take(n) {
		v |= uint64(b) << (8 * i)
	}
	return v
}

// length is a length-encoded integer.
func (p *parts) length() uint64 {
	switch first := p.number(1); first {
	case 0xFB, 0xFF:
		p.bad = true
		return 0
	case 0xFC:
		return p.number(2)
	case 0xFD:
		return p.number(3)
	case 0xFE:
		return p.number(8)
	default:
		return first
	}
}

// sized is as many bytes as a length says that stands before them.
func (p *parts) sized(n uint64) []byte {
	if n > uint64(len(p.data)) {
		p.bad, p.data = true, nil
		return nil
	}
	return p.take(int(n))
}
