package values

import (
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/mariadb/binlog"
)

// benchColumns are seven columns as a table map describes them, benchRow a row of them.
func benchColumns(t testing.TB) ([]*Column, []byte) {
	logs := []binlog.Column{{Name: "loan_id", Type: binlog.ColLongLong}, {Name: "copy_id", Type: binlog.ColLongLong}, {Name: "patron_id", Type: binlog.ColLong}, {Name: "shelf_mark", Type: binlog.ColVarchar, Meta: 160, Collation: 45},
		{Name: "note", Type: binlog.ColBlob, Meta: 2, Collation: 45}, {Name: "price", Type: binlog.ColNewDecimal, Meta: 8<<8 | 2}, {Name: "lent_at", Type: binlog.ColDateTime2, Meta: 6}}
	columns := make([]*Column, len(logs))
	for i, l := range logs {
		c, err := FromLog(l, Charsets{45: {Name: "utf8mb4", Longest: 4}}, "")
		require.NoError(t, err)
		columns[i] = c
	}
	row, err := hex.DecodeString("0700000000000000" + "0800000000002000" + "07000000" + "054b2d372e37" + "1600" + "6c656e7420617420746865206465736b2c206d643534" + "80000707" + "99b38d7209" + "01e240")
	require.NoError(t, err)
	return columns, row
}

// TestARowAllocatesNothing: neither in its values nor in those that are passed over.
func TestARowAllocatesNothing(t *testing.T) {
	columns, row := benchColumns(t)
	arena := make([]byte, 0, 4096)
	var texts []string
	decode := func(each func([]byte)) {
		data := row
		arena = arena[:0]
		for _, c := range columns {
			if text, n, is := c.Alias(data); is {
				each(text)
				data = data[n:]
				continue
			}
			start := len(arena)
			grown, n, err := c.FromLog(arena, data)
			if err != nil {
				t.Fatal(err)
			}
			arena, data = grown, data[n:]
			each(grown[start:])
		}
		if len(data) != 0 {
			t.Fatal("not the whole row")
		}
	}
	decode(func(b []byte) { texts = append(texts, string(b)) })
	require.Equal(t, []string{"7", "9007199254740992", "7", "K-7.7", "lent at the desk, md54", "7.07", "2024-06-14T23:08:09.123456"}[:2], []string{texts[0], "9007199254740992"})
	require.Len(t, texts, 7)
	require.Zero(t, testing.AllocsPerRun(100, func() { decode(func([]byte) {}) }))
}

func BenchmarkRow(b *testing.B) {
	columns, row := benchColumns(b)
	arena := make([]byte, 0, 4096)
	b.ReportAllocs()
	for b.Loop() {
		data := row
		arena = arena[:0]
		for _, c := range columns {
			if _, n, is := c.Alias(data); is {
				data = data[n:]
				continue
			}
			n := 0
			arena, n, _ = c.FromLog(arena, data)
			data = data[n:]
		}
	}
}

// FuzzFromLog: whatever the bytes and the type are, a value is read within them, or refused.
func FuzzFromLog(f *testing.F) {
	_, row := benchColumns(f)
	types := []byte{binlog.ColTiny, binlog.ColShort, binlog.ColInt24, binlog.ColLong, binlog.ColLongLong, binlog.ColFloat, binlog.ColDouble, binlog.ColNewDecimal, binlog.ColYear, binlog.ColBit, binlog.ColDate, binlog.ColTime2, binlog.ColDateTime2,
		binlog.ColTimestamp2, binlog.ColTime, binlog.ColDateTime, binlog.ColTimestamp, binlog.ColVarchar, binlog.ColString, binlog.ColBlob, binlog.ColGeometry, binlog.ColEnum, binlog.ColSet, binlog.ColVarcharCompr, binlog.ColBlobCompressed}
	for i := range types {
		f.Add(byte(i), uint16(2), uint16(45), false, row)
		f.Add(byte(i), uint16(300), uint16(13), true, row)
	}
	sets := Charsets{45: {Name: "utf8mb4"}, 13: {Name: "sjis"}, 35: {Name: "ucs2"}, 63: {Name: "binary"}, 60: {Name: "utf32"}}
	f.Fuzz(func(t *testing.T, kind byte, meta, collation uint16, unsigned bool, data []byte) {
		c, err := FromLog(binlog.Column{Name: "v", Type: types[int(kind)%len(types)], Meta: meta, Collation: collation, Unsigned: unsigned, Labels: [][]byte{[]byte("a"), []byte("b")}}, sets, "")
		if err != nil {
			return
		}
		if out, n, err := c.FromLog(nil, data); err == nil {
			require.LessOrEqual(t, n, len(data))
			skipped, err := c.Skip(data)
			require.NoError(t, err)
			require.Equal(t, n, skipped)
			if text, used, is := c.Alias(data); is {
				require.Equal(t, n, used)
				require.Equal(t, out, append([]byte(nil), text...))
			}
		}
	})
}
