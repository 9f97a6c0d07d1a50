package file

import (
	"bufio"
	"io"
	"os"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"rillmark/internal/encode"
)

// lines writes one message a line.
type lines struct {
	file   *counting
	packer io.WriteCloser // nil without compression
	out    *bufio.Writer
	bytes  int64 // before compression, without one those of the file
	// Messages whose lines lie behind each other in their batch are written at once,
	// without copying them; first is nil where none wait.
	batch       *encode.Batch
	first, last *encode.Message
}

// counting counts what goes to a file.
type counting struct {
	f       *os.File
	n       int64
	started int64 // up to here the disk has been asked to write
}

// aheadBytes are written before the disk is asked to begin.
const aheadBytes = 4 << 20

func (c *counting) Write(b []byte) (int, error) {
	n, err := c.f.Write(b)
	c.n += int64(n)
	if c.n-c.started >= aheadBytes {
		startWriting(c.f, c.started, c.n-c.started)
		c.started = c.n
	}
	return n, err
}

func newLines(f *os.File, compression string, size int64) (*lines, error) {
	l := &lines{file: &counting{f, size, size}, bytes: size}
	var err error
	switch compression {
	case "gzip":
		l.packer = gzip.NewWriter(l.file)
	case "zstd":
		l.packer, err = zstd.NewWriter(l.file, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(1<<20))
	}
	if l.packer != nil {
		l.out = bufio.NewWriterSize(l.packer, 64<<10)
	} else {
		l.out = bufio.NewWriterSize(l.file, 16<<10)
	}
	return l, err
}

func (l *lines) add(b *encode.Batch, m *encode.Message) error {
	l.bytes += int64(len(m.Body)) + 1
	if l.first != nil && m.Follows(l.last) {
		l.last = m
		return nil
	}
	if err := l.drain(); err != nil {
		return err
	}
	if m.HasLine() {
		l.batch, l.first, l.last = b, m, m
		return nil
	}
	if _, err := l.out.Write(m.Body); err != nil {
		return err
	}
	return l.out.WriteByte('\n')
}

func (l *lines) drain() error {
	if l.first == nil {
		return nil
	}
	waiting := l.batch.Lines(l.first, l.last)
	l.batch, l.first, l.last = nil, nil, nil
	_, err := l.out.Write(waiting)
	return err
}

func (l *lines) flush() error {
	if l.packer != nil {
		return nil // a frame in the middle would cost compression
	}
	return l.out.Flush()
}

func (l *lines) close() error {
	if err := l.drain(); err != nil {
		return err
	}
	if err := l.out.Flush(); err != nil || l.packer == nil {
		return err
	}
	return l.packer.Close()
}

func (l *lines) size() int64 {
	if l.packer != nil {
		return l.file.n
	}
	return l.bytes
}
