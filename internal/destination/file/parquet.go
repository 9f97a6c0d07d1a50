package file

import (
	"os"

	"rillmark/internal/change"
	"rillmark/internal/encode"
	"rillmark/internal/encode/parquetfile"
)

// parquetFile is a Parquet file of one schema version.
type parquetFile struct {
	file   *counting
	writer *parquetfile.Writer
}

// newParquet begins a file; its rows follow a model where fitted is not nil.
func newParquet(f *os.File, s *change.Schema, fitted *parquetfile.Fitted, compression string) *parquetFile {
	p := &parquetFile{file: &counting{f: f}}
	if fitted != nil {
		p.writer = parquetfile.NewFitted(p.file, fitted, compression)
	} else {
		p.writer = parquetfile.New(p.file, s, compression)
	}
	return p
}

// fittedOf is the model that a message's row follows; nil for none.
func fittedOf(m *encode.Message) *parquetfile.Fitted {
	if row, is := m.Formed.(*parquetfile.Row); is {
		return row.Fitted
	}
	return nil
}

func (p *parquetFile) add(_ *encode.Batch, m *encode.Message) error {
	if row, is := m.Formed.(*parquetfile.Row); is {
		return p.writer.AddRow(row, m.Size())
	}
	return p.writer.Add(m.Row, m.Size())
}

func (p *parquetFile) drain() error { return p.writer.Drain() }
func (p *parquetFile) flush() error { return nil }
func (p *parquetFile) close() error { return p.writer.Close() }
func (p *parquetFile) size() int64  { return p.file.n + p.writer.Pending()/4 }
