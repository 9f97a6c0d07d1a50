package foreign

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/hamba/avro/v2"
	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/require"
)

// spent is what a call takes of memory in all, in MiB.
func spent(call func()) uint64 {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	call()
	runtime.ReadMemStats(&after)
	return (after.TotalAlloc - before.TotalAlloc) >> 20
}

// TestSchemasThatNobodyCanMean: what a library would believe costs nothing.
func TestSchemasThatNobodyCanMean(t *testing.T) {
	fields := func(n int) string {
		all := make([]string, n)
		for i := range all {
			all[i] = fmt.Sprintf(`{"name":"f%d","type":"int"}`, i)
		}
		return `{"type":"record","name":"r","fields":[` + strings.Join(all, ",") + `]}`
	}
	_, err := avro.Parse(fields(2000))
	require.NoError(t, err)
	require.NoError(t, AvroSchema([]byte(fields(2000))))
	for text, says := range map[string]string{
		`{"type":"fixed","name":"f","size":100000000000}`: "a fixed of 100000000000 bytes",
		`{"type":"fixed","name":"f","size":1e30}`:         "a fixed of 1e30 bytes",
		fields(100_000): "parts",
		fields(200_000): "KiB",
		strings.Repeat(`{"type":"array","items":`, 300) + `"int"` + strings.Repeat("}", 300): "nested more than 200 deep",
		`{"type":`: "EOF",
	} {
		require.Less(t, spent(func() { err = AvroSchema([]byte(text)) }), uint64(100))
		require.ErrorContains(t, err, says)
	}

	file := func(footer []byte) *bytes.Reader {
		return bytes.NewReader(append(binary.LittleEndian.AppendUint32(append([]byte("PAR1"), footer...), uint32(len(footer))), "PAR1"...))
	}
	schema := func(n int, children byte) []byte { // version 1, and a list of elements
		footer := append([]byte{0x15, 2, 0x19, 0xFC}, binary.AppendUvarint(nil, uint64(n))...)
		for range n {
			footer = append(footer, 0x48, 1, 'g', 0x15, children<<1, 0) // its name, and its children
		}
		return append(footer, 0)
	}
	for says, footer := range map[string][]byte{
		"":                                    schema(100, 0),
		"a list of 2147483648 elements":       append([]byte{0x15, 2, 0x19, 0xFC}, binary.AppendUvarint(nil, 1<<31)...),
		"of 200000 columns and groups":        schema(200_000, 1),
		"nested more than 200 deep":           schema(5000, 1),
		"is damaged":                          {0x15},
		"footer is nested more than 200 deep": bytes.Repeat([]byte{0x1C}, 1000),
	} {
		in := file(footer)
		require.Less(t, spent(func() { err = ParquetFooter(in, in.Size()) }), uint64(100))
		if says == "" {
			require.NoError(t, err)
			continue
		}
		require.ErrorContains(t, err, says)
	}
	long := bytes.NewReader([]byte("PAR1...." + "\xff\xff\xff\x7fPAR1"))
	require.ErrorContains(t, ParquetFooter(long, long.Size()), "a footer of 2147483647")

	type row struct {
		ID   int64             `parquet:"id"`
		Tags []string          `parquet:"tags,list"`
		More map[string]string `parquet:"more"`
		In   struct {
			A *float64 `parquet:"a"`
		} `parquet:"in"`
	}
	var written bytes.Buffer
	w := parquet.NewGenericWriter[row](&written, parquet.KeyValueMetadata("a", "b"), parquet.MaxRowsPerRowGroup(10))
	_, err = w.Write(make([]row, 1000))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.NoError(t, ParquetFooter(bytes.NewReader(written.Bytes()), int64(written.Len())))
}
