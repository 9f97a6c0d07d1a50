package compared

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"rillmark/internal/mariadb/values"
	"rillmark/internal/mariadb/wire"
	"rillmark/internal/verify"
)

var _ verify.Summer = (*Rows)(nil)

// mostSummed is of how many columns rows are added up: checksums of more texts would be nested
// too deeply for the server's stack.
const mostSummed = 200

// SumForm implements [verify.Summer]. What is added up are checksums of values as texts in UTF-8,
// which are the same for the same values where the types are.
func (r *Rows) SumForm(columns []string) string {
	if r.layout.Filter != nil || len(columns) > mostSummed || !canContinue(r.conn.Version) {
		return ""
	}
	form := "mariadb"
	for _, name := range columns {
		c := r.summed(name)
		if c == nil {
			return ""
		}
		switch c.Kind {
		case values.Text, values.Enum:
			if _, is := r.inUTF8(c); !is {
				return ""
			}
			form += " text"
		default:
			form += " " + c.Type
		}
	}
	return form
}

// canContinue reports whether a server's version can continue a checksum with a further text,
// which is so since 10.8.
func canContinue(version string) bool {
	first, rest, _ := strings.Cut(strings.TrimPrefix(version, "5.5.5-"), ".") // servers send that prefix for old clients
	second, _, _ := strings.Cut(rest, ".")
	major, err1 := strconv.Atoi(first)
	minor, err2 := strconv.Atoi(second)
	return err1 == nil && err2 == nil && (major > 10 || major == 10 && minor >= 8)
}

// summed is a column whose values are the database's own; nil where there is none.
func (r *Rows) summed(name string) *values.Column {
	for i := range r.layout.Schema.Columns {
		if r.layout.Schema.Columns[i].Name != name {
			continue
		}
		c := r.table.Columns[r.layout.From[i]]
		if r.layout.Schema.Columns[i].Treatment != "" || c.Kind == values.JSON || c.Kind == values.Set { // events have JSON without its white space
			return nil
		}
		return c
	}
	return nil
}

// inUTF8 is a text converted to UTF-8, and whether no two texts of its character set become the
// same: of some sets, bytes that are no text become question marks.
func (r *Rows) inUTF8(c *values.Column) (text string, is bool) {
	name := wire.Name(c.Name)
	switch r.sets[c.Log.Collation].Name {
	case "utf8mb4", "utf8mb3", "utf8":
		return name, true
	case "latin1":
		return "CONVERT(" + name + " USING utf8mb4)", true
	}
	return "", false
}

// texts are what is hashed of a column's values: short ones, which have no separator in them, and
// one that follows those. No two values have the same.
func (r *Rows) texts(c *values.Column) (short, long string) {
	orEmpty := func(text string) string {
		if !c.Nullable {
			return text
		}
		return "IFNULL(" + text + ", '')"
	}
	text := c.Selection(wire.Name(c.Name))
	switch c.Kind {
	case values.Text, values.Enum:
		text, _ = r.inUTF8(c)
		fallthrough
	case values.Binary, values.Bits, values.Geometry:
		return orEmpty("OCTET_LENGTH(" + text + ")"), orEmpty(text)
	default:
		return orEmpty(text), "" // no number, date or address is empty
	}
}

// Sum implements [verify.Summer]. Two checksums are multiplied: one alone has 32 bits, and the
// sum of those of two rows that exchange a value may stay what it is.
func (r *Rows) Sum(ctx context.Context, columns, after, upTo []string) (rows int64, sum string, err error) {
	var short, long []string
	for _, name := range columns {
		one, more := r.texts(r.summed(name))
		if short = append(short, one); more != "" {
			long = append(long, more)
		}
	}
	one := "CONCAT_WS('|', " + strings.Join(short, ", ") + ")"
	one, two := "CRC32("+one+")", "CRC32C("+one+")"
	for _, text := range long {
		one, two = "CRC32("+one+", "+text+")", "CRC32C("+two+", "+text+")"
	}
	conditions := r.conditions()
	if after != nil {
		conditions = append(conditions, r.side(after, ">"))
	}
	if upTo != nil {
		conditions = append(conditions, r.side(upTo, "<", "="))
	}
	row, err := r.conn.One(ctx, 2, "SELECT COUNT(*), COALESCE(SUM("+one+" * "+two+"), 0) FROM "+r.from(conditions))
	if err != nil {
		return 0, "", err
	}
	if len(row) != 2 {
		return 0, "", fmt.Errorf("the server gave %d columns for a count and a sum", len(row))
	}
	rows, err = strconv.ParseInt(row[0], 10, 64)
	return rows, row[1], err
}
