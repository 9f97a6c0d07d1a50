package journal

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"time"

	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
)

// The versions of the stored form. A reader refuses one it does not know. Version 1
// has the data alone under its checksum; it is read, and no longer written but for
// events that are kept apart ([Single]).
const (
	formatData    = 1
	formatColumns = 2
)

// The codecs of the stored form. A number, once given, is never given again.
const (
	codecNone = 0
	codecZstd = 1
	codecS2   = 2
)

// The header is version, codec and a checksum of what follows it; from version 2 on
// a checksum of the row's other columns stands before that one, so that a block that
// is passed over unread can be checked too. Then come the sections: how many, and of
// each its kind, its length and its bytes. There is none yet; a reader passes over
// kinds that it does not know.
const (
	headerData    = 6
	headerColumns = 10
)

// maxPayload caps what a damaged length can make a reader allocate: a row is at
// most 1 GiB in PostgreSQL, and a block is closed after the first row over its
// size.
const maxPayload = 2 << 30

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Compressor makes the stored form. It is not safe for several goroutines, but for
// [Compressor.Reuse].
type Compressor struct {
	zstd  *zstd.Encoder
	spare chan []byte
}

const (
	// spareForms of blocks that are stored by now are used again, of this size at most.
	spareForms    = 4
	spareFormSize = 4 << 20
)

// NewCompressor uses one core and no goroutine of its own.
func NewCompressor() *Compressor {
	encoder, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest),
		zstd.WithWindowSize(256<<10), zstd.WithLowerEncoderMem(true), zstd.WithEncoderCRC(false))
	if err != nil {
		panic(err) // the options are constants
	}
	return &Compressor{zstd: encoder, spare: make(chan []byte, spareForms)}
}

// Reuse takes back what [Compressor.Compress] has made, of which nobody looks at a byte any
// more.
func (c *Compressor) Reuse(stored []byte) {
	if cap(stored) > spareFormSize {
		return
	}
	select {
	case c.spare <- stored[:0]:
	default:
	}
}

// room is a slice of n bytes, of a stored form of before where one was large enough.
func (c *Compressor) room(n int) []byte {
	select {
	case old := <-c.spare:
		if cap(old) >= n {
			return old[:n]
		}
	default:
	}
	return make([]byte, n)
}

// Compress fills block.Stored, from all that is known of the block. fast chooses a
// codec that costs a third of the time and makes somewhat larger blocks, for a
// writer that has fallen behind; merging compresses them again.
func (c *Compressor) Compress(block *Block, fast bool) {
	columns := block.columns()
	block.Stored = c.stored(block.Payload, &columns, fast)
}

// stored makes the stored form; without columns, that of version 1.
func (c *Compressor) stored(payload []byte, columns *columns, fast bool) []byte {
	header := headerData
	if columns != nil {
		header = headerColumns + 1 // and the number of sections
	}
	var data []byte
	switch {
	case len(payload) < 128:
		data = append(c.room(header + len(payload))[:header], payload...)
		data[1] = codecNone
	case fast, len(payload) < smallPayload:
		data = c.room(header + s2.MaxEncodedLen(len(payload)))
		n := len(s2.Encode(data[header:], payload))
		data = data[:header+n]
		data[1] = codecS2
	default:
		data = c.zstd.EncodeAll(payload, c.room(header + len(payload)/2)[:header])
		data[1] = codecZstd
	}
	if columns == nil {
		data[0] = formatData
		binary.BigEndian.PutUint32(data[2:], crc32.Checksum(data[headerData:], castagnoli))
		return data
	}
	data[0] = formatColumns
	binary.BigEndian.PutUint32(data[2:], columns.sum(data[:2]))
	binary.BigEndian.PutUint32(data[6:], crc32.Checksum(data[headerColumns:], castagnoli))
	return data
}

// columns are a block's row but for its data.
type columns struct {
	first, last             int64
	firstCommit, lastCommit time.Time
	tables                  string
	payloadBytes            int64
}

