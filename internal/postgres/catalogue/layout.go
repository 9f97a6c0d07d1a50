package catalogue

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"rillmark/internal/capture/rows"
	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/postgres/canonical"
	"rillmark/internal/postgres/pgoutput"
	"rillmark/internal/postgres/session"
)

// Layout is a schema version with all that is needed to read its rows: what the rules make
// of the log's columns, and how their text becomes what the journal holds.
type Layout struct {
	*rows.Layout
	// Name is the table's in events: its own, or its root's.
	Name string
	// Raw are the log's columns as they are, before any treatment.
	Raw []RawColumn
	// Convert makes of a column's text what the journal holds, treated; nil where that is
	// the text.
	Convert []canonical.Converter
	// defaulted says of each whether adding it filled existing rows.
	defaulted []bool
	// filled says with what, where that is known: as events have it, with the treatment.
	filled map[int]change.Value
	// OID is the table's, its root's where it is captured under that name; rootOrder
	// says that the columns have the root's numbers.
	OID       uint32
	rootOrder bool
	// Own is the table that holds the rows, Storage where they lie, as of the look at the
	// catalogue that the layout was made with; nil where that had no such table.
	Own     uint32
	Storage *Storage
	// Uncertain says that the columns may be others of the same names.
	Uncertain bool
	Adopted   bool // it is on record: see adopt
}

// RawColumn is a column in the log.
type RawColumn struct {
	change.Column
	Convert canonical.Converter
	Toasted bool // its values may be stored out of line, and be left out of the log
	number  int  // the column's, whatever its name; 0 where it is not known
	OID     uint32
	typeOID uint32 // with its domain
	typeMod int32
}

// Value is what a value's text is to a filter, in room that grows; a null where it cannot be
// read.
func (c *RawColumn) Value(room *[]byte, text []byte) change.Value {
	if c.Convert == nil {
		return change.Value{Presence: change.Present, Text: text}
	}
	start := len(*room)
	grown, err := c.Convert(*room, text)
	if err != nil {
		return change.NullValue()
	}
	*room = grown
	return change.Value{Presence: change.Present, Text: grown[start:]}
}

// layoutMaker is what makes layouts of attributes: the rules and the key for
// hashing.
type layoutMaker struct {
	name    string
	rule    *rules.Table
	hashKey []byte
	// order, where not nil, is the root's columns, in whose order a partition's
	// are captured.
	order []string
	oid   uint32
	// noText hears of what is no text, where that may be; nil else.
	noText func(table, column string, text []byte)
}

func (m *layoutMaker) make(from []attribute, guessed bool) (*Layout, error) {
	l := &Layout{Name: m.name, OID: m.oid, rootOrder: m.order != nil}
	bare := make([]change.Column, len(from))
	for i := range from {
		column, convert := from[i].column()
		if m.noText != nil {
			convert = canonical.Valid(convert, func(text []byte) { m.noText(m.name, column.Name, text) })
		}
		bare[i] = column
		l.Raw = append(l.Raw, RawColumn{column, convert, from[i].toasted, from[i].number, from[i].base.oid, from[i].typeOID, from[i].typeMod})
	}
	var err error
	if l.Layout, err = rows.New(rows.Version{Engine: change.PostgreSQL, Name: m.name, Rule: m.rule, Columns: bare, Order: m.places(from), HashKey: m.hashKey, Guessed: guessed}); err != nil {
		return nil, err
	}
	for i := range l.Raw {
		l.Raw[i].Column = l.Source[i]
	}
	for i, raw := range l.From {
		l.Convert = append(l.Convert, l.converter(i, l.Raw[raw].Convert))
		l.defaulted = append(l.defaulted, from[raw].defaulted)
		if missing := from[raw].missing; missing != nil {
			value := change.Of(*missing)
			if convert := l.Convert[i]; convert != nil {
				if value.Text, err = convert(nil, value.Text); err != nil {
					continue // it is not known
				}
			}
			if l.filled == nil {
				l.filled = make(map[int]change.Value)
			}
			l.filled[i] = value
		}
	}
	return l, nil
}

