package pgoutput

import (
	"errors"
	"fmt"
)

// Message is one message of the plugin. Decode reads the bytes after the type
// byte; Encode appends the whole message, the type byte included.
type Message interface {
	Decode(body []byte) error
	Encode(dst []byte) []byte
}

// Decoder decodes a stream of messages into values of its own: what Next
// returns is good until the call after.
type Decoder struct {
	begin    Begin
	commit   Commit
	origin   Origin
	typ      Type
	insert   Insert
	update   Update
	delete   Delete
	truncate Truncate
	logical  LogicalMessage
}

// Decode decodes one message. A Relation is a new value every time, since its
// receiver keeps it.
func (d *Decoder) Decode(data []byte) (Message, error) {
	if len(data) == 0 {
		return nil, errors.New("decoding a message: it is empty")
	}
	var m Message
	switch data[0] {
	case 'B':
		m = &d.begin
	case 'C':
		m = &d.commit
	case 'O':
		m = &d.origin
	case 'R':
		m = new(Relation)
	case 'Y':
		m = &d.typ
	case 'I':
		m = &d.insert
	case 'U':
		m = &d.update
	case 'D':
		m = &d.delete
	case 'T':
		m = &d.truncate
	case 'M':
		m = &d.logical
	default:
		return nil, fmt.Errorf("decoding a message: unknown type %q", data[0])
	}
	return m, m.Decode(data[1:])
}
