package encode

import "rillmark/internal/change"

// Format is how an outlet's events are written.
type Format string

// The formats; each has a file of its own.
const (
	FormatCloudEvents       Format = "cloudevents"        // structured JSON
	FormatCloudEventsBinary Format = "cloudevents-binary" // the attributes as headers
	FormatData              Format = "data"               // the data object alone
	FormatRow               Format = "row"                // the row as flat JSON
	FormatAvro              Format = "avro"               // the row in Avro
	FormatParquet           Format = "parquet"            // the row's values, for files of them
	FormatTable             Format = "table"              // the change itself, for tables of a database
)

// Formats are the ways in which an outlet's events can be written.
var Formats = []string{string(FormatCloudEvents), string(FormatCloudEventsBinary), string(FormatData), string(FormatRow), string(FormatAvro), string(FormatParquet), string(FormatTable)}

// Flat reports whether messages are rows, which have a schema version of their own.
func (f Format) Flat() bool { return f == FormatRow || f == FormatAvro || f == FormatParquet }

// format writes one event's body and headers; the batch's buffer holds their text.
type format interface {
	body(b *Batch, e *change.Event, half string, msg *Message) error
	headers(b *Batch, e *change.Event, msg *Message)
}

func (m *Maker) formatOf(f Format) format {
	switch f {
	case FormatCloudEventsBinary:
		return binaryFormat{m}
	case FormatData:
		return dataFormat{m}
	case FormatRow:
		return rowFormat{m}
	case FormatAvro:
		return avroFormat{rowFormat{m}, newAvroRow()}
	case FormatParquet:
		return parquetFormat{rowFormat{m}}
	case FormatTable:
		return tableFormat{}
	case FormatCloudEvents:
	}
	return structuredFormat{m}
}

// header adds a header to those of the message in hand.
func (b *Batch) header(name string, value []byte, attribute bool) {
	b.headers = append(b.headers, Header{Name: name, Value: value, Attribute: attribute})
}

// text keeps a text in the batch.
func (b *Batch) text(s string) []byte {
	at := len(b.buf)
	b.buf = append(b.buf, s...)
	return b.since(at)
}

// plainHeaders are what a consumer needs to know before it reads a body that does not
// say so itself.
func plainHeaders(b *Batch, e *change.Event, msg *Message) {
	b.header("rillmark-id", msg.ID, false)
	b.header("rillmark-type", b.text(msg.Type), false)
	if e.Table != "" {
		b.header("rillmark-table", b.text(e.Table), false)
	}
	if msg.Schema != nil {
		b.header("rillmark-schema", b.text(msg.Schema.Fingerprint().String()), false)
	}
}
