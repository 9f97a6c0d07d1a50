package farend

import (
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"strconv"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/twmb/franz-go/pkg/sasl"
)

// iterations refuses a server's part of SCRAM that would keep us hashing (RFC 5802, section 5.1).
func iterations(challenge []byte) error {
	for part := range bytes.SplitSeq(challenge, []byte(",")) {
		text, is := bytes.CutPrefix(part, []byte("i="))
		if !is {
			continue
		}
		if n, err := strconv.ParseUint(string(text[:min(len(text), 24)]), 10, 64); err != nil || n > MostIterations {
			return nonsense("asks for %s rounds of hashing the password, the limit is %d", text[:min(len(text), 24)], MostIterations)
		}
	}
	return nil
}

// SCRAM is a way to log in of which the server's part is looked at.
func SCRAM(of sasl.Mechanism) sasl.Mechanism { return mechanism{of} }

type mechanism struct{ sasl.Mechanism }

// Authenticate implements [sasl.Mechanism].
func (m mechanism) Authenticate(ctx context.Context, host string) (sasl.Session, []byte, error) {
	s, first, err := m.Mechanism.Authenticate(ctx, host)
	if err != nil {
		return nil, nil, err
	}
	return session{s}, first, nil
}

type session struct{ sasl.Session }

// Challenge implements [sasl.Session].
func (s session) Challenge(said []byte) (done bool, answer []byte, err error) {
	if err := iterations(said); err != nil {
		return false, nil, err
	}
	return s.Session.Challenge(said)
}

// Postgres reads for a session with PostgreSQL. What comes is looked at until the login is done.
func Postgres(r io.Reader, w io.Writer) *pgproto3.Frontend {
	return pgproto3.NewFrontend(&postgres{r: r}, w)
}

// postgres scans messages (section "Message Formats").
type postgres struct {
	r    io.Reader
	in   bool // the login is done
	head []byte
	left int // of the message's body
	body []byte
	kind byte
}

// mostLogin is the length of a message before the login is done, in bytes.
const mostLogin = 64 << 10

// Read implements [io.Reader].
func (p *postgres) Read(into []byte) (int, error) {
	n, err := p.r.Read(into)
	if !p.in {
		if wrong := p.scan(into[:n]); wrong != nil {
			return 0, wrong
		}
	}
	return n, err
}

func (p *postgres) scan(part []byte) error {
	for len(part) > 0 && !p.in {
		if p.left == 0 {
			take := min(5-len(p.head), len(part))
			p.head, part = append(p.head, part[:take]...), part[take:]
			if len(p.head) < 5 {
				return nil
			}
			size := binary.BigEndian.Uint32(p.head[1:])
			if size < 4 || size > mostLogin {
				return nonsense("sends a message of %d bytes before the login is done", size)
			}
			p.kind, p.left, p.head, p.body = p.head[0], int(size)-4, p.head[:0], p.body[:0]
		}
		take := min(p.left, len(part))
		p.body, part, p.left = append(p.body, part[:take]...), part[take:], p.left-take
		if p.left > 0 {
			return nil
		}
		const ready, login, goesOn = 'Z', 'R', 11 // section "Message Formats", AuthenticationSASLContinue
		switch {
		case p.kind == ready:
			p.in, p.body, p.head = true, nil, nil
		case p.kind == login && len(p.body) >= 4 && binary.BigEndian.Uint32(p.body) == goesOn:
			if err := iterations(p.body[4:]); err != nil {
				return err
			}
		}
	}
	return nil
}
