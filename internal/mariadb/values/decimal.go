package values

import (
	"errors"
	"strconv"
)

// digitBytes is how many bytes so many digits have that do not fill a group of nine.
var digitBytes = [...]int{0, 1, 1, 2, 2, 3, 3, 4, 4, 4}

// appendDecimal reads a DECIMAL: groups of nine digits in four bytes with the highest
// first, before the point the short group in front, behind it at the end. The highest bit
// is the sign's complement; a negative number has all other bits inverted.
func appendDecimal(dst, data []byte, precision, scale int) (out []byte, n int, err error) {
	if scale > precision || precision > 65 {
		return dst, 0, errors.New("a DECIMAL of an impossible precision")
	}
	whole := precision - scale
	n = whole/9*4 + digitBytes[whole%9] + scale/9*4 + digitBytes[scale%9]
	if len(data) < n || n == 0 {
		return dst, 0, errShort
	}
	var copied [32]byte
	b := copied[:copy(copied[:], data[:n])]
	negative := b[0]&0x80 == 0
	b[0] ^= 0x80
	if negative {
		for i := range b {
			b[i] = ^b[i]
		}
		dst = append(dst, '-')
	}
	if precision <= 18 && whole <= 9 && scale <= 9 {
		return appendShortDecimal(dst, b, whole, scale), n, nil
	}
	start := len(dst)
	group := func(size, width int) {
		dst = digits(dst, bigEndian(b[:size]), width)
		b = b[size:]
	}
	if rest := whole % 9; rest > 0 {
		group(digitBytes[rest], rest)
	}
	for range whole / 9 {
		group(4, 9)
	}
	// Zeros in front go, but for the last digit before the point.
	lead := start
	for lead < len(dst)-1 && dst[lead] == '0' {
		lead++
	}
	dst = append(dst[:start], dst[lead:]...)
	if len(dst) == start {
		dst = append(dst, '0')
	}
	if scale == 0 {
		return dst, n, nil
	}
	dst = append(dst, '.')
	for range scale / 9 {
		group(4, 9)
	}
	if rest := scale % 9; rest > 0 {
		group(digitBytes[rest], rest)
	}
	return dst, n, nil
}

// appendShortDecimal is for the numbers that most tables have: one group before the point
// and one behind it.
func appendShortDecimal(dst, b []byte, whole, scale int) []byte {
	size := digitBytes[whole]
	dst = strconv.AppendUint(dst, bigEndian(b[:size]), 10)
	if scale == 0 {
		return dst
	}
	v, at := uint32(bigEndian(b[size:])), len(dst)
	dst = append(dst, ".000000000"[:1+scale]...)
	for i := at + scale; v > 0 && i > at; i-- {
		dst[i] = byte('0' + v%10)
		v /= 10
	}
	return dst
}
