package binlog

import "bytes"

// FormatDescription begins each file: how its events are written.
type FormatDescription struct {
	Server   string
	Checksum bool
}

// DecodeFormatDescription reads the whole event: its own checksum is always there in
// files of today's servers, and whether others have one stands before it.
func DecodeFormatDescription(event []byte) (d FormatDescription, err error) {
	const fixed = 2 + 50 + 4 + 1
	if len(event) < HeaderSize+fixed+5 {
		return d, malformed("a description of the format is too short")
	}
	body := event[HeaderSize:]
	if version := uint16(body[0]) | uint16(body[1])<<8; version != 4 {
		return d, malformed("the log is of a format before version 4")
	}
	if body[fixed-1] != HeaderSize {
		return d, malformed("its headers are of another size")
	}
	d.Server = string(bytes.TrimRight(body[2:52], "\x00"))
	switch algorithm := body[len(body)-5]; algorithm {
	case 0:
	case 1:
		d.Checksum = true
		if _, _, err := Split(event, true); err != nil {
			return d, err
		}
	default:
		return d, malformed("its checksums are of an unknown kind")
	}
	return d, nil
}
