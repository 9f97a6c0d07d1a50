package wire

import "errors"

// fields reads the parts of a packet (section "Protocol data types"). Once something is
// missing, all further reads are zero and bad is true.
type fields struct {
	data []byte
	bad  bool
}

var errPacket = errors.New("a packet of the server is too short: this is not its protocol")

func (f *fields) take(n int) []byte {
	if n < 0 || n > len(f.data) {
		f.bad, f.data = true, nil
		return nil
	}
	taken := f.data[:n]
	f.data = f.data[n:]
	return taken
}

func (f *fields) number(n int) uint64 {
	var v uint64
	for i, b := range f.take(n) {
		v |= uint64(b) << (8 * i)
	}
	return v
}

// zeroEnded is a text up to a zero byte, or up to the end.
func (f *fields) zeroEnded() string {
	for i, b := range f.data {
		if b == 0 {
			text := string(f.data[:i])
			f.data = f.data[i+1:]
			return text
		}
	}
	text := string(f.data)
	f.data = nil
	return text
}

// length is a length-encoded integer; null is the marker 0xFB in its place.
func (f *fields) length() (n uint64, null bool) {
	switch first := f.number(1); first {
	case 0xFB:
		return 0, true
	case 0xFC:
		return f.number(2), false
	case 0xFD:
		return f.number(3), false
	case 0xFE:
		return f.number(8), false
	case 0xFF:
		f.bad = true
		return 0, false
	default:
		return first, false
	}
}

// text is a length-encoded string; nil for a null.
func (f *fields) text() []byte {
	n, null := f.length()
	if null {
		return nil
	}
	if n > uint64(len(f.data)) {
		f.bad, f.data = true, nil
		return nil
	}
	return f.take(int(n))
}
