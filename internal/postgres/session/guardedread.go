package session

import (
	"encoding/binary"
	"fmt"
	"io"

	"rillmark/internal/postgres/wire"
)

// GuardedRead follows the protocol's messages as a session reads them, and ends the
// session at one that is larger than its kind can need: what a server says beside its
// rows may not cost what a row may.
type GuardedRead struct {
	R    io.Reader
	head []byte // of the next message, as far as it has come
	left int64  // of the body under way
	err  error
}

// bulky reports whether a message of the kind brings rows, or what they are made of.
func bulky(kind byte) bool { return kind == 'D' || kind == 'd' || kind == 'T' || kind == 't' }

func (g *GuardedRead) Read(p []byte) (int, error) {
	if g.err != nil {
		return 0, g.err
	}
	n, err := g.R.Read(p)
	for rest := p[:n]; len(rest) > 0; {
		if g.left > 0 {
			skip := min(g.left, int64(len(rest)))
			rest, g.left = rest[skip:], g.left-skip
			continue
		}
		take := min(5-len(g.head), len(rest))
		g.head, rest = append(g.head, rest[:take]...), rest[take:]
		if len(g.head) < 5 {
			continue
		}
		kind, size := g.head[0], int64(binary.BigEndian.Uint32(g.head[1:]))-4
		g.head = g.head[:0]
		if size < 0 || size > wire.MaxFrame || size > wire.MaxNotice && !bulky(kind) {
			g.err = fmt.Errorf("the server sends a message of kind %q and %d bytes, more than any such message needs", kind, size)
			return 0, g.err
		}
		g.left = size
	}
	return n, err
}