// places are the indexes of columns in the order in which they are captured, which is that of
// the root's numbers, or of its names where a number is not known; nil where it is their own.
func (m *layoutMaker) places(columns []attribute) []int {
	if m.order == nil {
		return nil
	}
	places := make([]int, len(columns))
	for i := range places {
		places[i] = i
	}
	numbered := !slices.ContainsFunc(columns, func(a attribute) bool { return a.number == 0 })
	at := func(name string) int {
		if i := slices.Index(m.order, name); i >= 0 {
			return i
		}
		return len(m.order) // one that is gone since comes last
	}
	slices.SortStableFunc(places, func(a, b int) int {
		if numbered {
			return columns[a].number - columns[b].number
		}
		return at(columns[a].name) - at(columns[b].name)
	})
	return places
}

// converter makes of a column's text what the journal holds: its canonical form, or what
// the rule makes of that.
func (l *Layout) converter(column int, convert canonical.Converter) canonical.Converter {
	switch l.Treat[column] {
	case rules.Mask:
		return func(dst, _ []byte) ([]byte, error) { return l.Treated(dst, column, nil), nil }
	case rules.Hash:
		var plain []byte
		return func(dst, text []byte) ([]byte, error) {
			if convert != nil {
				var err error
				if plain, err = convert(plain[:0], text); err != nil {
					return nil, err
				}
				text = plain
			}
			return l.Treated(dst, column, text), nil
		}
	case rules.Keep, rules.Drop:
	}
	return convert
}

// Rewrites reports whether going from old to l changed rows without a row in the
// log: a column came and filled them, one changed its type, or an enum's label
// its name. Where they lie inPlace, a type that is written alike has changed none.
func (l *Layout) Rewrites(old *change.Schema, changes *ColumnChanges, inPlace bool) bool {
	before := make(map[string]*change.Column, len(old.Columns))
	for i := range old.Columns {
		before[old.Columns[i].Name] = &old.Columns[i]
	}
	for i, c := range l.Schema.Columns {
		name := c.Name
		if changes.Known {
			name = changes.from[c.Name]
		}
		was := before[name]
		if was == nil && name != "" && slices.Contains(old.LeftOut, name) {
			continue // what a rule brings back is the rule's change
		}
		// Earlier versions wrote a type of the schema public without it.
		if inPlace && was != nil && was.Rule == c.Rule && was.Element == c.Element && was.Bits == c.Bits && was.Treatment == c.Treatment && len(c.Labels)+len(was.Labels) == 0 {
			continue
		}
		if was != nil && (was.Type != c.Type || was.Treatment != c.Treatment) && !strings.HasSuffix(c.Type, "."+was.Type) || was == nil && l.defaulted[i] && !l.knowsFilled(i) {
			return true
		}
		// A label that is gone has another name now, in every row that has it.
		if was != nil && len(c.Labels) > 0 && slices.ContainsFunc(was.Labels, func(label string) bool { return !slices.Contains(c.Labels, label) }) {
			return true
		}
	}
	return false
}

// knowsFilled reports whether it is known what adding a column of Schema gave the rows that were
// there, and an event can say so.
func (l *Layout) knowsFilled(i int) bool {
	v, known := l.filled[i]
	if known {
		_, known = change.FilledJSON(&l.Schema.Columns[i], v)
	}
	return known
}

// Filled are the values that rows which were there have got in columns that came since old.
func (l *Layout) Filled(old *change.Schema, changes *ColumnChanges) (filled map[string]json.RawMessage) {
	for i := range l.Schema.Columns {
		c := &l.Schema.Columns[i]
		name := c.Name
		if changes.Known {
			name = changes.from[c.Name]
		}
		if old.Column(name) != nil || slices.Contains(old.LeftOut, name) || !l.knowsFilled(i) {
			continue
		}
		if filled == nil {
			filled = make(map[string]json.RawMessage)
		}
		filled[c.Name], _ = change.FilledJSON(c, l.filled[i]) // it is known
	}
	return filled
}

