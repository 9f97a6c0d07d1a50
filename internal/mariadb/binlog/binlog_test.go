package binlog

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"encoding/hex"
	"hash/crc32"
	"testing"

	"github.com/stretchr/testify/require"
)

func bytesOf(t testing.TB, text string) []byte {
	b, err := hex.DecodeString(text)
	require.NoError(t, err)
	return b
}

// A table map and rows as a server of version 10.11 writes them, of
// CREATE TABLE lib.u2 (a int unsigned NOT NULL, b varchar(10) NOT NULL, e enum('x','yz'), PRIMARY KEY (b)).
const (
	sampleMap  = "170000000000" + "0100" + "036c696200" + "02753200" + "03" + "030ffe" + "04" + "2800f701" + "04" + "0101" + "80" + "0301" + "2d" + "0406" + "016101620165" + "0606" + "02" + "0178" + "02797a" + "0801" + "01"
	sampleRows = "170000000000" + "0100" + "03" + "07" + "00" + "ffffffff" + "0178" + "02" + "04" + "01000000" + "027979"
)

func TestTableMap(t *testing.T) {
	m, err := DecodeTableMap(bytesOf(t, sampleMap))
	require.NoError(t, err)
	require.Equal(t, &TableMap{ID: 0x17, Flags: 1, Database: "lib", Table: "u2", Full: true, Columns: []Column{
		{Type: ColLong, Name: "a", Unsigned: true}, {Type: ColVarchar, Meta: 40, Name: "b", Collation: 45, Key: 1}, {Type: ColEnum, Meta: 1, Name: "e", Nullable: true, Labels: [][]byte{[]byte("x"), []byte("yz")}}}}, m)
	r, err := DecodeRows(TypeWriteRowsV1, bytesOf(t, sampleRows), nil)
	require.NoError(t, err)
	require.Equal(t, []any{uint64(0x17), 3, Write, true}, []any{r.Table, r.Width, r.Kind, IsFull(r.After, r.Width)})
	require.Len(t, r.Data, 16)
	require.True(t, Has(r.After, 2))
	require.False(t, IsFull([]byte{0xFF, 1}, 10))
}

// TestCompressed: what is compressed is what it was before, and what is damaged is refused.
func TestCompressed(t *testing.T) {
	var packed bytes.Buffer
	z := zlib.NewWriter(&packed)
	_, err := z.Write(bytesOf(t, "00ffffffff0178"))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	head := bytesOf(t, "170000000000"+"0100"+"03"+"07"+"81"+"07")
	r, err := DecodeRows(TypeWriteCompressedV1, append(bytes.Clone(head), packed.Bytes()...), nil)
	require.NoError(t, err)
	require.Equal(t, "00ffffffff0178", hex.EncodeToString(r.Data))
	_, err = DecodeRows(TypeWriteCompressedV1, append(bytes.Clone(head), packed.Bytes()[:8]...), nil)
	require.ErrorIs(t, err, ErrMalformed, "a stream that ends early")
	for _, bad := range []string{"", "00", "85", "8100", "84ffffffff00", "8107"} {
		_, err := inflate(nil, bytesOf(t, bad))
		require.ErrorIs(t, err, ErrMalformed, bad)
	}
}

func TestGroups(t *testing.T) {
	g, err := DecodeGTID(bytesOf(t, "2a00000000000000"+"03000000"+"28"+"000000000000"), 7)
	require.NoError(t, err)
	require.Equal(t, "3-7-42", g.String())
	require.Equal(t, uint8(GroupDDL|8), g.Flags)
	back, err := ParseGTID("3-7-42")
	require.NoError(t, err)
	require.Equal(t, g.GTID, back)
	g, err = DecodeGTID(bytesOf(t, "0100000000000000"+"00000000"+"40"+"01000000"+"0201"+"616263"), 1)
	require.NoError(t, err)
	require.Equal(t, XID{1, "ab", "c"}, g.XID)
	for _, bad := range []string{"", "1-2", "a-1-2", "1-2-3-4", "1--2"} {
		_, err := ParseGTID(bad)
		require.Error(t, err, bad)
	}
	list, err := DecodeGTIDList(bytesOf(t, "02000000"+"00000000"+"01000000"+"0500000000000000"+"03000000"+"02000000"+"0700000000000000"))
	require.NoError(t, err)
	require.Equal(t, []GTID{{0, 1, 5}, {3, 2, 7}}, list)
	_, err = DecodeGTIDList(bytesOf(t, "ffffff0f00"))
	require.ErrorIs(t, err, ErrMalformed, "a count that the event cannot hold")
}

