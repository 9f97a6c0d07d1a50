package encode

import (
	"encoding/json"
	"strconv"

	"rillmark/internal/change"
)

// TransactionEnd is the type of the event that closes a transaction.
const TransactionEnd = "rillmark.transaction.end"

// Closer counts the events of the open transaction by table and operation.
type Closer struct {
	id     string // the transaction's
	total  int64
	tables map[string]map[string]int64
}

func (c *Closer) begin() {
	c.total = 0
	clear(c.tables)
}

func (c *Closer) count(e *change.Event) {
	if e.Transaction.Index == 0 || e.Transaction.ID != c.id {
		c.begin() // the last event of the one before may not be kept any more
		c.id = e.Transaction.ID
	}
	c.total++
	if e.Table == "" {
		return
	}
	if c.tables == nil {
		c.tables = make(map[string]map[string]int64)
	}
	counts := c.tables[e.Table]
	if counts == nil {
		counts = make(map[string]int64)
		c.tables[e.Table] = counts
	}
	counts[e.Operation.String()]++
}

// Resume counts an event that was delivered before delivery began again in the
// middle of its transaction.
func (c *Closer) Resume(e *change.Event) { c.count(e) }

// closing appends the event that closes e's transaction.
func (m *Maker) closing(b *Batch, e *change.Event, part int) {
	type transaction struct {
		ID          string `json:"id"`
		CommittedAt string `json:"committed_at"`
		Events      uint64 `json:"events"`
		Delivered   int64  `json:"delivered"`
	}
	at := e.Transaction.CommittedAt.UTC().Format("2006-01-02T15:04:05.000000Z")
	data := struct {
		Operation   string                      `json:"operation"`
		Database    string                      `json:"database"`
		Transaction transaction                 `json:"transaction"`
		Tables      map[string]map[string]int64 `json:"tables"`
	}{"end", e.Database, transaction{e.Transaction.ID, at, e.Transaction.Index + 1, m.closer.total}, m.closer.tables}
	raw, err := json.Marshal(data)
	if err != nil {
		panic(err) // strings and numbers always marshal
	}
	msg := Message{Offset: e.Offset, Part: part, Type: TransactionEnd, Barrier: true, Committed: e.Transaction.CommittedAt, ContentType: "application/json"}
	start := len(b.buf)
	b.buf = appendID(b.buf, e, "end")
	msg.ID = b.since(start)
	bare := *e
	bare.Table, bare.Schema, bare.Before, bare.After = "", nil, nil, nil
	bare.Operation = change.Message
	m.address(b, &bare, &msg, func(string) []byte { return nil })
	if len(msg.Partition) == 0 && m.wants.Key {
		msg.Partition = []byte(e.Transaction.ID)
	}
	start = len(b.buf)
	switch m.shape.Format {
	case FormatCloudEvents:
		b.buf = append(b.buf, `{"specversion":"1.0","id":"`...)
		b.buf = append(b.buf, msg.ID...)
		b.buf = append(b.buf, `","source":`...)
		source, _ := json.Marshal(m.shape.Address + "/sources/" + e.Source)
		b.buf = append(b.buf, source...)
		b.buf = append(b.buf, `,"type":"`+TransactionEnd+`","time":"`+at+`","datacontenttype":"application/json","sequence":"`...)
		b.buf = appendPadded(b.buf, e.Offset)
		b.buf = append(b.buf, `","data":`...)
		b.buf = append(append(b.buf, raw...), '}')
		msg.ContentType = "application/cloudevents+json"
	case FormatAvro, FormatParquet:
		return // a row cannot say it
	case FormatRow:
		b.buf = append(b.buf, `{"_operation":"end","_offset":`...)
		b.buf = strconv.AppendInt(b.buf, e.Offset, 10)
		b.buf = append(b.buf, `,"_end":`...)
		b.buf = append(append(b.buf, raw...), '}')
	default:
		b.buf = append(b.buf, raw...)
	}
	msg.Body = b.since(start)
	if m.wants.Headers {
		first := len(b.headers)
		m.format.headers(b, &bare, &msg)
		msg.Headers = b.headers[first:len(b.headers):len(b.headers)]
	}
	b.add(&msg, m.wants.Lines)
}