// Exposes is the name of a column that was private before and may now be there
// under another name, kept as it is; empty where none is. Numbers tell; where they are
// not known, a private column that is gone may be any that has come.
func (l *Layout) Exposes(before []Column, old *change.Schema) string {
	if len(before) == 0 {
		before = privateBefore(old)
	}
	for _, b := range before {
		if b.Treat == "" {
			continue
		}
		for _, c := range l.Columns() {
			same := b.Number > 0 && c.Number == b.Number && c.Name != b.Name
			maybe := (b.Number == 0 || c.Number == 0) && !slices.ContainsFunc(l.Raw, func(r RawColumn) bool { return r.Name == b.Name }) &&
				!slices.ContainsFunc(before, func(other Column) bool { return other.Name == c.Name })
			captured := slices.ContainsFunc(l.Schema.Columns, func(s change.Column) bool { return s.Name == c.Name })
			if (same || maybe) && c.Treat == "" && captured && !l.Rule.Decides(c.Name) {
				return b.Name
			}
		}
	}
	return ""
}

// privateBefore reads which columns were private out of a schema version, for tables
// that an earlier version of Rillmark has put on record.
func privateBefore(old *change.Schema) (columns []Column) {
	for _, c := range old.Columns {
		one := Column{Name: c.Name}
		if c.Treatment != "" {
			one.Treat = rules.Hash
		}
		columns = append(columns, one)
	}
	for _, name := range old.LeftOut {
		columns = append(columns, Column{Name: name, Treat: rules.Drop})
	}
	return columns
}

// maker prepares what layouts of a table are made with.
func maker(c *session.Config, d *Described, name string, rule *rules.Table) *layoutMaker {
	m := &layoutMaker{name: name, rule: rule, hashKey: c.HashKey, oid: d.oid}
	if c.MayBeNoText() {
		if m.noText = c.NoText; m.noText == nil {
			m.noText = func(string, string, []byte) {}
		}
	}
	if rule.Root && len(d.rootColumns) > 0 {
		m.order = names(d.rootColumns)
		if d.rootOID != 0 {
			m.oid = d.rootOID
		}
	}
	return m
}

// Current is a table's layout as the catalogue has it now.
func Current(ctx context.Context, c *session.Config, q session.Querier, oid uint32, name string, rule *rules.Table) (*Layout, error) {
	d, err := describeOne(ctx, q, oid)
	if err != nil {
		return nil, fmt.Errorf("looking up the columns of %s: %w", name, err)
	}
	return LayoutOf(c, d, name, rule)
}

func LayoutOf(c *session.Config, d *Described, name string, rule *rules.Table) (*Layout, error) {
	found := slices.Clone(d.Columns)
	for i, one := range d.Numbered(rule.Root) {
		found[i].number = one.Number
	}
	l, err := maker(c, d, name, rule).make(found, false)
	if err == nil {
		l.Own, l.Storage = d.oid, d.Storage(rule)
	}
	return l, err
}

// OnRecord is what is known of a table from before.
type OnRecord struct {
	ID *Identity
	// Newest is its newest schema version; nil for none.
	Newest *change.Schema
	// Mapped says that rows of partitions carry its name.
	Mapped bool
}

