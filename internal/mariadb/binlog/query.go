package binlog

import "bytes"

// Query is a statement in the log.
type Query struct {
	Thread   uint32
	Error    uint16
	Database []byte // the session's, in UTF-8
	Text     []byte // in the character set of the session's client
	// Mode is the session's sql_mode, Client the number of a collation of its client's
	// character set; zero where they are not known.
	Mode   uint64
	Client uint16
}

// The modes of a session that change how a statement is read, and those in which it fails
// rather than cut values.
const (
	ModeANSIQuotes    = 1 << 2
	ModeNoBackslashes = 1 << 20
	ModeStrict        = 1<<21 | 1<<22
)

// DecodeQuery reads the body of a query event; scratch is room for a compressed text.
func DecodeQuery(body []byte, compressed bool, scratch []byte) (q Query, err error) {
	p := &parts{data: body}
	q.Thread = uint32(p.number(4))
	p.number(4)
	database := p.number(1)
	q.Error = uint16(p.number(2))
	variables := &parts{data: p.sized(p.number(2))}
	q.Database = p.sized(database)
	p.take(1)
	if p.bad {
		return q, malformed("a statement is too short")
	}
	q.status(variables)
	q.Text = p.data
	if compressed {
		if q.Text, err = inflate(scratch[:0], p.data); err != nil {
			return q, err
		}
	}
	q.Text = bytes.TrimRight(q.Text, "\x00")
	return q, nil
}

// status reads the session's variables up to the first that is not known: those of
// interest stand at the front.
func (q *Query) status(p *parts) {
	for len(p.data) > 0 {
		switch code := p.number(1); code {
		case 0: // flags
			p.number(4)
		case 1:
			q.Mode = p.number(8)
		case 2:
			p.sized(p.number(1))
			p.take(1)
		case 3: // auto_increment
			p.number(4)
		case 4:
			q.Client = uint16(p.number(2))
			p.number(4)
		case 5, 6: // time zone, catalog
			p.sized(p.number(1))
		default:
			return
		}
	}
}
