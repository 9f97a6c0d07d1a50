package wire

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"
)

// Rows are the rows of a statement as they come. They must be read to their end or the
// session closed before the next statement.
type Rows struct {
	conn    *Conn
	stop    func() bool
	ctx     context.Context //nolint:containedctx // the statement's, for as long as its rows come
	Columns []string
	// Touched is how many rows the last statement without rows has touched; Warnings are
	// those of all statements so far.
	Touched  int64
	Warnings int
	values   [][]byte // nil behind the last row
	follows  bool     // another statement's answer comes
	ended    bool
	err      error
}

// statusMore says that another answer follows (section "Server status").
const statusMore = 8

// Query sends a statement. Its rows come in text form, a null being nil.
func (c *Conn) Query(ctx context.Context, statement string) (*Rows, error) {
	if c.broken {
		return nil, errors.New("the session has been closed")
	}
	if err := context.Cause(ctx); err != nil {
		return nil, err
	}
	r := &Rows{conn: c, ctx: ctx}
	r.stop = context.AfterFunc(ctx, func() { c.conn.SetDeadline(time.Unix(1, 0)) }) //nolint:errcheck // the statement fails by it
	if err := c.command(0x03, statement); err != nil {
		return nil, r.fail(err)
	}
	if err := r.head(); err != nil {
		return nil, err
	}
	return r, nil
}

// head reads what comes before a statement's rows: of a statement without rows that is all.
func (r *Rows) head() error {
	c := r.conn
	packet, err := c.readPacket()
	if err != nil {
		return r.fail(err)
	}
	f := &fields{data: packet}
	switch {
	case len(packet) == 0:
		return r.fail(errPacket)
	case packet[0] == 0x00: // section "OK_Packet"
		f.take(1)
		touched, _ := f.length()
		f.length() // the last number that was given
		status, warnings := f.number(2), f.number(2)
		if f.bad {
			return r.fail(errPacket)
		}
		r.Touched, r.Warnings = int64(touched), r.Warnings+int(warnings)
		r.follows = status&statusMore != 0
		if !r.follows {
			r.finish()
		}
		r.values = nil
		return nil
	case packet[0] == 0xFF:
		err := errorOf(packet)
		r.finish()
		return err
	case packet[0] == 0xFB:
		return r.fail(errors.New("the server asks for a file, which it never gets"))
	}
	n, _ := f.length()
	if f.bad || n > 4096+1 {
		return r.fail(errPacket)
	}
	r.Columns = r.Columns[:0]
	for range n { // section "Column definition packet"
		packet, err := c.readPacket()
		if err != nil {
			return r.fail(err)
		}
		f := &fields{data: packet}
		for range 4 {
			f.text() // catalog, schema, table and its own name
		}
		r.Columns = append(r.Columns, string(f.text()))
		if f.bad {
			return r.fail(errPacket)
		}
	}
	if packet, err = c.readPacket(); err != nil {
		return r.fail(err)
	}
	if len(packet) == 0 || packet[0] != 0xFE {
		return r.fail(errPacket)
	}
	r.values = make([][]byte, n)
	return nil
}

// fail ends the session with the statement.
func (r *Rows) fail(err error) error {
	r.conn.broken = true
	r.finish()
	if cause := context.Cause(r.ctx); cause != nil {
		err = cause
	}
	r.err = err
	return err
}

func (r *Rows) finish() {
	if r.ended {
		return
	}
	r.ended = true
	if !r.stop() {
		r.conn.broken = true // its deadline has been moved
	}
}

// Next is the next row, good until the next call; nil behind the last one or at an error.
func (r *Rows) Next() [][]byte {
	if r.ended || r.values == nil {
		return nil
	}
	packet, err := r.conn.readPacket()
	if err != nil {
		r.fail(err) //nolint:errcheck // Err gives it
		return nil
	}
	switch {
	case len(packet) > 0 && packet[0] == 0xFE && len(packet) < 9: // section "EOF_Packet"
		f := &fields{data: packet[1:]}
		r.Warnings += int(f.number(2))
		r.follows, r.values = f.number(2)&statusMore != 0, nil
		if !r.follows {
			r.finish()
		}
		return nil
	case len(packet) > 0 && packet[0] == 0xFF:
		r.err = errorOf(packet)
		r.finish()
		return nil
	}
	f := &fields{data: packet}
	for i := range r.values {
		r.values[i] = f.text()
	}
	if f.bad {
		r.fail(errPacket) //nolint:errcheck // Err gives it
		return nil
	}
	return r.values
}

// Err is what ended the rows before their end.
func (r *Rows) Err() error { return r.err }

// Done is what statements that bring no rows of interest have done.
type Done struct {
	// Touched are the rows that the last statement has found, or put in.
	Touched int64
	// Warnings are those of all of them together.
	Warnings int
}

