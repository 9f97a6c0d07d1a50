// Package encode turns events into bytes. It is pure: it opens nothing and
// keeps nothing but scratch space.
package encode

import (
	"encoding/base64"
	"slices"
	"strconv"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/jsontext"
)

// CloudEvents writes events as structured JSON of CloudEvents 1.0, with the
// extensions sequence and partitionkey. It is not safe for several goroutines.
type CloudEvents struct {
	// Address is the service's public address, without a slash at its end.
	Address string
	// OnlyChanged leaves the columns of an update out that did not change and
	// are not of the key; OmitNulls leaves out what is null.
	OnlyChanged, OmitNulls bool
	// Along are the columns that are never left out so; nil where there are none.
	Along func(*change.Schema) []int
	along map[*change.Schema][]int // what it said
	shown []int
	// pair says that changed holds what changed between two halves.
	pair bool
	// Without leaves members of the data out.
	Without Members

	keys     []change.Value
	changed  []int
	nulls    []int
	inner    []byte
	lastTime time.Time
	timeText []byte
	fixed    map[partsOf]*fixedParts
	newest   [16]*fixedParts // by operation
	txID     string
	txTime   time.Time
	txPart   []byte // the transaction, up to its index
}

// partsOf is what fixed parts follow from.
type partsOf struct {
	source, database, table, half string
	schema                        *change.Schema
	operation                     change.Operation
}

// fixedParts are what the events of a table and operation have in common.
type fixedParts struct {
	of     partsOf
	head   []byte // from behind the id to the time
	middle []byte // from behind the time to the sequence
	data   []byte // the data's beginning
}

// maxFixed bounds the parts that are kept.
const maxFixed = 2000

// parts are those of an event.
func (c *CloudEvents) parts(e *change.Event, half string) *fixedParts {
	newest := &c.newest[int(e.Operation)%len(c.newest)]
	of := partsOf{e.Source, e.Database, e.Table, half, e.Schema, e.Operation}
	if p := *newest; p != nil && p.of == of {
		return p
	}
	p := c.fixed[of]
	if p == nil {
		if c.fixed == nil || len(c.fixed) >= maxFixed {
			c.fixed = make(map[partsOf]*fixedParts)
		}
		p = c.makeParts(e, of)
		c.fixed[of] = p
	}
	*newest = p
	return p
}

func (c *CloudEvents) makeParts(e *change.Event, of partsOf) *fixedParts {
	half := of.half
	head := append([]byte(nil), `","source":`...)
	head = jsontext.AppendString(head, c.Address+"/sources/"+e.Source)
	head = append(head, `,"type":"`...)
	head = append(head, e.Operation.EventType()...)
	if half != "" {
		head = append(append(head, '.'), half...)
	}
	head = append(head, '"')
	if e.Table != "" {
		head = append(head, `,"subject":`...)
		head = jsontext.AppendString(head, e.Table)
	}
	p := &fixedParts{of: of, head: append(head, `,"time":`...)}
	middle := append([]byte(nil), `,"datacontenttype":"application/json"`...)
	if e.Schema != nil {
		middle = append(middle, `,"dataschema":"`...)
		middle = append(middle, c.Address...)
		middle = append(middle, `/v1/schemas/`...)
		middle = appendHex16(middle, uint64(e.Schema.Fingerprint()))
		middle = append(middle, '"')
	}
	p.middle = append(middle, `,"sequence":"`...)
	data := append([]byte(nil), `{"operation":"`...)
	data = append(data, e.Operation.String()...)
	data = append(data, '"')
	if !c.Without.Database {
		data = append(data, `,"database":`...)
		data = jsontext.AppendString(data, e.Database)
	}
	if e.Table != "" {
		data = append(data, `,"table":`...)
		data = jsontext.AppendString(data, e.Table)
	}
	p.data = data
	return p
}

// Members of an event's data that can be left out.
type Members struct{ Database, Changed, Transaction, Log bool }

// Append appends one event, without a line feed.
func (c *CloudEvents) Append(dst []byte, e *change.Event) []byte {
	return c.appendHalf(dst, e, "")
}

// appendID writes source/generation/offset, and the half of a pair.
func appendID(dst []byte, e *change.Event, half string) []byte {
	dst = append(dst, e.Source...)
	dst = append(dst, '/')
	dst = strconv.AppendInt(dst, int64(e.Generation), 10)
	dst = append(dst, '/')
	dst = strconv.AppendInt(dst, e.Offset, 10)
	if half != "" {
		dst = append(append(dst, '/'), half...)
	}
	return dst
}

