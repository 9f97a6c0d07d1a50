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
	if c.old && decimals > 0 {
		return c.appendFormer(dst, data, decimals)
	}
	behind := (decimals + 1) / 2
	switch c.Log.Type {
	case binlog.ColDateTime:
		n = 8
	case binlog.ColDateTime2:
		n = 5
	case binlog.ColTimestamp, binlog.ColTimestamp2:
		n = 4
	default:
		n = 3
	}
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

// formerBytes are how long times in their former form are, by their decimals.
var formerBytes = map[byte][7]int{binlog.ColTimestamp: {4, 5, 5, 6, 6, 7, 7}, binlog.ColTime: {3, 4, 4, 5, 5, 5, 6}, binlog.ColDateTime: {5, 6, 6, 7, 7, 7, 8}}

// mostSeconds is the largest TIME, 838:59:59, in seconds.
const mostSeconds = 838*3600 + 59*60 + 59

// appendFormer reads a time with decimals in the form that mysql56_temporal_format=OFF has
// tables keep it in: one number, highest byte first, in units of the last decimal.
func (c *Column) appendFormer(dst, data []byte, decimals int) (out []byte, n int, err error) {
	if n = formerBytes[c.Log.Type][decimals]; len(data) < n {
		return dst, 0, errShort
	}
	unit := int64(1)
	for range 6 - decimals {
		unit *= 10
	}
	if c.Log.Type == binlog.ColTimestamp {
		return appendInstant(dst, int64(bigEndian(data[:4])), int64(bigEndian(data[4:n]))*unit), n, nil
	}
	v := int64(bigEndian(data[:n]))
	if c.Log.Type == binlog.ColTime {
		v = v*unit - (mostSeconds+1)*1_000_000/unit*unit
		negative := v < 0
		if negative {
			v = -v
		}
		seconds := v / 1_000_000
		return appendClock(dst, negative, seconds/3600, seconds/60%60, seconds%60, v%1_000_000), n, nil
	}
	v *= unit
	seconds := v / 1_000_000
	day := seconds / 86400
	month := int(day / 32)
	return appendDateTime(dst, month/13, month%13, int(day%32), seconds%86400, v%1_000_000), n, nil
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

// pairs are the numbers of two digits one after the other.
var pairs = func() (all [200]byte) {
	for i := range 100 {
		all[2*i], all[2*i+1] = byte('0'+i/10), byte('0'+i%10)
	}
	return all
}()

// put2 writes a number of two digits.
func put2(dst []byte, v uint32) { copy(dst[:2], pairs[2*v:2*v+2]) }

// put6 writes a number of six digits.
func put6(dst []byte, v uint32) {
	_ = dst[5]
	put2(dst, v/10000)
	put2(dst[2:], v/100%100)
	put2(dst[4:], v%100)
}

// digits appends a number with zeros in front.
func digits(dst []byte, v uint64, width int) []byte {
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
	var b [10]byte
	putDate(b[:], year, month, day)
	return append(dst, b[:]...)
}

func putDate(b []byte, year, month, day int) {
	_ = b[9]
	put2(b, uint32(year)/100%100)
	put2(b[2:], uint32(year)%100)
	b[4], b[7] = '-', '-'
	put2(b[5:], uint32(month)%100)
	put2(b[8:], uint32(day)%100)
}

func appendClock(dst []byte, negative bool, hours, minutes, seconds, micros int64) []byte {
	if negative {
		dst = append(dst, '-')
	}
	if hours > 99 {
		dst = append(dst, byte('0'+hours/100%10))
	}
	var b [15]byte
	putClock(b[:], hours%100, minutes, seconds, micros)
	return append(dst, b[:]...)
}

func putClock(b []byte, hours, minutes, seconds, micros int64) {
	_ = b[14]
	put2(b, uint32(hours)%100)
	put2(b[3:], uint32(minutes)%100)
	put2(b[6:], uint32(seconds)%100)
	b[2], b[5], b[8] = ':', ':', '.'
	put6(b[9:], uint32(micros)%1000000)
}

// appendDateTime is RFC 3339 without a zone; a date with a zero in it, which is none, stays
// as the server writes it, with a space.
func appendDateTime(dst []byte, year, month, day int, seconds, micros int64) []byte {
	var b [26]byte
	putDate(b[:], year, month, day)
	if b[10] = 'T'; month == 0 || day == 0 {
		b[10] = ' '
	}
	putClock(b[11:], seconds/3600, seconds/60%60, seconds%60, micros)
	return append(dst, b[:]...)
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
