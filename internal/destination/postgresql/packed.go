package postgresql

import (
	"encoding/binary"
	"errors"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
)

// maxPacks bounds the bindings whose packings are known; a changed table has another one.
const maxPacks = 10_000

// packings are those of a binding's columns; nil where one of them has none.
func (d *database) packings(b *sql.Binding) []packing {
	all, known := d.packs[b]
	if known {
		return all
	}
	all = make([]packing, len(b.From))
	for at, i := range b.From {
		c := &b.Source.Columns[i]
		if all[at] = packingOf(c, b.Column(c.Name).Kind); all[at] == nil {
			all = nil
			break
		}
	}
	d.keepPackings(b, all)
	return all
}

func (d *database) keepPackings(b *sql.Binding, all []packing) {
	if len(d.packs) >= maxPacks {
		clear(d.packs)
	}
	d.packs[b] = all
}

// canPack reports whether rows' columns at places can go in binary form. Our own columns, which
// stand last, are made as text.
func (d *database) canPack(b *sql.Binding, places []int) bool {
	return len(places) > 0 && places[len(places)-1] < len(b.From) && d.packings(b) != nil
}

// errUnpacked is a value without a binary form.
var errUnpacked = errors.New("a value has no binary form")

// The beginning and the end of rows in binary form (PostgreSQL's manual, COPY, "Binary Format"):
// a signature, flags, and the length of what a later version may add; a row of -1 columns.
const (
	packedHead = "PGCOPY\n\xff\r\n\x00\x00\x00\x00\x00\x00\x00\x00\x00"
	packedTail = "\xff\xff"
)

// fillPacked makes the binary form of the next rows.
func (c *copying) fillPacked(dst []byte, packings []packing) ([]byte, error) {
	if c.at == 0 {
		dst = append(dst, packedHead...)
	}
	for ; c.at < c.rows.N && len(dst) < largestCopy; c.at++ {
		values := c.rows.Values(c.at)
		dst = binary.BigEndian.AppendUint16(dst, uint16(len(c.places)))
		for _, at := range c.places {
			v := &values[c.b.From[at]]
			if v.Presence != change.Present {
				dst = append(dst, 0xff, 0xff, 0xff, 0xff) // null
				continue
			}
			start := len(dst)
			var fits bool
			if dst, fits = packings[at](append(dst, 0, 0, 0, 0), v.Text); !fits {
				return dst, errUnpacked
			}
			binary.BigEndian.PutUint32(dst[start:], uint32(len(dst)-start-4))
		}
	}
	if c.at == c.rows.N {
		dst = append(dst, packedTail...)
	}
	return dst, nil
}
