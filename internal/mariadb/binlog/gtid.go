package binlog

import (
	"fmt"
	"strconv"
	"strings"
)

// GTID is the permanent name of a group of events: a domain, the server that wrote it
// first, and its number in the domain.
type GTID struct {
	Domain   uint32
	Server   uint32
	Sequence uint64
}

// String is the name as the server writes it: 0-1-42.
func (g GTID) String() string {
	var b [44]byte
	text := append(strconv.AppendUint(b[:0], uint64(g.Domain), 10), '-')
	text = append(strconv.AppendUint(text, uint64(g.Server), 10), '-')
	return string(strconv.AppendUint(text, g.Sequence, 10))
}

// ParseGTID reads what String wrote.
func ParseGTID(text string) (g GTID, err error) {
	parts := strings.Split(strings.TrimSpace(text), "-")
	if len(parts) != 3 {
		return g, fmt.Errorf("%q is no GTID: it looks like 0-1-42", text)
	}
	domain, err1 := strconv.ParseUint(parts[0], 10, 32)
	server, err2 := strconv.ParseUint(parts[1], 10, 32)
	sequence, err3 := strconv.ParseUint(parts[2], 10, 64)
	if err1 != nil || err2 != nil || err3 != nil {
		return g, fmt.Errorf("%q is no GTID: it looks like 0-1-42", text)
	}
	return GTID{uint32(domain), uint32(server), sequence}, nil
}

// The flags of a [Group].
const (
	GroupStandalone  = 1 << 0 // one statement, without an event at its end
	GroupCommitID    = 1 << 1
	GroupDDL         = 1 << 5
	GroupXAPrepare   = 1 << 6
	GroupXACompleted = 1 << 7
)

// The extra flags of a [Group]: where in an ALTER in two steps it stands.
const (
	AlterStart    = 1 << 1
	AlterCommit   = 1 << 2
	AlterRollback = 1 << 3
)

// XID is the name of a distributed transaction (X/Open XA).
type XID struct {
	Format    uint32
	Global    string
	Qualifier string
}

// Group is the event that opens a group.
type Group struct {
	GTID
	Flags uint8
	Extra uint8
	// XID is there with GroupXAPrepare and GroupXACompleted.
	XID XID
}

// DecodeGTID reads the body of a GTID event of a server.
func DecodeGTID(body []byte, server uint32) (g Group, err error) {
	p := &parts{data: body}
	g.Sequence, g.Domain, g.Server = p.number(8), uint32(p.number(4)), server
	g.Flags = uint8(p.number(1))
	if p.bad {
		return g, malformed("a GTID is too short")
	}
	if g.Flags&GroupCommitID != 0 {
		p.number(8)
	}
	if g.Flags&(GroupXAPrepare|GroupXACompleted) != 0 {
		g.XID.Format = uint32(p.number(4))
		global, qualifier := int(p.number(1)), int(p.number(1))
		g.XID.Global, g.XID.Qualifier = string(p.take(global)), string(p.take(qualifier))
	}
	if p.bad {
		return g, malformed("a GTID is too short")
	}
	if len(p.data) > 0 {
		g.Extra = uint8(p.number(1))
	}
	return g, nil
}