// Run runs statements, several where the session allows that, and drops their rows. Behind
// one that fails none is run.
func (c *Conn) Run(ctx context.Context, statements string) (Done, error) {
	r, err := c.Query(ctx, statements)
	if err != nil {
		return Done{}, err
	}
	for {
		for r.Next() != nil {
			continue
		}
		if r.ended || r.err != nil {
			return Done{r.Touched, r.Warnings}, r.err
		}
		if err := r.head(); err != nil {
			return Done{}, err
		}
	}
}

// Load runs a LOAD DATA LOCAL INFILE whose data is what next gives, up to an empty part; no
// file is read, whatever the server asks for (section "LOCAL_INFILE Packet"). A part is good
// until the next one.
func (c *Conn) Load(ctx context.Context, statement string, next func() ([]byte, error)) (Done, error) {
	if c.broken {
		return Done{}, errors.New("the session has been closed")
	}
	r := &Rows{conn: c, ctx: ctx}
	r.stop = context.AfterFunc(ctx, func() { c.conn.SetDeadline(time.Unix(1, 0)) }) //nolint:errcheck // the statement fails by it
	if err := c.command(0x03, statement); err != nil {
		return Done{}, r.fail(err)
	}
	packet, err := c.readPacket()
	switch {
	case err != nil:
		return Done{}, r.fail(err)
	case len(packet) > 0 && packet[0] == 0xFF:
		err := errorOf(packet)
		r.finish()
		return Done{}, err
	case len(packet) == 0 || packet[0] != 0xFB:
		return Done{}, r.fail(errPacket)
	}
	var wrong error
	for wrong == nil {
		var part []byte
		if part, wrong = next(); len(part) == 0 {
			break
		}
		if err := c.writePacket(part); err != nil {
			return Done{}, r.fail(err)
		}
	}
	if err := c.writePacket(nil); err != nil {
		return Done{}, r.fail(err)
	}
	if err := r.head(); err != nil {
		return Done{}, err
	}
	return Done{r.Touched, r.Warnings}, wrong
}

// Exec runs a statement and drops its rows.
func (c *Conn) Exec(ctx context.Context, statement string) error {
	r, err := c.Query(ctx, statement)
	if err != nil {
		return err
	}
	for r.Next() != nil {
		continue
	}
	return r.Err()
}

// MostAnswer is what the rows of a statement that brings few may have in all, in bytes.
const MostAnswer = 256 << 20

// All is the rows of a statement that brings few, of so many columns at least, as texts; a null is
// the empty text.
func (c *Conn) All(ctx context.Context, columns int, statement string) ([][]string, error) {
	return c.few(ctx, columns, statement, MostAnswer)
}

func (c *Conn) few(ctx context.Context, columns int, statement string, most int) ([][]string, error) {
	limit := c.most
	c.most = most
	defer func() { c.most = limit }()
	r, err := c.Query(ctx, statement)
	if err != nil {
		return nil, err
	}
	if err := r.Want(columns); err != nil {
		return nil, err
	}
	var all [][]string
	left := most
	for row := r.Next(); row != nil; row = r.Next() {
		texts := make([]string, len(row))
		left -= 32 + 16*len(row)
		for i, v := range row {
			texts[i] = string(v)
			left -= len(v)
		}
		if left < 0 {
			return nil, r.fail(fmt.Errorf("the server answers with rows of more than %d MiB, where few were asked for", most>>20))
		}
		all = append(all, texts)
	}
	return all, r.Err()
}

// Want fails, and ends the session, where rows do not have so many columns at least.
func (r *Rows) Want(columns int) error {
	if r.values == nil || len(r.Columns) >= columns {
		return nil
	}
	return r.fail(fmt.Errorf("the server answers with %d columns where %d were asked for", len(r.Columns), columns))
}

// One is the first row of a statement, see All; nil where it has none.
func (c *Conn) One(ctx context.Context, columns int, statement string) ([]string, error) {
	all, err := c.All(ctx, columns, statement)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return all[0], nil
}

// Row is One for a statement that always has a row.
func (c *Conn) Row(ctx context.Context, columns int, statement string) ([]string, error) {
	row, err := c.One(ctx, columns, statement)
	if err == nil && row == nil {
		err = errors.New("the server answers without a row, where there always is one")
	}
	return row, err
}

// Text is a text as a statement has it, whatever the session's sql_mode. Its bytes are
// UTF-8, as the session's.
func Text(s string) string {
	if strings.ContainsAny(s, `\`) {
		// A backslash escapes or not, by the sql_mode: bytes say it without one.
		const digits = "0123456789abcdef"
		var b strings.Builder
		b.WriteString("_utf8mb4 X'")
		for i := range len(s) {
			b.WriteByte(digits[s[i]>>4])
			b.WriteByte(digits[s[i]&15])
		}
		b.WriteByte('\'')
		return b.String()
	}
	return "'" + strings.ReplaceAll(s, "'", "''") + "'"
}

// Name is a name as a statement has it.
func Name(s string) string { return "`" + strings.ReplaceAll(s, "`", "``") + "`" }
