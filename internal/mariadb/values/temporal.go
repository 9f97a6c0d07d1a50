package values

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"time"

	"rillmark/internal/mariadb/binlog"
)

func newReader(b []byte) io.Reader { return bytes.NewReader(b) }

// fraction reads the decimals behind a time, in microseconds: one byte for each two.
func fraction(data []byte, decimals int) int64 {
	v := int64(bigEndian(data))
	for i := (decimals + 1) / 2 * 2; i < 6; i++ {
		v *= 10
	}
	return v
}

func (c *Column) appendTemporal(dst, data []byte) (out []byte, n int, err error) {
	decimals := min(int(c.Log.Meta), 6)
	behind := (decimals + 1) / 2
	size := map[byte]int{binlog.ColDate: 3, binlog.ColNewDate: 3, binlog.ColTime: 3, binlog.ColDateTime: 8, binlog.ColTimestamp: 4, binlog.ColTime2: 3, binlog.ColDateTime2: 5, binlog.ColTimestamp2: 4}
	n = size[c.Log.Type]
	if !c.old && c.Kind != Date {
		n += behind
	}
	if len(data) < n {
		return dst, 0, errShort
	}
	data = data[:n]
	switch c.Log.Type {
	case binlog.ColDate, binlog.ColNewDate:
		v := int(littleEndian(data))
		return appendDate(dst, v>>9, v>>5&15, v&31), n, nil
	case binlog.ColTimestamp:
		return appendInstant(dst, int64(binary.LittleEndian.Uint32(data)), 0), n, nil
	case binlog.ColTimestamp2:
		return appendInstant(dst, int64(binary.BigEndian.Uint32(data)), fraction(data[4:], decimals)), n, nil
	case binlog.ColDateTime:
		v := int64(littleEndian(data))
		day, clock := v/1000000, v%1000000
		return appendDateTime(dst, int(day/10000), int(day/100%100), int(day%100), clock/10000*3600+clock/100%100*60+clock%100, 0), n, nil
	case binlog.ColDateTime2:
		v := int64(bigEndian(data[:5])) - 0x8000000000
		day := v >> 17
		month := int(day >> 5)
		return appendDateTime(dst, month/13, month%13, int(day&31), v>>12&31*3600+v>>6&63*60+v&63, fraction(data[5:], decimals)), n, nil
	case binlog.ColTime:
		v := int64(int32(uint32(littleEndian(data))<<8) >> 8)
		negative := v < 0
		if negative {
			v = -v
		}
		return appendClock(dst, negative, v/10000, v/100%100, v%100, 0), n, nil
	default: // ColTime2
		return appendTime2(dst, data, behind), n, nil
	}
}

// appendTime2 reads a time: hours, minutes, seconds and the fraction as one number, from
// which that of midnight has been taken.
func appendTime2(dst, data []byte, behind int) []byte {
	bits := uint(8 * behind)
	v := int64(bigEndian(data)) - int64(0x800000)<<bits
	negative := v < 0
	if negative {
		v = -v
	}
	micros := v & (1<<bits - 1)
	for i := 2 * behind; i < 6; i++ {
		micros *= 10
	}
	v >>= bits
	return appendClock(dst, negative, v>>12&1023, v>>6&63, v&63, micros)
}

// digits appends a number with zeros in front.
func digits(dst []byte, v int64, width int) []byte {
	var b [20]byte
	i := len(b)
	for v > 0 || width > 0 {
		i--
		b[i] = byte('0' + v%10)
		v /= 10
		width--
	}
	return append(dst, b[i:]...)
}

func appendDate(dst []byte, year, month, day int) []byte {
	dst = append(digits(dst, int64(year), 4), '-')
	dst = append(digits(dst, int64(month), 2), '-')
	return digits(dst, int64(day), 2)
}

func appendClock(dst []byte, negative bool, hours, minutes, seconds, micros int64) []byte {
	if negative {
		dst = append(dst, '-')
	}
	dst = append(digits(dst, hours, 2), ':')
	dst = append(digits(dst, minutes, 2), ':')
	dst = append(digits(dst, seconds, 2), '.')
	return digits(dst, micros, 6)
}

// appendDateTime is RFC 3339 without a zone; a date with a zero in it, which is none, stays
// as the server writes it, with a space.
func appendDateTime(dst []byte, year, month, day int, seconds, micros int64) []byte {
	dst = appendDate(dst, year, month, day)
	between := byte('T')
	if month == 0 || day == 0 {
		between = ' '
	}
	dst = append(dst, between)
	return appendClock(dst, false, seconds/3600, seconds/60%60, seconds%60, micros)
}

// appendInstant is RFC 3339 in UTC; the zero of a TIMESTAMP is no instant.
func appendInstant(dst []byte, seconds, micros int64) []byte {
	if seconds == 0 && micros == 0 {
		return appendDateTime(dst, 0, 0, 0, 0, 0)
	}
	t := time.Unix(seconds, 0).UTC()
	year, month, day := t.Date()
	dst = appendDateTime(dst, year, int(month), day, int64(t.Hour()*3600+t.Minute()*60+t.Second()), micros)
	return append(dst, 'Z')
}

// errTemporal is a text that is none of the server's.
func errTemporal(text []byte) error {
	return fmt.Errorf("%.40q is no time that the server would write", text)
}
