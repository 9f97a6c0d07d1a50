package postgres

import (
	"encoding/json"
	"reflect"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/capture/load"
	"rillmark/internal/capture/rows"
	"rillmark/internal/change"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/chunk"
	"rillmark/internal/postgres/loads"
	"rillmark/internal/postgres/pgoutput"
	"rillmark/internal/postgres/session"
)

func TestPositionsAreOrderedAsTheStreamIs(t *testing.T) {
	inOrder := []position{
		{Commit: 10, Kind: kindMessage},
		{Commit: 20, Kind: kindMessage}, // a message may carry the LSN of the commit that follows it
		{Commit: 20, Kind: kindTransaction, Row: 12},
		{Commit: 20, Kind: kindTransaction, Row: 12, Ordinal: 1}, // the rows of one COPY share their LSN
		{Commit: 20, Kind: kindTransaction, Row: 15},
		{Commit: 20, Kind: kindTransaction, Row: rowEnd},
		{Commit: 30, Kind: kindTransaction, Row: 11}, // an earlier row of a later commit
	}
	for i, p := range inOrder {
		for j, q := range inOrder {
			require.Equal(t, i > j, p.after(q), "%v after %v", p, q)
		}
	}
	want := checkpoint{System: "7", Timeline: 1, Position: inOrder[3], Nonce: "n", NonceCommit: 0x100000001, Unseen: map[string][]uint32{"public.loans": {4294967295}}}
	got, err := parseCheckpoint(want.encode())
	require.NoError(t, err)
	require.Equal(t, want, *got)
	for _, wrong := range []string{"", "1", "x/1", "1/", "123456789/0"} {
		_, err := session.ParseLSN(wrong)
		require.Error(t, err, wrong)
	}
	require.Equal(t, "1/1", session.LSN(0x100000001).String())
}

// TestACheckpointIsWritten: what is written by hand is what the library writes, field by field.
func TestACheckpointIsWritten(t *testing.T) {
	full := checkpoint{System: "7312345678901234567", Timeline: 3, Position: position{Commit: 0xA_00000001, Kind: kindTransaction, Row: rowEnd, Ordinal: 4294967295},
		Index: 1<<64 - 1, XID: 4294967295, CommittedAt: -5, Nonce: "3f2a-9B", NonceCommit: 0xFFFFFFFF_FFFFFFFF}
	all := []checkpoint{{}, full}
	for i := range reflect.TypeFor[checkpoint]().NumField() { // each field alone, and all but that
		alone, without := checkpoint{}, full
		reflect.ValueOf(&alone).Elem().Field(i).Set(reflect.ValueOf(full).Field(i))
		reflect.ValueOf(&without).Elem().Field(i).SetZero()
		all = append(all, alone, without)
	}
	all = append(all, checkpoint{System: `a"b`}, checkpoint{Nonce: "<é>"}, checkpoint{Binary: true}, checkpoint{BinaryUntil: 7}, checkpoint{Making: true}, checkpoint{Unseen: map[string][]uint32{"public.loans": {1}}})
	require.Equal(t, 12, reflect.TypeFor[checkpoint]().NumField(), "a new field has to be written, too, and tried here")
	for _, c := range all {
		want, err := json.Marshal(&c)
		require.NoError(t, err)
		require.Equal(t, string(want), string(c.encode()))
	}
}

func TestASnapshotSeesWhatItSees(t *testing.T) {
	s, err := chunk.ParseSnapshot("100:110:100,105")
	require.NoError(t, err)
	for xid, want := range map[uint32]bool{99: true, 100: false, 101: true, 105: false, 109: true, 110: false, 111: false} {
		require.Equal(t, want, s.Sees(xid), "transaction %d", xid)
	}
	// The stream carries 32 bits of a transaction's 64: the nearest is meant.
	s, err = chunk.ParseSnapshot("8589934600:8589934610:8589934605")
	require.NoError(t, err)
	for xid, want := range map[uint32]bool{7: true, 13: false, 17: true, 18: false, 4294967295: true} {
		require.Equal(t, want, s.Sees(xid), "transaction %d in the third epoch", xid)
	}
	for _, wrong := range []string{"", "1:2", "a:2:", "1:b:", "1:2:x"} {
		_, err := chunk.ParseSnapshot(wrong)
		require.Error(t, err, wrong)
	}
}