// Announced is the layout that a Relation message announces, completed from
// the catalogue, which may have gone on since: where both disagree and the table's
// known version does not fit either, the version is marked as guessed.
func Announced(ctx context.Context, c *session.Config, q session.Querier, d *Described, m *pgoutput.Relation, xid uint32, name string, rule *rules.Table, t *OnRecord) (*Layout, error) {
	now := d.Numbered(rule.Root)
	var recorded []Column
	var known *change.Schema
	maker := maker(c, d, name, rule)
	if t != nil {
		known = t.Newest
		if rule.Root && t.Mapped && t.ID.OID != 0 && d.Root != name && m.OID != t.ID.OID {
			// It is no partition any more: only what is on record of its root counts.
			maker.oid, now = t.ID.OID, t.ID.Newest()
			maker.order = names(now)
		}
		if t.ID.OID == maker.oid {
			recorded = t.ID.Newest()
		}
	}
	catalogued := d.Numbered(rule.Root)
	if len(catalogued) > 0 && maker.order != nil && d.rootOID == 0 {
		for i := range catalogued {
			catalogued[i].Number = 0
			for _, c := range now {
				if c.Name == catalogued[i].Name {
					catalogued[i].Number = c.Number
				}
			}
		}
	}
	dropped, order := d.dropped, []int(nil)
	if maker.order != nil {
		dropped, order = d.rootDropped, d.order()
	}
	numbers, certain := identify(m.Columns, recorded, now, dropped, xid, maker.order != nil, order)
	if !certain {
		numbers = make([]int, len(m.Columns)) // by their names, and what comes next is not measured by them
	}
	guessed := len(d.Columns) != len(m.Columns)
	agreed := make([]attribute, len(m.Columns))
	for i, c := range m.Columns {
		at := slices.IndexFunc(catalogued, func(one Column) bool {
			return numbers[i] > 0 && one.Number == numbers[i] || numbers[i] == 0 && one.Name == c.Name
		})
		var a attribute
		if at >= 0 {
			a = d.Columns[at]
		}
		if at < 0 || a.typeOID != c.TypeOID || a.typeMod != c.TypeMod {
			guessed = true
			var err error
			if a, err = lostAttribute(ctx, q, c, m.ReplicaIdentity); err != nil {
				return nil, fmt.Errorf("looking up type %d of column %s of %s: %w", c.TypeOID, c.Name, name, err)
			}
			if c.Identity && m.ReplicaIdentity != pgoutput.IdentityFull {
				a.keyPlace = 1 + keyPlaces(agreed[:i])
			}
			a.defaulted = true // the catalogue has forgotten it: it may have filled the rows that were there
		}
		guessed = guessed || a.name != c.Name
		a.name, a.number = c.Name, numbers[i]
		agreed[i] = a
	}
	l, err := maker.make(agreed, guessed)
	if err != nil {
		return nil, err
	}
	l.Uncertain = !certain
	if l.Own = d.oid; !guessed { // else the catalogue is ahead of the message
		l.Storage = d.Storage(rule)
	}
	if guessed && known != nil && sameColumns(l.Schema, known) {
		l.Schema = known
	}
	return l, nil
}

// sameColumns reports whether two versions name the same columns of the same
// types, whatever else is known of them.
func sameColumns(a, b *change.Schema) bool {
	return slices.EqualFunc(a.Columns, b.Columns, func(x, y change.Column) bool {
		return x.Name == y.Name && x.Type == y.Type && x.Treatment == y.Treatment && x.Rule == y.Rule
	})
}

func keyPlaces(attributes []attribute) (places int) {
	for _, a := range attributes {
		places = max(places, a.keyPlace)
	}
	return places
}

// lostAttribute is a column that the catalogue no longer has as the log has it.
func lostAttribute(ctx context.Context, q session.Querier, c pgoutput.RelationColumn, _ pgoutput.ReplicaIdentity) (attribute, error) {
	a := attribute{name: c.Name, typeOID: c.TypeOID, typeMod: c.TypeMod, base: typeInfo{oid: c.TypeOID}}
	err := q.QueryRow(ctx, "SELECT format_type($1, $2), coalesce((SELECT typtype::text FROM pg_type WHERE oid = $1), '')", c.TypeOID, c.TypeMod).
		Scan(&a.typeName, &a.base.kind)
	if strings.Contains(a.typeName, "???") {
		a.typeName = fmt.Sprintf("dropped type %d", c.TypeOID)
	}
	return a, err
}

// KeyText is the key of a row in the server's own text.
func (l *Layout) KeyText(row []pgoutput.TupleColumn) []string {
	key := make([]string, 0, 4)
	for _, i := range l.Schema.Key() {
		key = append(key, string(row[l.From[i]].Data))
	}
	return key
}
