package binlog

import (
	"bytes"
	"compress/zlib"
	"io"
	"sync"
)

// maxInflated bounds what a compressed event may become, in bytes: no event is larger.
const maxInflated = 1 << 30

// inflaters are kept, since each has windows of 40 kB.
var inflaters sync.Pool

// inflate undoes the compression of an event: one byte 0x8n, the size in n bytes with the
// highest first, and a stream of zlib (RFC 1950).
func inflate(dst, data []byte) ([]byte, error) {
	if len(data) < 1 || data[0]&0xF8 != 0x80 {
		return nil, malformed("it is compressed in an unknown way")
	}
	p := &parts{data: data[1:]}
	size := uint64(0)
	for _, b := range p.take(int(data[0] & 7)) {
		size = size<<8 | uint64(b)
	}
	if p.bad || size == 0 || size > maxInflated {
		return nil, malformed("its size before compression is impossible")
	}
	in := bytes.NewReader(p.data)
	r, _ := inflaters.Get().(io.ReadCloser)
	if r == nil {
		fresh, err := zlib.NewReader(in)
		if err != nil {
			return nil, malformed("its compressed content cannot be read")
		}
		r = fresh
	} else if err := r.(zlib.Resetter).Reset(in, nil); err != nil {
		return nil, malformed("its compressed content cannot be read")
	}
	defer inflaters.Put(r)
	for uint64(len(dst)) < size {
		if len(dst) == cap(dst) { // memory grows with what has really come
			grown := make([]byte, len(dst), min(int(size), max(2*cap(dst), 64<<10)))
			copy(grown, dst)
			dst = grown
		}
		n, err := r.Read(dst[len(dst):min(cap(dst), int(size))])
		dst = dst[:len(dst)+n]
		if err != nil && uint64(len(dst)) < size {
			return nil, malformed("its compressed content ends early")
		}
	}
	return dst, nil
}
