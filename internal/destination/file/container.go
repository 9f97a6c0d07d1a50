package file

import (
	"os"

	"github.com/hamba/avro/v2"
	"github.com/hamba/avro/v2/ocf"

	"rillmark/internal/change"
	"rillmark/internal/encode"
)

// container is an Avro object container file.
type container struct {
	file    *counting
	encoder *ocf.Encoder
	pending int64
}

func newContainer(f *os.File, s *change.Schema, compression string) (*container, error) {
	form, err := encode.AvroOf(s)
	if err != nil {
		return nil, err
	}
	codec := ocf.Null
	switch compression {
	case "snappy":
		codec = ocf.Snappy
	case "zstd":
		codec = ocf.ZStandard
	}
	c := &container{file: &counting{f: f}}
	// The schema goes into the file as we serve it, with the columns' own names.
	c.encoder, err = ocf.NewEncoder(form.Text, c.file, ocf.WithCodec(codec), ocf.WithBlockSize(256<<10), ocf.WithEncoderSchemaCache(&avro.SchemaCache{}),
		ocf.WithSchemaMarshaler(func(avro.Schema) ([]byte, error) { return []byte(form.Text), nil }))
	return c, err
}

func (c *container) add(_ *encode.Batch, m *encode.Message) error {
	before := c.file.n
	_, err := c.encoder.Write(m.Body)
	if c.file.n != before {
		c.pending = 0
	} else {
		c.pending += int64(len(m.Body))
	}
	return err
}

func (c *container) drain() error { return nil }

func (c *container) flush() error { return nil }

func (c *container) close() error { return c.encoder.Close() }

func (c *container) size() int64 { return c.file.n + c.pending }
