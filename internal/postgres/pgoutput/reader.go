package pgoutput

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
)

// ErrTruncated says that a message ended before its fields did.
var ErrTruncated = errors.New("message ends too early")

// reader takes fields off a buffer and keeps its first error, so that a Decode
// method reads straight on and asks once at the end.
type reader struct {
	rest []byte
	err  error
}

func (r *reader) take(n int) []byte {
	if r.err != nil {
		return nil
	}
	if n < 0 || n > len(r.rest) {
		r.err = fmt.Errorf("%w: %d bytes needed, %d are left", ErrTruncated, n, len(r.rest))
		return nil
	}
	taken := r.rest[:n:n]
	r.rest = r.rest[n:]
	return taken
}

func (r *reader) uint8() uint8 {
	if b := r.take(1); b != nil {
		return b[0]
	}
	return 0
}

func (r *reader) uint16() uint16 {
	if b := r.take(2); b != nil {
		return binary.BigEndian.Uint16(b)
	}
	return 0
}

func (r *reader) uint32() uint32 {
	if b := r.take(4); b != nil {
		return binary.BigEndian.Uint32(b)
	}
	return 0
}

func (r *reader) uint64() uint64 {
	if b := r.take(8); b != nil {
		return binary.BigEndian.Uint64(b)
	}
	return 0
}

func (r *reader) string() string {
	if r.err != nil {
		return ""
	}
	end := bytes.IndexByte(r.rest, 0)
	if end < 0 {
		r.err = fmt.Errorf("%w: a string without its closing zero", ErrTruncated)
		return ""
	}
	s := string(r.rest[:end])
	r.rest = r.rest[end+1:]
	return s
}

// count checks a number of elements against the bytes that are left, each
// element taking at least size of them, before anything is allocated for them.
func (r *reader) count(n uint32, size int) int {
	if r.err == nil && uint64(n)*uint64(size) > uint64(len(r.rest)) {
		r.err = fmt.Errorf("%w: %d elements where %d bytes are left", ErrTruncated, n, len(r.rest))
	}
	if r.err != nil {
		return 0
	}
	return int(n)
}

// finish is the end of every Decode: the message's name goes before an error,
// and bytes left over are one.
func (r *reader) finish(message string) error {
	if r.err == nil && len(r.rest) > 0 {
		r.err = fmt.Errorf("%d bytes are left over", len(r.rest))
	}
	if r.err != nil {
		return fmt.Errorf("decoding %s: %w", message, r.err)
	}
	return nil
}

func appendString(dst []byte, s string) []byte { return append(append(dst, s...), 0) }