// sum is the checksum over the columns, and over the header's first two bytes.
func (c *columns) sum(head []byte) uint32 {
	b := append(make([]byte, 0, 64+len(c.tables)), head...)
	for _, n := range []int64{c.first, c.last, c.firstCommit.UnixMicro(), c.lastCommit.UnixMicro(), c.payloadBytes} {
		b = binary.BigEndian.AppendUint64(b, uint64(n))
	}
	return crc32.Checksum(append(b, c.tables...), castagnoli)
}

// verify checks the columns against the header that stored begins with; a block of
// version 1 has nothing to check them against.
func (c *columns) verify(stored []byte) error {
	if len(stored) < headerColumns || stored[0] != formatColumns {
		return nil
	}
	if c.sum(stored[:2]) != binary.BigEndian.Uint32(stored[2:]) {
		return fmt.Errorf("%w: the checksum over its offsets, times and tables does not match", ErrCorrupt)
	}
	return nil
}

func (b *Block) columns() columns {
	return columns{b.First, b.Last, b.FirstCommit, b.LastCommit, joinTables(b.Tables), int64(len(b.Payload))}
}

// smallPayload is compressed fast, too: such blocks are merged soon.
const smallPayload = 4 << 10

// decompressor is shared: DecodeAll may run in several goroutines.
var decompressor = func() *zstd.Decoder {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(2), zstd.WithDecoderMaxMemory(maxPayload), zstd.WithDecoderLowmem(true))
	if err != nil {
		panic(err) // the options are constants
	}
	return d
}()

// Payload checks the stored form and undoes it.
func Payload(stored []byte) ([]byte, error) {
	if len(stored) < headerData {
		return nil, fmt.Errorf("%w: %d bytes are too few", ErrCorrupt, len(stored))
	}
	data, sum := stored[headerData:], stored[2:]
	switch stored[0] {
	case formatData:
	case formatColumns:
		if len(stored) <= headerColumns {
			return nil, fmt.Errorf("%w: %d bytes are too few", ErrCorrupt, len(stored))
		}
		data, sum = stored[headerColumns:], stored[6:]
	default:
		return nil, fmt.Errorf("the journal's block has format %d, this version reads formats %d and %d: run the version that wrote it, or a later one", stored[0], formatData, formatColumns)
	}
	if crc32.Checksum(data, castagnoli) != binary.BigEndian.Uint32(sum) {
		return nil, fmt.Errorf("%w: its checksum does not match", ErrCorrupt)
	}
	if stored[0] == formatColumns {
		var err error
		if data, err = passSections(data); err != nil {
			return nil, err
		}
	}
	switch stored[1] {
	case codecNone:
		return data, nil
	case codecZstd:
		payload, err := decompressor.DecodeAll(data, nil)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrCorrupt, err)
		}
		return payload, nil
	case codecS2:
		if n, err := s2.DecodedLen(data); err != nil || n > maxPayload {
			return nil, fmt.Errorf("%w: a length of %d", ErrCorrupt, n)
		}
		payload, err := s2.Decode(nil, data)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrCorrupt, err)
		}
		return payload, nil
	default:
		return nil, fmt.Errorf("%w: unknown codec %d", ErrCorrupt, stored[1])
	}
}

// passSections steps over the sections before the payload.
func passSections(data []byte) ([]byte, error) {
	n, width := binary.Uvarint(data)
	if width <= 0 || n > uint64(len(data)) {
		return nil, fmt.Errorf("%w: its sections are cut off", ErrCorrupt)
	}
	for data = data[width:]; n > 0; n-- {
		if len(data) == 0 {
			return nil, fmt.Errorf("%w: its sections are cut off", ErrCorrupt)
		}
		size, width := binary.Uvarint(data[1:])
		if width <= 0 || size > uint64(len(data)-1-width) {
			return nil, fmt.Errorf("%w: its sections are cut off", ErrCorrupt)
		}
		data = data[1+width+int(size):]
	}
	return data, nil
}
