package sql

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
)

// Binding is how rows of a schema version are written into their table.
type Binding struct {
	*Table
	// Source is the version.
	Source *change.Schema
	// From is which of the version's columns are written, Write how, and Names are theirs
	// here, quoted. Behind those stand our own.
	From  []int
	Names []string
	Write []Writing
	// Key are the key's places in From.
	Key []int
	// Stage is a name for a temporary table of the binding's own, unquoted.
	Stage   string
	texts   map[string]string // statements by what they do
	dialect Dialect
}

// fits reports whether a binding is that of a schema version.
func (b *Binding) fits(schema *change.Schema) bool {
	return b != nil && (b.Source == schema || b.Source.Fingerprint() == schema.Fingerprint())
}

// bindAll makes the tables ready for messages of rows where that would commit what is open.
func (w *Writer) bindAll(ctx context.Context, messages []encode.Message) error {
	if w.db.TransactionalDefinitions() {
		return nil
	}
	for i := range messages {
		if m := &messages[i]; m.Operation.IsRow() {
			if t := w.tables[m.Table]; t != nil && t.bound.fits(m.Schema) || w.isHeld(m) {
				continue
			}
			err := w.apart(ctx, m.Table, func(w *Writer) error {
				_, err := w.bind(ctx, m.Table, m.Schema)
				return err
			})
			if err := w.heldFor(m, err); err != nil {
				return err
			}
		}
	}
	return nil
}

// bind is how rows of a table's schema version are written.
func (w *Writer) bind(ctx context.Context, source string, schema *change.Schema) (*Binding, error) {
	t, err := w.tableFor(ctx, source, schema)
	if err != nil {
		return nil, err
	}
	if t.bound.fits(schema) {
		return t.bound, nil
	}
	if err := w.alter(ctx, t, schema); err != nil {
		return nil, err
	}
	b := &Binding{Table: t, Source: schema, texts: make(map[string]string), dialect: w.db, Stage: fmt.Sprintf("rillmark_%s_%s", cut(t.Name, 30), schema.Fingerprint())}
	for i := range schema.Columns {
		c := &schema.Columns[i]
		known := t.Column(c.Name)
		if known == nil || known.Generated {
			continue // a generated column has its value by itself
		}
		if c.Key > 0 {
			b.Key = append(b.Key, len(b.From))
		}
		b.From = append(b.From, i)
		b.Names = append(b.Names, w.db.Quote(c.Name))
		b.Write = append(b.Write, w.db.Writing(c, known))
	}
	slices.SortFunc(b.Key, func(x, y int) int {
		return schema.Columns[b.From[x]].Key - schema.Columns[b.From[y]].Key
	})
	for _, name := range t.Keep.Own() {
		b.Names = append(b.Names, w.db.Quote(name))
	}
	if err := b.unique(); err != nil {
		return nil, err
	}
	if err := w.distinguishes(ctx, t, schema); err != nil {
		return nil, err
	}
	t.bound = b
	return b, nil
}

// cut is the beginning of a name, of whole characters.
func cut(name string, most int) string {
	return strings.ToValidUTF8(name[:min(len(name), most)], "")
}

// distinguishes refuses a table in which rows of the source with different keys would be one.
func (w *Writer) distinguishes(ctx context.Context, t *Table, schema *change.Schema) error {
	if t.Keep == Versions {
		return nil
	}
	for _, i := range schema.Key() {
		c := &schema.Columns[i]
		known := t.Column(c.Name)
		if known == nil {
			continue
		}
		kind, _, err := w.db.TypeOf(ctx, schema, c, onlyPlanned)
		if errors.Is(err, errPlanned) {
			continue // labels of an enum are to be added
		}
		if err != nil {
			return err
		}
		if rounds(known.Kind, kind, t.AnyCase) {
			wide := *known
			wide.Kind = kind
			return &engine.Fault{Code: CodeKeysEqual, Final: true, Message: fmt.Sprintf("column %s of %s is %s, and the source's %s: different keys may be rounded to one", known.Name, t.SQL, known.Kind, c.Type),
				Fix: w.db.Modify(t, &wide) + "; then `rillmark outlet resume " + w.outlet.Name + "`"}
		}
	}
	return w.db.Distinguishes(t, schema)
}

