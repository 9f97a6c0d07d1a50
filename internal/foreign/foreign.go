// Package foreign looks at schemas that others have made before a library reads them: sizes and counts
// that would take all memory, nesting without an end.
package foreign

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
)

const (
	// mostSchema is the length of a schema in JSON, in bytes, mostParts the number of its objects and
	// values, and mostNested how deep they stand within each other.
	mostSchema = 4 << 20
	mostParts  = 100_000
	mostNested = 200
	// mostFixed is the size of one value of a fixed type, in bytes.
	mostFixed = 16 << 20
	// mostFooter is the length of a Parquet file's footer, in bytes, and mostColumns the number of
	// elements of its schema.
	mostFooter  = 16 << 20
	mostColumns = 10_000
)

// AvroSchema refuses a schema in JSON that would take all memory or time to be read, or to be written
// by.
func AvroSchema(text []byte) error {
	if len(text) > mostSchema {
		return fmt.Errorf("it is a schema of %d KiB, the limit is %d", len(text)>>10, mostSchema>>10)
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.UseNumber()
	parts, deep := 0, 0
	size := false
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) && deep == 0 {
			return nil
		}
		if err != nil {
			return err
		}
		if parts++; parts > mostParts {
			return fmt.Errorf("it is a schema of more than %d parts", mostParts)
		}
		switch token := token.(type) {
		case json.Delim:
			if deep++; token == '}' || token == ']' {
				deep -= 2
			}
			if deep > mostNested {
				return fmt.Errorf("it is a schema that is nested more than %d deep", mostNested)
			}
		case json.Number:
			if n, err := strconv.ParseFloat(token.String(), 64); size && (err != nil || n > mostFixed) {
				return fmt.Errorf("it is a schema with a fixed of %s bytes, the limit is %d MiB", token, mostFixed>>20)
			}
		}
		size = token == "size"
	}
}

// ParquetFooter refuses a file whose footer would take all memory or time to be read (sections
// "File format" and "Metadata"; the compact protocol of Thrift).
func ParquetFooter(file io.ReaderAt, size int64) error {
	var tail [8]byte
	if size < 12 {
		return fmt.Errorf("it is a file of %d bytes, which is no Parquet file", size)
	}
	if _, err := file.ReadAt(tail[:], size-8); err != nil {
		return err
	}
	length := int64(binary.LittleEndian.Uint32(tail[:]))
	if string(tail[4:]) != "PAR1" || length > size-12 || length > mostFooter {
		return fmt.Errorf("it is a Parquet file of %d bytes with a footer of %d, the limit is %d MiB", size, length, mostFooter>>20)
	}
	footer := make([]byte, length)
	if _, err := file.ReadAt(footer, size-8-length); err != nil {
		return err
	}
	t := &thrift{rest: footer}
	if err := t.structure(0, nil); err != nil {
		return err
	}
	var open []int64 // children that are still to come
	for _, children := range t.children {
		for len(open) > 0 && open[len(open)-1] == 0 {
			open = open[:len(open)-1]
		}
		if len(open) > 0 {
			open[len(open)-1]--
		}
		if open = append(open, children); len(open) > mostNested {
			return fmt.Errorf("it is a Parquet file whose columns are nested more than %d deep", mostNested)
		}
	}
	return nil
}

// thrift passes over the compact protocol.
type thrift struct {
	rest     []byte
	parts    int
	children []int64 // of each element of the schema, in its order
}

var errThrift = fmt.Errorf("it is a Parquet file whose footer is damaged")

func (t *thrift) varint() (uint64, error) {
	v, n := binary.Uvarint(t.rest)
	if n <= 0 {
		return 0, errThrift
	}
	t.rest = t.rest[n:]
	return v, nil
}

func (t *thrift) skip(n uint64) error {
	if n > uint64(len(t.rest)) {
		return errThrift
	}
	t.rest = t.rest[n:]
	return nil
}

func zigzag(v uint64) int64 { return int64(v>>1) ^ -int64(v&1) }

// The types of the compact protocol.
const (
	thriftFalse  = 2
	thriftByte   = 3
	thriftI64    = 6
	thriftDouble = 7
	thriftBinary = 8
	thriftList   = 9
	thriftSet    = 10
	thriftMap    = 11
	thriftStruct = 12
)

// structure passes over the fields of a struct; each hears of its numbers.
func (t *thrift) structure(deep int, each func(field, value int64)) error {
	if deep > mostNested {
		return fmt.Errorf("it is a Parquet file whose footer is nested more than %d deep", mostNested)
	}
	var field int64
	for {
		if len(t.rest) == 0 {
			return errThrift
		}
		head := t.rest[0]
		t.rest = t.rest[1:]
		if head == 0 {
			return nil
		}
		if delta := int64(head >> 4); delta > 0 {
			field += delta
		} else {
			v, err := t.varint()
			if err != nil {
				return err
			}
			field = zigzag(v)
		}
		kind := head & 15
		switch {
		case kind <= thriftFalse:
			continue // its value is its type
		case kind > thriftByte && kind <= thriftI64:
			v, err := t.varint()
			if err != nil {
				return err
			}
			if each != nil {
				each(field, zigzag(v))
			}
			continue
		}
		const schema = 2 // of the file's metadata
		if err := t.value(kind, deep, deep == 0 && field == schema); err != nil {
			return err
		}
	}
}

func (t *thrift) value(kind byte, deep int, schema bool) error {
	if t.parts++; t.parts > mostParts*10 {
		return fmt.Errorf("it is a Parquet file whose footer has more than %d parts", mostParts*10)
	}
	switch kind {
	case 1, thriftFalse, thriftByte:
		return t.skip(1)
	case thriftDouble:
		return t.skip(8)
	case thriftBinary:
		n, err := t.varint()
		if err != nil {
			return err
		}
		return t.skip(n)
	case thriftList, thriftSet:
		return t.list(deep, schema)
	case thriftMap:
		n, err := t.varint()
		if err != nil || n == 0 {
			return err
		}
		if len(t.rest) == 0 || n > uint64(len(t.rest)) {
			return errThrift
		}
		key, value := t.rest[0]>>4, t.rest[0]&15
		t.rest = t.rest[1:]
		for range n {
			if err := t.value(key, deep+1, false); err != nil {
				return err
			}
			if err := t.value(value, deep+1, false); err != nil {
				return err
			}
		}
		return nil
	case thriftStruct:
		return t.structure(deep+1, nil)
	}
	if kind > thriftByte && kind <= thriftI64 {
		_, err := t.varint()
		return err
	}
	return errThrift
}

func (t *thrift) list(deep int, schema bool) error {
	if len(t.rest) == 0 {
		return errThrift
	}
	n, kind := uint64(t.rest[0]>>4), t.rest[0]&15
	t.rest = t.rest[1:]
	if n == 15 {
		var err error
		if n, err = t.varint(); err != nil {
			return err
		}
	}
	if n > uint64(len(t.rest)) { // each element has a byte at least
		return fmt.Errorf("it is a Parquet file that announces a list of %d elements in a footer of %d bytes", n, len(t.rest))
	}
	if schema && n > mostColumns {
		return fmt.Errorf("it is a Parquet file of %d columns and groups, the limit is %d", n, mostColumns)
	}
	for range n {
		if !schema || kind != thriftStruct {
			if err := t.value(kind, deep+1, false); err != nil {
				return err
			}
			continue
		}
		var children int64
		const numChildren = 5
		if err := t.structure(deep+1, func(field, value int64) {
			if field == numChildren {
				children = value
			}
		}); err != nil {
			return err
		}
		t.children = append(t.children, children)
	}
	return nil
}