// TestAChunkIsLaidOver goes through what can come between a chunk's marks from a
// transaction that its snapshot did not see.
func TestAChunkIsLaidOver(t *testing.T) {
	schema := change.NewSchema(change.PostgreSQL, "public.loans", []change.Column{{Name: "id", Rule: change.RuleInteger, Key: 1}, {Name: "note", Rule: change.RuleText}, {Name: "essay", Rule: change.RuleText}}, nil, false)
	row := func(values ...string) []change.Value {
		image := make([]change.Value, len(values))
		for i, v := range values {
			if v != "omitted" {
				image[i] = change.Of(v)
			}
		}
		return image
	}
	key := func(id string) string { return change.RowKey([]change.Value{change.Of(id)}) }
	seen := chunk.Snapshot{Xmin: 10, Xmax: 20, Running: []uint64{12}}
	read := &chunk.Rows{Layout: &catalogue.Layout{Layout: &rows.Layout{Schema: schema}}, Seen: seen, Rows: [][]change.Value{row("1", "a", "A"), row("2", "b", "B"), row("3", "c", "C"), row("4", "d", "D")}}
	of := func(xid uint32, was, is string, after []change.Value) loads.Overlaid {
		return loads.Overlaid{Change: load.Change{Was: was, Is: is, After: after}, Xid: xid}
	}
	got := loads.LayOver(read, []loads.Overlaid{
		of(11, key("1"), "", nil), // seen: the chunk has it already
		of(12, key("2"), key("2"), row("2", "later", "omitted")),
		of(25, key("3"), "", nil),
		of(26, "", key("3"), row("3", "again", "again")), // its own event is all there is to it
		of(25, key("4"), key("40"), row("40", "d", "omitted")),
		of(26, key("40"), key("40"), row("40", "moved", "omitted")),
		of(26, key("99"), key("99"), row("99", "elsewhere", "x")),
	})
	require.Equal(t, [][]change.Value{row("1", "a", "A"), row("2", "later", "B"), row("40", "moved", "D")}, got)
}

// TestKeysAreReadAgainUntilTheirRowsAreThere goes through what can be asked for
// while keys are being read again.
func TestKeysAreReadAgainUntilTheirRowsAreThere(t *testing.T) {
	schema := change.NewSchema(change.PostgreSQL, "public.shelves", []change.Column{{Name: "mark", Rule: change.RuleText, Key: 1}, {Name: "essay", Rule: change.RuleText}}, nil, false)
	from := &catalogue.Layout{Layout: &rows.Layout{Schema: schema, From: []int{0, 1}}}
	ask := func(l *loads.TableLoad, was, now string) bool {
		tuple := func(mark string) []pgoutput.TupleColumn {
			return []pgoutput.TupleColumn{{Kind: pgoutput.KindText, Data: []byte(mark)}, {Kind: pgoutput.KindUnchanged}}
		}
		if was == "" {
			return l.ReadAgain(from, nil, tuple(now), []change.Value{change.Of(now), {}})
		}
		return l.ReadAgain(from, tuple(was), tuple(now), []change.Value{change.Of(now), {}})
	}
	l := &loads.TableLoad{Progress: loads.Progress{Task: load.Task{Began: true}, By: loads.ByRange, Pieces: []chunk.Piece{{}}}}
	require.True(t, ask(l, "", "a"))
	require.False(t, ask(l, "", "a"), "it waits already")
	require.True(t, ask(l, "x", "b"), "while there are pieces, any row may be missing")
	l.Progress.Read, l.Progress.Pieces = true, nil
	require.False(t, ask(l, "y", "z"), "a row that does not wait is there whole")
	require.False(t, ask(l, "", "z"))
	require.True(t, ask(l, "b", "c"), "a row that waits is asked for under its new key")
	require.Equal(t, [][]string{{"a"}, {"b"}, {"c"}}, l.Progress.Keys)

	l.Asked = make(map[string][]string) // a, b and c are being read
	require.True(t, ask(l, "b", "d"))
	require.False(t, ask(l, "a", "b"), "another row has come under a key that is being read")
	l.HaveRead([][]string{{"a"}, {"b"}, {"c"}}, schema, [][]change.Value{{change.Of("d"), change.Of("whole")}, {change.Of("c"), change.Of("whole")}})
	require.Equal(t, [][]string{{"b"}}, l.Progress.Keys, "no row was found under it: it is read once more")
	require.Nil(t, l.Asked)
}