// appendHalf appends one event, or a half of it where an update goes out as old
// row and new row.
func (c *CloudEvents) appendHalf(dst []byte, e *change.Event, half string) []byte {
	dst = append(dst, `{"specversion":"1.0","id":"`...)
	dst = appendID(dst, e, half)
	p := c.parts(e, half)
	dst = append(dst, p.head...)
	dst = c.appendTime(dst, e.Transaction.CommittedAt)
	dst = append(dst, p.middle...)
	dst = appendPadded(dst, e.Offset)
	dst = append(dst, '"')
	c.keys = e.KeyValues(c.keys[:0])
	if len(c.keys) > 0 {
		dst = append(dst, `,"partitionkey":`...)
		dst = c.appendPartitionKey(dst, e.Schema)
	}
	dst = append(dst, `,"data":`...)
	dst = c.appendData(dst, e, p)
	return append(dst, '}')
}

// AppendData appends the event's data object alone.
func (c *CloudEvents) AppendData(dst []byte, e *change.Event) []byte {
	return c.appendData(dst, e, c.parts(e, ""))
}

func (c *CloudEvents) appendData(dst []byte, e *change.Event, p *fixedParts) []byte {
	dst = append(dst, p.data...)
	if e.Operation.IsRow() {
		dst = c.appendRow(dst, e)
	}
	if len(e.Body) > 0 {
		dst = append(dst, ',', '"')
		if e.Operation.IsRow() {
			dst = append(dst, "too_large"...) // sizes by column
		} else {
			dst = append(dst, e.Operation.String()...)
		}
		dst = append(dst, `":`...)
		dst = append(dst, e.Body...)
	}
	if !c.Without.Transaction {
		if t := &e.Transaction; c.txPart == nil || c.txID != t.ID || !c.txTime.Equal(t.CommittedAt) {
			c.txID, c.txTime = t.ID, t.CommittedAt
			c.txPart = append(append(c.txPart[:0], `,"transaction":{"id":"`...), t.ID...)
			c.txPart = c.appendTime(append(c.txPart, `","committed_at":`...), t.CommittedAt)
			c.txPart = append(c.txPart, `,"index":`...)
		}
		dst = append(dst, c.txPart...)
		dst = strconv.AppendUint(dst, e.Transaction.Index, 10)
		dst = append(dst, `,"last":`...)
		dst = strconv.AppendBool(dst, e.Transaction.Last)
		if e.Transaction.Origin != "" {
			dst = append(dst, `,"origin":`...)
			dst = jsontext.AppendString(dst, e.Transaction.Origin)
		}
		dst = append(dst, '}')
	}
	if !c.Without.Log {
		dst = append(dst, `,"log":{"engine":"`...)
		dst = append(dst, e.Engine...)
		dst = append(dst, `","position":"`...)
		dst = e.Engine.AppendPosition(dst, e.Place)
		dst = append(dst, `"}`...)
	}
	return append(dst, '}')
}

func (c *CloudEvents) appendRow(dst []byte, e *change.Event) []byte {
	dst = append(dst, `,"key":`...)
	c.keys = e.KeyValues(c.keys[:0])
	dst = appendKey(dst, e.Schema, c.keys)
	if e.Rekeyed != nil {
		dst = append(dst, `,"rekeyed":`...)
		dst = appendKey(dst, e.Schema, e.Rekeyed)
	}
	var known bool
	if c.pair {
		known = true // what changed between the halves, which each of them lacks
	} else {
		c.changed, known = e.Changed(c.changed[:0])
	}
	var only []int
	if known && c.OnlyChanged {
		only = c.withAlong(e.Schema, c.changed)
	}
	dst = append(dst, `,"before":`...)
	dst = c.appendImage(dst, e.Schema, e.Before, only)
	dst = append(dst, `,"after":`...)
	dst = c.appendImage(dst, e.Schema, e.After, only)
	if known && !c.pair && !c.Without.Changed {
		dst = appendNames(append(dst, `,"changed":`...), e.Schema, c.changed)
	}
	first := true
	for i, v := range e.Image() {
		if v.Presence != change.Omitted {
			continue
		}
		if first {
			dst = append(dst, `,"omitted":[`...)
			first = false
		} else {
			dst = append(dst, ',')
		}
		dst = appendName(dst, e.Schema, i)
	}
	if !first {
		dst = append(dst, ']')
	}
	return c.appendJSONNulls(dst, e)
}

// appendJSONNulls names the columns of both images that hold the JSON document null,
// which looks like SQL's null in the row.
func (c *CloudEvents) appendJSONNulls(dst []byte, e *change.Event) []byte {
	began := false
	for _, one := range []struct {
		name  string
		image []change.Value
	}{{`"before":`, e.Before}, {`"after":`, e.After}} {
		c.nulls = e.Schema.JSONNulls(c.nulls[:0], one.image)
		if len(c.nulls) == 0 {
			continue
		}
		if !began {
			dst = append(dst, `,"json_null":{`...)
		} else {
			dst = append(dst, ',')
		}
		began = true
		dst = appendNames(append(dst, one.name...), e.Schema, c.nulls)
	}
	if began {
		dst = append(dst, '}')
	}
	return dst
}

func appendNames(dst []byte, s *change.Schema, columns []int) []byte {
	dst = append(dst, '[')
	for n, i := range columns {
		if n > 0 {
			dst = append(dst, ',')
		}
		dst = appendName(dst, s, i)
	}
	return append(dst, ']')
}