// TestChecksum: an event of which one bit is another is not taken.
func TestChecksum(t *testing.T) {
	event := make([]byte, HeaderSize, 64)
	event = append(event, "body"...)
	event[4] = byte(TypeXid)
	binary.LittleEndian.PutUint32(event[9:], uint32(len(event)+4))
	event = binary.LittleEndian.AppendUint32(event, crc32.ChecksumIEEE(event))
	h, body, err := Split(event, true)
	require.NoError(t, err)
	require.Equal(t, TypeXid, h.Type)
	require.Equal(t, "body", string(body))
	for i := range event {
		event[i] ^= 4
		_, _, err := Split(event, true)
		require.Error(t, err, i)
		event[i] ^= 4
	}
}

func TestQuery(t *testing.T) {
	status := "00" + "00000000" + "01" + "0000200000000000" + "0603737464" + "04" + "080008000800" + "81" + "00"
	body := bytesOf(t, "05000000"+"00000000"+"03"+"0000"+hex.EncodeToString([]byte{byte(len(status) / 2), 0})+status+"6c696200"+hex.EncodeToString([]byte("DROP TABLE a")))
	q, err := DecodeQuery(body, false, nil)
	require.NoError(t, err)
	require.Equal(t, []any{uint32(5), "lib", "DROP TABLE a", uint16(8), uint64(0x200000)}, []any{q.Thread, string(q.Database), string(q.Text), q.Client, q.Mode})
}

// FuzzDecode: whatever the bytes are, a decoder returns, and what it returns lies within
// them.
func FuzzDecode(f *testing.F) {
	for _, seed := range []string{sampleMap, sampleRows, "2a00000000000000030000002800", "0100000000000000000000004001000000020161", "0500000000000000030000000000", "01ffffff", "8102789c"} {
		for kind := range byte(12) {
			f.Add(kind, bytesOf(f, seed))
		}
	}
	f.Fuzz(func(t *testing.T, kind byte, body []byte) {
		switch kind % 12 {
		case 0:
			if m, err := DecodeTableMap(body); err == nil {
				require.LessOrEqual(t, len(m.Columns), MaxColumns)
			}
		case 1, 2, 3:
			r, err := DecodeRows([]Type{TypeWriteRowsV1, TypeUpdateRows, TypeDeleteCompressedV1}[kind%12-1], body, nil)
			if err == nil && r.Width > 0 && r.After != nil {
				IsFull(r.After, r.Width)
				Has(r.After, r.Width-1)
			}
		case 4:
			DecodeGTID(body, 1) //nolint:errcheck // it returns
		case 5:
			list, err := DecodeGTIDList(body)
			require.True(t, err != nil || len(list)*16 <= len(body))
		case 6:
			DecodeQuery(body, false, nil) //nolint:errcheck // it returns
		case 7:
			DecodeQuery(body, true, nil) //nolint:errcheck // it returns
		case 8:
			DecodeRotate(body) //nolint:errcheck // it returns
		case 9:
			DecodeXAPrepare(body) //nolint:errcheck // it returns
		case 10:
			DecodeIncident(body) //nolint:errcheck // it returns
		default:
			DecodeFormatDescription(body) //nolint:errcheck // it returns
			Split(body, true)             //nolint:errcheck // it returns
		}
	})
}
