package wire

import (
	"bytes"
	"encoding/binary"
	"net"
	"testing"

	"rillmark/internal/postgres/pgoutput"
)

// FuzzLargeRow holds that a row that is taken apart as it comes is the row that was
// sent, but for values beyond the bound, which keep their size; and that a damaged
// one is refused.
func FuzzLargeRow(f *testing.F) {
	insert := func(columns ...pgoutput.TupleColumn) []byte {
		return (&pgoutput.Insert{Relation: 7, New: columns}).Encode(nil)
	}
	text := func(n int) pgoutput.TupleColumn {
		return pgoutput.TupleColumn{Kind: pgoutput.KindText, Data: bytes.Repeat([]byte("x"), n)}
	}
	f.Add(insert(text(3), text(99), pgoutput.TupleColumn{Kind: pgoutput.KindNull}, text(0)))
	f.Add((&pgoutput.Update{Relation: 7, OldKind: pgoutput.OldRow, Old: []pgoutput.TupleColumn{text(50), text(1)}, New: []pgoutput.TupleColumn{{Kind: pgoutput.KindUnchanged}, {Kind: pgoutput.KindBinary, Data: make([]byte, 40)}}}).Encode(nil))
	f.Add((&pgoutput.Delete{Relation: 7, Old: []pgoutput.TupleColumn{text(200)}}).Encode(nil))
	f.Add([]byte("I\x00\x00\x00\x07N\x00\x01t\xff\xff\xff\xff"))
	const largest = 16
	f.Fuzz(func(t *testing.T, message []byte) {
		if len(message) == 0 {
			return
		}
		header := append([]byte{'w'}, make([]byte, 24)...)
		sent := append(header, message...)
		far, near := net.Pipe()
		far.Close() //nolint:errcheck // all that comes is in rest
		frames := NewFrames(&Conn{Conn: near, rest: sent}, largest)
		got, err := frames.big(int64(len(sent)))
		if err != nil {
			return
		}
		var want, came pgoutput.Decoder
		before, err := want.Decode(message)
		if err != nil {
			return // whoever decodes it is told
		}
		wanted := rowsOf(before)
		after, err := came.Decode(got[len(header):])
		if err != nil {
			t.Fatalf("%q was sent whole and came as %q: %v", message, got, err)
		}
		for i, c := range rowsOf(after) {
			w := wanted[i]
			switch {
			case c.Kind == pgoutput.KindTooLarge && w.Kind != pgoutput.KindTooLarge:
				if size := binary.BigEndian.Uint64(c.Data[1:]); c.Data[0] != byte(w.Kind) || size != uint64(len(w.Data)) || size <= largest {
					t.Fatalf("column %d of %d bytes is told as %q", i, len(w.Data), c.Data)
				}
			case c.Kind != w.Kind || !bytes.Equal(c.Data, w.Data):
				t.Fatalf("column %d was %c %q and came as %c %q", i, w.Kind, w.Data, c.Kind, c.Data)
			}
		}
	})
}

// rowsOf are a message's columns, old row before new.
func rowsOf(m pgoutput.Message) []pgoutput.TupleColumn {
	switch m := m.(type) {
	case *pgoutput.Insert:
		return m.New
	case *pgoutput.Update:
		return append(append([]pgoutput.TupleColumn(nil), m.Old...), m.New...)
	case *pgoutput.Delete:
		return m.Old
	}
	return nil
}