// unique refuses a table in which a row's key can be there twice.
func (b *Binding) unique() error {
	if len(b.Key) == 0 || b.Keep == Versions {
		return nil
	}
	var key []string
	for _, at := range b.Key {
		key = append(key, b.Source.Columns[b.From[at]].Name)
	}
	if b.isUnique(key) {
		return nil
	}
	return &engine.Fault{Code: codeNoUniqueKey, Final: true, Message: fmt.Sprintf("%s has no unique index on just the key of %s (%s)", b.SQL, b.Table.Source, strings.Join(key, ", ")),
		Fix: b.dialect.Rekey(b.Table, b.KeyNames(), false) + "; delivery goes on after `rillmark outlet resume`"}
}

// isUnique reports whether an index keeps a key from being there twice.
func (t *Table) isUnique(key []string) bool {
	return slices.ContainsFunc(t.Uniques, func(unique []string) bool { return sameNames(unique, key) })
}

func sameNames(some, others []string) bool {
	return len(some) == len(others) && !slices.ContainsFunc(some, func(name string) bool { return !slices.Contains(others, name) })
}

// KeyNames are the quoted names of the key's columns.
func (b *Binding) KeyNames() []string {
	names := make([]string, len(b.Key))
	for i, at := range b.Key {
		names[i] = b.Names[at]
	}
	return names
}

// Matching is a condition that pairs rows of two tables by their key.
func (b *Binding) Matching(one, other string) string {
	parts := make([]string, len(b.Key))
	for i, name := range b.KeyNames() {
		parts[i] = one + "." + name + " = " + other + "." + name
	}
	return strings.Join(parts, " AND ")
}

// Setting assigns the columns at places, but those of the key, what value makes of their
// quoted names.
func (b *Binding) Setting(places []int, value func(name string) string) string {
	var parts []string
	for _, at := range places {
		if !slices.Contains(b.Key, at) {
			parts = append(parts, b.Names[at]+" = "+value(b.Names[at]))
		}
	}
	if len(parts) == 0 { // a row that is nothing but its key
		name := b.Names[b.Key[0]]
		return name + " = " + value(name)
	}
	return strings.Join(parts, ", ")
}

// All are the places of all columns, our own included.
func (b *Binding) All() []int {
	places := make([]int, len(b.Names))
	for i := range places {
		places[i] = i
	}
	return places
}

// List joins the quoted names of the columns at places.
func (b *Binding) List(places []int) string {
	names := make([]string, len(places))
	for i, at := range places {
		names[i] = b.Names[at]
	}
	return list(names)
}

// Carried are the places of the values that an image has.
func (b *Binding) Carried(image []change.Value) (places []int) {
	for at, i := range b.From {
		if image[i].Presence != change.Omitted {
			places = append(places, at)
		}
	}
	return places
}

// WithKey is a row's image under another key.
func (b *Binding) WithKey(image, key []change.Value) []change.Value {
	other := append([]change.Value(nil), image...)
	for n, at := range b.Source.Key() {
		other[at] = key[n]
	}
	return other
}

// There is the condition, behind those of the key, under which a row is there.
func (b *Binding) There(moved bool) string {
	switch {
	case b.Keep == Flagged:
		return " AND NOT coalesce(" + Deleted + ", false)"
	case b.Keep == Versions && moved:
		return " AND " + Operation + " <> 'delete'"
	case b.Keep == Versions:
		return " AND " + Operation + " <> 'delete' AND " + Until + " = '" + b.dialect.Infinity() + "'"
	}
	return ""
}

// maxTexts bounds the statements that are kept: there is one for each set of columns that
// rows come with.
const maxTexts = 1000

// Text is a statement that is made once.
func (b *Binding) Text(does string, build func() string) string {
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

// Value appends the text of a row's column at a place of From; null is true for a null.
func (b *Binding) Value(dst []byte, at int, v change.Value) (text []byte, null bool, err error) {
	if v.Presence != change.Present {
		return dst, true, nil
	}
	if write := b.Write[at]; write != nil {
		if dst, err = write(dst, v.Text); err != nil {
			c := &b.Source.Columns[b.From[at]]
			err = fmt.Errorf("column %s (%s) of %s: %w", c.Name, c.Type, b.Table.Source, err)
		}
		return dst, false, err
	}
	return append(dst, v.Text...), false, nil
}
