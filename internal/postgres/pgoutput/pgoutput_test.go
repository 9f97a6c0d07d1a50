package pgoutput

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
)

var text = func(s string) TupleColumn { return TupleColumn{Kind: KindText, Data: []byte(s)} }

// samples holds a message of every type and every shape.
var samples = []Message{
	&Begin{FinalLSN: 0x1A2F48, CommitTime: 816_512_047_512_345, XID: 771},
	&Commit{CommitLSN: 0x1A2F48, EndLSN: 0x1A2F78, CommitTime: -1},
	&Origin{CommitLSN: 9, Name: "branch-office"},
	&Relation{OID: 16400, Namespace: "public", Name: "loans", ReplicaIdentity: IdentityFull, Columns: []RelationColumn{
		{Identity: true, Name: "loan_id", TypeOID: 20, TypeMod: -1}, {Name: "größe", TypeOID: 1700, TypeMod: 524294}}},
	&Relation{OID: 1, ReplicaIdentity: IdentityNothing, Columns: []RelationColumn{}},
	&Type{OID: 16500, Namespace: "public", Name: "loan_state"},
	&Insert{Relation: 16400, New: []TupleColumn{text("118"), {Kind: KindNull}, {Kind: KindBinary, Data: []byte{0, 255}}, text("")}},
	&Update{Relation: 16400, New: []TupleColumn{{Kind: KindUnchanged}}},
	&Update{Relation: 16400, OldKind: OldKey, Old: []TupleColumn{text("1"), {Kind: KindNull}}, New: []TupleColumn{text("2"), {Kind: KindUnchanged}}},
	&Update{Relation: 16400, OldKind: OldRow, Old: []TupleColumn{text("1")}, New: []TupleColumn{text("1")}},
	&Delete{Relation: 16400, OldKind: OldKey, Old: []TupleColumn{text("1")}},
	&Truncate{Flags: 3, Relations: []uint32{1, 2, 3}},
	&LogicalMessage{Transactional: true, LSN: 77, Prefix: "audit", Content: []byte("x\x00y")},
	&LogicalMessage{LSN: 78, Prefix: "", Content: []byte{}},
}

func TestEveryMessageSurvivesARoundTrip(t *testing.T) {
	var d Decoder
	for _, want := range samples {
		encoded := want.Encode(nil)
		got, err := d.Decode(encoded)
		require.NoError(t, err, "%T", want)
		require.Equal(t, want, got, "%T", want)
		// Each shorter prefix must be refused, and so must a byte too many.
		for n := range len(encoded) {
			_, err := d.Decode(encoded[:n])
			require.Error(t, err, "%T cut to %d bytes", want, n)
		}
		_, err = d.Decode(append(encoded, 0))
		require.Error(t, err, "%T with a byte too many", want)
	}
}

func TestACountIsCheckedBeforeItIsBelieved(t *testing.T) {
	var d Decoder
	for _, data := range [][]byte{
		{'I', 0, 0, 0, 1, 'N', 0xff, 0xff},
		{'I', 0, 0, 0, 1, 'N', 0, 1, 't', 0xff, 0xff, 0xff, 0xff},
		{'T', 0xff, 0xff, 0xff, 0xff, 0},
		{'M', 0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0xff, 0xff, 0xff, 0xff},
		{'R', 0, 0, 0, 1, 0, 0, 'd', 0xff, 0xff},
	} {
		_, err := d.Decode(data)
		require.ErrorIs(t, err, ErrTruncated)
	}
	_, err := d.Decode([]byte{'Z'})
	require.ErrorContains(t, err, "unknown type")
}

func TestDecodingARowAllocatesNothing(t *testing.T) {
	var d Decoder
	row := (&Update{Relation: 1, OldKind: OldRow, Old: []TupleColumn{text("1"), text("2")}, New: []TupleColumn{text("1"), text("3")}}).Encode(nil)
	allocations := testing.AllocsPerRun(100, func() {
		if _, err := d.Decode(row); err != nil {
			t.Fatal(err)
		}
	})
	require.Zero(t, allocations)
}

// FuzzDecode holds that whatever decodes encodes to the same bytes, but for the
// flag bytes, of which only the documented bits are kept.
func FuzzDecode(f *testing.F) {
	for _, m := range samples {
		f.Add(m.Encode(nil))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var d Decoder
		m, err := d.Decode(data)
		if err != nil {
			return
		}
		first := m.Encode(nil)
		again, err := new(Decoder).Decode(first)
		require.NoError(t, err)
		require.True(t, bytes.Equal(first, again.Encode(nil)))
	})
}
