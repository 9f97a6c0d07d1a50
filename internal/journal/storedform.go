package journal

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"

	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
)

// formatVersion is the stored form's; a reader refuses one it does not know.
const formatVersion = 1

// The codecs of the stored form. A number, once given, is never given again.
const (
	codecNone = 0
	codecZstd = 1
	codecS2   = 2
)

// storedHeader is version, codec and checksum.
const storedHeader = 6

// maxPayload caps what a damaged length can make a reader allocate: a row is at
// most 1 GiB in PostgreSQL, and a block is closed after the first row over its
// size.
const maxPayload = 2 << 30

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Compressor makes the stored form. It is not safe for several goroutines.
type Compressor struct {
	zstd *zstd.Encoder
}

// NewCompressor uses one core and no goroutine of its own.
func NewCompressor() *Compressor {
	encoder, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest),
		zstd.WithWindowSize(256<<10), zstd.WithLowerEncoderMem(true), zstd.WithEncoderCRC(false))
	if err != nil {
		panic(err) // the options are constants
	}
	return &Compressor{zstd: encoder}
}

// Compress fills block.Stored. hurry chooses a codec that costs a third of the
// time and makes somewhat larger blocks, for a writer that has fallen behind;
// merging compresses them again.
func (c *Compressor) Compress(block *Block, hurry bool) {
	block.Stored = c.stored(block.Payload, hurry)
}

func (c *Compressor) stored(payload []byte, hurry bool) []byte {
	var data []byte
	switch {
	case len(payload) < 128:
		data = append(make([]byte, storedHeader, storedHeader+len(payload)), payload...)
		data[1] = codecNone
	case hurry:
		data = make([]byte, storedHeader+s2.MaxEncodedLen(len(payload)))
		n := len(s2.Encode(data[storedHeader:], payload))
		data = data[:storedHeader+n]
		data[1] = codecS2
	default:
		data = c.zstd.EncodeAll(payload, make([]byte, storedHeader, storedHeader+len(payload)/2))
		data[1] = codecZstd
	}
	data[0] = formatVersion
	binary.BigEndian.PutUint32(data[2:], crc32.Checksum(data[storedHeader:], castagnoli))
	return data
}

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
	if len(stored) < storedHeader {
		return nil, fmt.Errorf("%w: %d bytes are too few", ErrCorrupt, len(stored))
	}
	if stored[0] != formatVersion {
		return nil, fmt.Errorf("the journal's block has format %d, this version reads format %d: run the version that wrote it, or a later one", stored[0], formatVersion)
	}
	data := stored[storedHeader:]
	if crc32.Checksum(data, castagnoli) != binary.BigEndian.Uint32(stored[2:]) {
		return nil, fmt.Errorf("%w: its checksum does not match", ErrCorrupt)
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