// appendName is column i's name as a JSON string.
func appendName(dst []byte, s *change.Schema, i int) []byte {
	name := s.QuotedName(i)
	return append(dst, name[:len(name)-1]...)
}

func appendKey(dst []byte, s *change.Schema, values []change.Value) []byte {
	if len(values) == 0 {
		return append(dst, "null"...)
	}
	dst = append(dst, '{')
	for n, i := range s.Key() {
		if n > 0 {
			dst = append(dst, ',')
		}
		dst = append(dst, s.QuotedName(i)...)
		dst = appendValue(dst, s.Form(i), values[n])
	}
	return append(dst, '}')
}

// appendImage writes a row; only, where it is not nil, are the columns to write
// besides those of the key.
func (c *CloudEvents) appendImage(dst []byte, s *change.Schema, image []change.Value, only []int) []byte {
	if image == nil {
		return append(dst, "null"...)
	}
	dst = append(dst, '{')
	first := true
	for i := range image {
		if c.leftOut(s, image, i, only) {
			continue
		}
		if !first {
			dst = append(dst, ',')
		}
		first = false
		dst = append(dst, s.QuotedName(i)...)
		dst = appendValue(dst, s.Form(i), image[i])
	}
	return append(dst, '}')
}

func (c *CloudEvents) leftOut(s *change.Schema, image []change.Value, i int, only []int) bool {
	switch {
	case image[i].Presence == change.Omitted:
		return true
	case image[i].Presence == change.Null && c.OmitNulls:
		return true
	case only == nil || s.Columns[i].Key > 0:
		return false
	}
	return !slices.Contains(only, i)
}

// appendValue writes a value as JSON; an omitted one as null, which the callers
// leave out.
func appendValue(dst []byte, form change.Form, v change.Value) []byte {
	if v.Presence != change.Present {
		return append(dst, "null"...)
	}
	switch form {
	case change.FormRaw:
		return append(dst, v.Text...)
	case change.FormPlain:
		dst = append(dst, '"')
		dst = append(dst, v.Text...)
		return append(dst, '"')
	case change.FormNumber:
		if jsontext.IsNumber(v.Text) {
			return append(dst, v.Text...)
		}
		return jsontext.AppendString(dst, v.Text)
	case change.FormBase64:
		dst = append(dst, '"')
		dst = base64.StdEncoding.AppendEncode(dst, v.Text)
		return append(dst, '"')
	default:
		return jsontext.AppendString(dst, v.Text)
	}
}

// appendPartitionKey is the text of a single key column, else the JSON array of
// the key's values, as a JSON string.
func (c *CloudEvents) appendPartitionKey(dst []byte, s *change.Schema) []byte {
	if len(c.keys) == 1 {
		if s.Form(s.Key()[0]) == change.FormBase64 {
			return appendValue(dst, change.FormBase64, c.keys[0])
		}
		return jsontext.AppendString(dst, c.keys[0].Text)
	}
	c.inner = append(c.inner[:0], '[')
	for n, i := range s.Key() {
		if n > 0 {
			c.inner = append(c.inner, ',')
		}
		c.inner = appendValue(c.inner, s.Form(i), c.keys[n])
	}
	c.inner = append(c.inner, ']')
	return jsontext.AppendString(dst, c.inner)
}

// appendTime writes RFC 3339 in UTC with six decimals, quoted. Events of one
// transaction share their time, so the newest is kept.
func (c *CloudEvents) appendTime(dst []byte, t time.Time) []byte {
	if c.timeText == nil || !t.Equal(c.lastTime) {
		c.lastTime = t
		c.timeText = t.UTC().AppendFormat(c.timeText[:0], `"2006-01-02T15:04:05.000000Z"`)
	}
	return append(dst, c.timeText...)
}

func appendHex16(dst []byte, v uint64) []byte {
	const digits = "0123456789abcdef"
	for shift := 60; shift >= 0; shift -= 4 {
		dst = append(dst, digits[v>>shift&15])
	}
	return dst
}

// appendPadded writes twenty digits, so that sequences sort as text.
func appendPadded(dst []byte, n int64) []byte {
	start := len(dst)
	dst = append(dst, "00000000000000000000"...)
	for i := len(dst) - 1; n > 0 && i >= start; i-- {
		dst[i] = byte('0' + n%10)
		n /= 10
	}
	return dst
}

// withAlong are columns that have changed, and those that come along.
func (c *CloudEvents) withAlong(s *change.Schema, changed []int) []int {
	if c.Along == nil {
		return changed
	}
	along, known := c.along[s]
	if !known {
		if c.along == nil || len(c.along) > 10_000 {
			c.along = make(map[*change.Schema][]int)
		}
		along = c.Along(s)
		c.along[s] = along
	}
	c.shown = append(c.shown[:0], changed...)
	for _, i := range along {
		if !slices.Contains(c.shown, i) {
			c.shown = append(c.shown, i)
		}
	}
	return c.shown
}
