package stream

import (
	"strconv"
	"strings"
)

// Place is a place in the files of a log.
type Place struct {
	File   uint64 // its number, which its name ends with
	Offset uint64
}

// FileNumber is the number that a file's name ends with; 0 without one.
func FileNumber(name string) uint64 {
	n, err := strconv.ParseUint(name[strings.LastIndexByte(name, '.')+1:], 10, 32)
	if err != nil {
		return 0
	}
	return n
}

// PlaceOf puts a place together of a file's name and an offset as the server prints them.
func PlaceOf(file, offset string) Place {
	n, _ := strconv.ParseUint(offset, 10, 64) // the server's own number
	return Place{FileNumber(file), n}
}

// Before reports whether p lies before q.
func (p Place) Before(q Place) bool {
	return p.File < q.File || p.File == q.File && p.Offset < q.Offset
}

// offsetBits are those of the offset in a place that is one number: files have up to 1 TiB.
const offsetBits = 40

// Number is the place as one number, in the order of places.
func (p Place) Number() uint64 { return p.File<<offsetBits | p.Offset&(1<<offsetBits-1) }
