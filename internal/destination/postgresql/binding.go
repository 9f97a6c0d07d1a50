package postgresql

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
)

// binding is how rows of a schema version are written into their table.
type binding struct {
	*table
	schema *change.Schema
	// from is which of the version's columns are written; names are theirs here, quoted.
	// Behind them stand our own.
	from  []int
	names []string
	write []writing
	key   []int // places in from
	stage string
	texts map[string]string // statements by what they do
}

// bind is how the rows of a run are written.
func (w *writer) bind(ctx context.Context, r *run) (*binding, error) {
	t, err := w.tableFor(ctx, r.table, r.schema)
	if err != nil {
		return nil, err
	}
	if b := t.bound; b != nil && b.schema.Fingerprint() == r.schema.Fingerprint() {
		return b, nil
	}
	if err := w.alter(ctx, t, r.schema); err != nil {
		return nil, err
	}
	b := &binding{table: t, schema: r.schema, texts: make(map[string]string), stage: fmt.Sprintf("pg_temp.%s", quoted(fmt.Sprintf("rillmark_%s_%s", t.name[:min(len(t.name), 30)], r.schema.Fingerprint())))}
	for i := range r.schema.Columns {
		c := &r.schema.Columns[i]
		if known := t.column(c.Name); known == nil || known.generated {
			continue // a generated column has its value by itself
		}
		if c.Key > 0 {
			b.key = append(b.key, len(b.from))
		}
		b.from = append(b.from, i)
		b.names = append(b.names, quoted(c.Name))
		b.write = append(b.write, writingOf(c))
	}
	slices.SortFunc(b.key, func(x, y int) int {
		return r.schema.Columns[b.from[x]].Key - r.schema.Columns[b.from[y]].Key
	})
	for _, name := range t.keep.Own() {
		b.names = append(b.names, quoted(name))
	}
	if err := b.unique(); err != nil {
		return nil, err
	}
	t.bound = b
	return b, nil
}

// unique refuses a table in which a row's key can be there twice.
func (b *binding) unique() error {
	if len(b.key) == 0 || b.keep == sql.Versions {
		return nil
	}
	key := make([]string, len(b.key))
	for i, at := range b.key {
		key[i] = b.schema.Columns[b.from[at]].Name
	}
	for _, unique := range b.uniques {
		if len(unique) == len(key) && !slices.ContainsFunc(unique, func(name string) bool { return !slices.Contains(key, name) }) {
			return nil
		}
	}
	return &engine.Fault{Code: "no-unique-key", Final: true, Message: fmt.Sprintf("%s has no unique index on just the key of %s (%s)", b.sql, b.table.source, strings.Join(key, ", ")),
		Fix: fmt.Sprintf("ALTER TABLE %s ADD PRIMARY KEY (%s); delivery goes on after `rillmark outlet resume`", b.sql, strings.Join(b.keyNames(), ", "))}
}

func (b *binding) keyNames() []string {
	names := make([]string, len(b.key))
	for i, at := range b.key {
		names[i] = b.names[at]
	}
	return names
}

// matching is a condition that pairs rows of both tables by their key.
func (b *binding) matching(one, other string) string {
	parts := make([]string, len(b.key))
	for i, name := range b.keyNames() {
		parts[i] = one + "." + name + " = " + other + "." + name
	}
	return strings.Join(parts, " AND ")
}

// setting assigns the columns at places from another table, but those of the key.
func (b *binding) setting(places []int, other string) string {
	var parts []string
	for _, at := range places {
		if !slices.Contains(b.key, at) {
			parts = append(parts, b.names[at]+" = "+other+"."+b.names[at])
		}
	}
	if len(parts) == 0 { // a row that is nothing but its key
		name := b.names[b.key[0]]
		return name + " = " + other + "." + name
	}
	return strings.Join(parts, ", ")
}

// all are the places of all columns, our own included.
func (b *binding) all() []int {
	places := make([]int, len(b.names))
	for i := range places {
		places[i] = i
	}
	return places
}

func (b *binding) list(places []int) string {
	names := make([]string, len(places))
	for i, at := range places {
		names[i] = b.names[at]
	}
	return strings.Join(names, ", ")
}

// maxTexts bounds the statements that are kept: there is one for each set of columns that
// rows come with.
const maxTexts = 1000

// text is a statement that is made once.
func (b *binding) text(does string, build func() string) string {
	text := b.texts[does]
	if text == "" {
		if len(b.texts) >= maxTexts {
			clear(b.texts)
		}
		text = build()
		b.texts[does] = text
	}
	return text
}

// value appends the text of a row's column at a place of from; null is true for a null.
func (b *binding) value(dst []byte, at int, v change.Value) (text []byte, null bool, err error) {
	if v.Presence != change.Present {
		return dst, true, nil
	}
	if write := b.write[at]; write != nil {
		if dst, err = write(dst, v.Text); err != nil {
			c := &b.schema.Columns[b.from[at]]
			err = fmt.Errorf("column %s (%s) of %s: %w", c.Name, c.Type, b.table.source, err)
		}
		return dst, false, err
	}
	return append(dst, v.Text...), false, nil
}

const timeFormat = "2006-01-02T15:04:05.999999Z07:00"

// flags appends the texts of our own columns, for rows that are kept flagged.
func (b *binding) flags(dst [][]byte, m *encode.Message, deleted bool) [][]byte {
	if b.keep != sql.Flagged {
		return dst
	}
	return append(dst, fmt.Appendf(nil, "%t", deleted), fmt.Appendf(nil, "%d", m.Offset), m.Committed.UTC().AppendFormat(nil, timeFormat))
}

// infinity is the end of the newest version.
var infinity = []byte("infinity")

func stamp(t time.Time) []byte { return t.UTC().AppendFormat(nil, timeFormat) }
