// Package parquetfile writes rows of one schema version as a Parquet file, in bounded memory.
package parquetfile

import (
	"encoding/json"
	"io"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/compress"

	"rillmark/internal/change"
	"rillmark/internal/encode"
)

// rowGroup bounds what is held in memory until it is written.
const (
	rowGroupRows  = 20_000
	rowGroupBytes = 8 << 20
)

// Writer writes one file. It is not safe for several goroutines.
type Writer struct {
	writer  *parquet.GenericWriter[any]
	fitted  *Fitted
	held    []parquet.Row // not written yet; they point into the values that were given
	own     []parquet.Row // rows to fill, made once and used again
	rows    int
	pending int64
}

// New begins a file of rows of a schema version; compression is snappy, zstd or empty for none.
// Values that their column's type cannot hold, as infinity, stand in a last column
// [encode.Inexact], as text by their column's name.
func New(to io.Writer, s *change.Schema, compression string) *Writer {
	group := make(columns, 0, len(s.Columns)+1)
	for i := range s.Columns {
		group = append(group, column{parquet.Optional(parquetNode(&s.Columns[i])), s.Columns[i].Name})
	}
	group = append(group, column{parquet.Optional(parquet.JSON()), encode.Inexact})
	own, _ := Fit(s, &Model{parquet.NewSchema(s.Table, group)}) // made for it: all of it fits
	return NewFitted(to, own, compression)
}

// NewFitted begins a file of rows that follow a model.
func NewFitted(to io.Writer, f *Fitted, compression string) *Writer {
	var codec compress.Codec = &parquet.Uncompressed
	switch compression {
	case "snappy":
		codec = &parquet.Snappy
	case "zstd":
		codec = &parquet.Zstd
	}
	return &Writer{fitted: f, writer: parquet.NewGenericWriter[any](to, f.model.schema, parquet.Compression(codec), parquet.PageBufferSize(256<<10),
		parquet.KeyValueMetadata("rillmark.schema", f.of.Fingerprint().String()), parquet.KeyValueMetadata("rillmark.table", f.of.Table))}
}

// heldRows are written at a time: row by row would cost three times as much.
const heldRows = 512

// Drain writes what was added: the values that were given may change from then on.
func (w *Writer) Drain() error {
	if len(w.held) == 0 {
		return nil
	}
	_, err := w.writer.WriteRows(w.held)
	w.rows += len(w.held)
	w.held = w.held[:0]
	if err == nil && (w.rows >= rowGroupRows || w.pending >= rowGroupBytes) {
		w.rows, w.pending = 0, 0
		return w.writer.Flush()
	}
	return err
}

// Add takes a row, of about size bytes; a value that the log lacks is null. Its values must stay
// as they are until [Writer.Drain].
func (w *Writer) Add(values []change.Value, size int) error {
	n := len(w.held)
	if n == len(w.own) {
		w.own = append(w.own, make(parquet.Row, 0, w.fitted.leaves))
	}
	row, err := w.fitted.append(w.own[n][:0], values, true)
	if err != nil {
		return err
	}
	w.own[n] = row
	return w.add(row, size)
}

// AddRow takes a row that was formed for the writer's model, as [Writer.Add] does.
func (w *Writer) AddRow(row *Row, size int) error { return w.add(row.values, size) }

func (w *Writer) add(row parquet.Row, size int) error {
	w.held = append(w.held, row)
	w.pending += int64(size)
	if len(w.held) >= heldRows {
		return w.Drain()
	}
	return nil
}

// Pending is about how many bytes were added that are not in the file yet.
func (w *Writer) Pending() int64 { return w.pending }

// inexact are the values of a row that their types cannot hold.
type inexact map[string]string

func (odd *inexact) add(column string, text []byte) {
	if *odd == nil {
		*odd = make(inexact)
	}
	(*odd)[column] = string(text)
}

func (odd inexact) value() (parquet.Value, error) {
	raw, err := json.Marshal(odd)
	return parquet.ByteArrayValue(raw), err
}

// Close ends the file; what it is written to stays open.
func (w *Writer) Close() error {
	if err := w.Drain(); err != nil {
		return err
	}
	return w.writer.Close()
}
