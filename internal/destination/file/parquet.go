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

func newParquet(f *os.File, s *change.Schema, compression string) (*parquetFile, error) {
	p := &parquetFile{file: &counting{f: f}}
	p.writer = parquetfile.New(p.file, s, compression)
	return p, nil
}

func (p *parquetFile) add(_ *encode.Batch, m *encode.Message) error {
	return p.writer.Add(m.Row, m.Size())
}

func (p *parquetFile) drain() error { return p.writer.Drain() }
func (p *parquetFile) flush() error { return nil }
func (p *parquetFile) close() error { return p.writer.Close() }
func (p *parquetFile) size() int64  { return p.file.n + p.writer.Pending()/4 }
