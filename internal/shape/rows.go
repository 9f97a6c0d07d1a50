package shape

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"rillmark/internal/change"
	"rillmark/internal/expression"
)

// RowForm says in which form rows of some tables are handed on.
type RowForm struct {
	At      string // where it is defined, for people
	Match   Pattern
	Columns []ColumnForm
	New     []NewColumn
}

// ColumnForm is what becomes of the columns that it matches; the first that matches a
// column decides.
type ColumnForm struct {
	Match Pattern
	Treat Treat
	// Name is the column's name from here on; empty to keep it.
	Name string
}

// Treat is what becomes of a column's values.
type Treat string

// The treatments, in the words of a source's rules.
const (
	Keep Treat = "keep"
	Drop Treat = "drop"
	Mask Treat = "mask"
	Hash Treat = "hash"
)

// Treats are their names.
var Treats = []string{string(Keep), string(Drop), string(Mask), string(Hash)}

// NewColumn is one that is worked out from the others of its row.
type NewColumn struct {
	Name string
	Is   string // in CEL; see [Formulas.Bind]
	Type string // one of [ValueTypes], or empty
	// OrNull has a row for which it cannot be computed get a null; else it is refused.
	OrNull bool
}

// Rows puts rows into their forms; the first that matches a table decides. The zero value
// leaves them as they are. It is not safe for several goroutines, and what it hands out is
// good until the next call.
type Rows struct {
	Forms    []RowForm
	Formulas *expression.Formulas
	// HashKey is the key of hashed values.
	HashKey []byte
	// RowsAlone leaves out the new columns that say something of the event which brought a row.
	RowsAlone bool

	bound  map[*change.Schema]*boundRows
	event  change.Event
	images [3][]change.Value // before, after, the other half's key
	text   []byte
	hash   func(dst, canonical []byte) []byte
}

// Clone is the same for another goroutine.
func (r *Rows) Clone() *Rows {
	if r == nil {
		return nil
	}
	return &Rows{Forms: r.Forms, Formulas: r.Formulas, HashKey: r.HashKey, RowsAlone: r.RowsAlone}
}

// boundRows are the forms for one schema version.
type boundRows struct {
	schema  *change.Schema // what goes out
	columns []boundColumn
	fresh   []int // the columns that say something of the event
}

type boundColumn struct {
	from    int // in the source's version; -1 for a new one
	treat   Treat
	formula *expression.Formula
	rule    *NewColumn
	// hides says that the formula looks at a column whose values do not go out as they are.
	hides bool
}

// of is what becomes of a column, and its name from there on; decided is false where no
// rule says anything about it.
func (f *RowForm) of(column string) (treat Treat, name string, decided bool) {
	for i := range f.Columns {
		if one := &f.Columns[i]; one.Match.Matches(column) {
			if one.Name != "" {
				return one.Treat, one.Name, true
			}
			return one.Treat, column, true
		}
	}
	return Keep, column, false
}

// private reports whether a column's values do not go out as they are.
func (f *RowForm) private(column string) bool {
	treat, _, _ := f.of(column)
	return treat != Keep
}

// Unfit says that a form does not fit a schema version: what they would make of its rows is not
// known.
type Unfit struct {
	Table  string
	At     string // where its form is defined
	New    int    // which of its new columns; -1 for none
	Column string // that one's name
	Reason string
	// Exposes says that rows may show a private column under another name.
	Exposes bool
}

// Error says what does not fit.
func (u *Unfit) Error() string {
	if u.Column != "" {
		return fmt.Sprintf("the new column %q does not fit %s: %s", u.Column, u.Table, u.Reason)
	}
	return fmt.Sprintf("the form of rows does not fit %s: %s", u.Table, u.Reason)
}

// Refused says that a new column cannot be computed for a row.
type Refused struct {
	Column string
	Err    error
	Values string // of the columns that it looks at
}

// Error has the values that it was tried with.
func (r *Refused) Error() string {
	text := fmt.Sprintf("the new column %q cannot be computed: %s", r.Column, r.Err)
	if r.Values != "" {
		text += " (" + r.Values + ")"
	}
	return text
}

// Unwrap is the cause.
func (r *Refused) Unwrap() error { return r.Err }

// Schema is the version of what goes out for rows of a version; the same where nothing
// becomes of them. The error is an [Unfit].
func (r *Rows) Schema(of *change.Schema) (*change.Schema, error) {
	b, err := r.bind(of)
	if err != nil || b == nil {
		return of, err
	}
	return b.schema, nil
}

// Along takes columns of a version for those that they are in what goes out.
func (r *Rows) Along(of *change.Schema, columns []int) ([]int, error) {
	b, err := r.bind(of)
	if err != nil || b == nil {
		return columns, err
	}
	var along []int
	for i, c := range b.columns {
		if c.from >= 0 && slices.Contains(columns, c.from) {
			along = append(along, i)
		}
	}
	return along, nil
}

func (r *Rows) bind(of *change.Schema) (*boundRows, error) {
	if len(r.Forms) == 0 || of == nil {
		return nil, nil
	}
	if b, known := r.bound[of]; known {
		return b, nil
	}
	var b *boundRows
	if i := r.formOf(of.Table); i >= 0 {
		var err error
		if b, err = r.fit(i, of); err != nil {
			return nil, err
		}
	}
	if r.bound == nil || len(r.bound) > 10_000 {
		r.bound = make(map[*change.Schema]*boundRows)
	}
	r.bound[of] = b
	return b, nil
}

// formOf is the form that decides about a table; -1 for none.
func (r *Rows) formOf(table string) int {
	return slices.IndexFunc(r.Forms, func(f RowForm) bool { return f.Match.Matches(table) })
}

// Goes is the name that a column of a table goes out under, and what becomes of its values.
func (r *Rows) Goes(table, column string) (name string, as Treat) {
	if r == nil {
		return column, Keep
	}
	at := r.formOf(table)
	if at < 0 {
		return column, Keep
	}
	as, name, _ = r.Forms[at].of(column)
	return name, as
}

// fit makes the version of what goes out by one form.
func (r *Rows) fit(at int, of *change.Schema) (*boundRows, error) {
	form := &r.Forms[at]
	b := new(boundRows)
	unfit := func(format string, args ...any) (*boundRows, error) {
		return nil, &Unfit{Table: of.Table, At: form.At, New: -1, Reason: fmt.Sprintf(format, args...)}
	}
	var columns []change.Column
	for i, c := range of.Columns {
		treat, name, _ := form.of(c.Name)
		switch treat {
		case Drop, Mask:
			if c.Key > 0 {
				return unfit("%q belongs to the key, by which consumers tell rows apart: hash it", c.Name)
			}
			if treat == Drop {
				continue
			}
			c = c.Treated(change.Masked)
		case Hash:
			if len(r.HashKey) == 0 {
				return unfit("%q is to be hashed, and the source has no hash_key", c.Name)
			}
			c = c.Treated(change.Hashed)
		case Keep:
		}
		c.Name = name
		columns = append(columns, c)
		b.columns = append(b.columns, boundColumn{from: i, treat: treat})
	}
	for i := range form.New {
		one := &form.New[i]
		formula, c, err := r.Formulas.Bind(of, one.Is, one.Type)
		if err != nil {
			return nil, &Unfit{Table: of.Table, At: form.At, New: i, Column: one.Name, Reason: err.Error()}
		}
		if formula.AboutEvent() {
			if r.RowsAlone {
				continue
			}
			b.fresh = append(b.fresh, len(columns))
		}
		c.Name = one.Name
		columns = append(columns, c)
		hides := slices.ContainsFunc(formula.Uses(), func(at int) bool { return form.private(of.Columns[at].Name) })
		b.columns = append(b.columns, boundColumn{from: -1, formula: formula, rule: one, hides: hides})
	}
	if len(columns) == 0 {
		return unfit("no column is left")
	}
	for i, c := range columns {
		if slices.ContainsFunc(columns[:i], func(other change.Column) bool { return other.Name == c.Name }) {
			return unfit("two columns are called %q: drop one, or give it another name", c.Name)
		}
	}
	b.schema = change.NewSchema(of.Engine, of.Table, columns, of.LeftOut, of.Guessed)
	return b, nil
}

// KeepsKey reports whether rows of a version are known by the same key in their form.
func (r *Rows) KeepsKey(of *change.Schema) bool {
	if r == nil || of == nil {
		return true
	}
	at := r.formOf(of.Table)
	return at < 0 || !slices.ContainsFunc(of.Key(), func(column int) bool { return r.Forms[at].private(of.Columns[column].Name) })
}

// Apply makes of an event what goes out: the event itself where no form matches its table,
// nil for a schema change of which nothing goes out. The error is an [Unfit], or a [Refused]
// beside the event without what was refused.
func (r *Rows) Apply(e *change.Event) (*change.Event, error) {
	b, err := r.bind(e.Schema)
	if err != nil || b == nil {
		return e, err
	}
	r.event, r.text = *e, r.text[:0]
	out := &r.event
	if e.Operation == change.Definition {
		return r.definition(b, out)
	}
	out.Schema, out.Fresh = b.schema, b.fresh
	out.Before, _ = r.image(b, 0, e.Before, nil) // what it cannot say of a row that is no more is left out
	out.After, err = r.image(b, 1, e.After, e)
	if e.Rekeyed != nil {
		out.Rekeyed = r.rekeyed(b, e)
	}
	return out, err
}

// Row is Apply for a row that the caller keeps.
func (r *Rows) Row(of *change.Schema, row []change.Value) ([]change.Value, error) {
	b, err := r.bind(of)
	if err != nil || b == nil {
		return row, err
	}
	r.text = nil
	image, err := r.image(b, 1, row, nil)
	return slices.Clone(image), err
}

// image puts a row into its form: the row after an event, or with nil any other. What the log has
// left out of the row after an update has not changed.
func (r *Rows) image(b *boundRows, which int, of []change.Value, after *change.Event) (_ []change.Value, refused error) {
	if of == nil {
		return nil, nil
	}
	image := r.images[which][:0]
	for i := range b.columns {
		c := &b.columns[i]
		if c.from >= 0 {
			image = append(image, r.treated(c.treat, of[c.from]))
			continue
		}
		start := len(r.text)
		text, presence, err := c.formula.Append(r.text, of, after)
		unknown := false // a null would stand in place of a value that consumers have
		if err == nil && presence == change.Omitted && after != nil {
			err = c.formula.Unknown(after)
			unknown = err != nil
		}
		switch {
		case err != nil && c.rule.OrNull && !unknown:
			r.text, presence = text[:start], change.Null
		case err != nil:
			r.text, presence = text[:start], change.Omitted
			refused = c.refuse(err, unknown, of, after)
		default:
			r.text = text
		}
		v := change.Value{Presence: presence}
		if presence == change.Present {
			v.Text = r.text[start:len(r.text):len(r.text)]
		}
		image = append(image, v)
	}
	r.images[which] = image
	return image, refused
}

// refuse says why a column cannot be computed, without values that do not go out.
func (c *boundColumn) refuse(err error, unknown bool, of []change.Value, after *change.Event) *Refused {
	switch {
	case !c.hides:
		return &Refused{Column: c.rule.Name, Err: err, Values: c.formula.Says(of, after)}
	case unknown:
		return &Refused{Column: c.rule.Name, Err: err}
	}
	return &Refused{Column: c.rule.Name, Err: errors.New("it uses a column that the form keeps private, so the details are not shown")}
}

func (r *Rows) treated(treat Treat, v change.Value) change.Value {
	if v.Presence != change.Present {
		return v
	}
	switch treat {
	case Mask:
		v.Text = maskedText
	case Hash:
		if r.hash == nil {
			r.hash = NewHasher(r.HashKey)
		}
		start := len(r.text)
		r.text = r.hash(r.text, v.Text)
		v.Text = r.text[start:len(r.text):len(r.text)]
	case Keep, Drop:
	}
	return v
}

var maskedText = AppendMask(nil)

// rekeyed is the other half's key, of the key that goes out.
func (r *Rows) rekeyed(b *boundRows, e *change.Event) []change.Value {
	key := r.images[2][:0]
	for _, at := range b.schema.Key() {
		c := b.columns[at]
		key = append(key, r.treated(c.treat, e.Rekeyed[slices.Index(e.Schema.Key(), c.from)]))
	}
	r.images[2] = key
	return key
}

// Unused is a column rule that matches no column of the versions of the tables that its form
// decides about: its name may be a wrong one, and what it is to keep back would go out. at is where
// it is defined; ok is false where there is none; a form for whose tables there is no version is passed over.
func (r *Rows) Unused(versions []*change.Schema) (at, says string, ok bool) {
	for i := range r.Forms {
		var columns []change.Column
		for _, v := range versions {
			if r.formOf(v.Table) == i {
				columns = append(columns, v.Columns...)
			}
		}
		for n, one := range r.Forms[i].Columns {
			if len(columns) > 0 && !slices.ContainsFunc(columns, func(c change.Column) bool { return one.Match.Matches(c.Name) }) {
				return fmt.Sprintf("%s.columns[%d].match", r.Forms[i].At, n), fmt.Sprintf("none of its tables has a column %q%s", one.Match, expression.ClosestTo(one.Match.String(), columns)), true
			}
		}
	}
	return "", "", false
}

// Watch looks at an event that does not go out: where a schema change may have given a
// private column another name, nothing goes out behind it. The error is an [Unfit].
func (r *Rows) Watch(e *change.Event) error {
	if r == nil || e.Operation != change.Definition {
		return nil
	}
	at := r.formOf(e.Table)
	if at < 0 {
		return nil
	}
	var body change.SchemaChange
	if err := json.Unmarshal(e.Body, &body); err != nil {
		return fmt.Errorf("the schema event at offset %d cannot be read: %w", e.Offset, err)
	}
	return r.exposed(at, &body)
}

// exposed says which private column may have become another one by a schema change: one has
// gone, and one has come on which no rule says anything.
func (r *Rows) exposed(at int, c *change.SchemaChange) error {
	if c.Previous == nil || c.Definition == nil {
		return nil
	}
	form := &r.Forms[at]
	gone, came := "", ""
	for _, old := range c.Previous.Columns {
		if form.private(old.Name) && !expression.HasColumn(c.Definition, old.Name) {
			gone = old.Name
		}
	}
	for _, now := range c.Definition.Columns {
		if _, _, decided := form.of(now.Name); !decided && !expression.HasColumn(c.Previous, now.Name) {
			came = now.Name
		}
	}
	if gone == "" || came == "" {
		return nil
	}
	return &Unfit{Table: c.Definition.Table, At: form.At, New: -1, Exposes: true, Reason: fmt.Sprintf("the private column %q is gone, and %q is new and has no rule: it may be the same column under another name; add a rule for it", gone, came)}
}

// filled gives the values that filled columns the form's names. A column that the form treats, or works
// out, from others has values that the event cannot say: rows have changed without an event then.
func (r *Rows) filled(b *boundRows, form *RowForm, is *change.Schema, body *change.SchemaChange) {
	given := body.Filled
	body.Filled = nil
	if len(given) == 0 || is == nil {
		return
	}
	plain := len(form.New) == 0
	for name, raw := range given {
		treat, out, _ := form.of(name)
		switch {
		case treat == Drop:
		case treat == Keep && b.schema.Column(out) != nil:
			if body.Filled == nil {
				body.Filled = make(map[string]json.RawMessage)
			}
			body.Filled[out] = raw
		default:
			plain = false
		}
	}
	if !plain {
		body.Filled, body.Rewrites = nil, true
	}
}

// definition is a schema change as it concerns what goes out.
func (r *Rows) definition(b *boundRows, out *change.Event) (*change.Event, error) {
	at := r.formOf(out.Table)
	form := &r.Forms[at]
	var body change.SchemaChange
	if err := json.Unmarshal(out.Body, &body); err != nil {
		return nil, fmt.Errorf("the schema event at offset %d cannot be read: %w", out.Offset, err)
	}
	if err := r.exposed(at, &body); err != nil {
		return nil, err
	}
	was, is := body.Previous, body.Definition
	if body.Previous = nil; was != nil {
		// With its key, which JSON does not have. What does not fit a version that has gone
		// does not matter any more.
		before, err := r.fit(at, change.NewSchema(was.Engine, was.Table, was.Columns, was.LeftOut, was.Guessed))
		if err == nil {
			body.Previous = before.schema
		}
	}
	if is != nil {
		body.Definition, body.Fingerprint = b.schema, b.schema.Fingerprint().String()
	}
	r.filled(b, form, is, &body)
	if body.Previous != nil && is != nil && !body.Rewrites && body.Previous.Fingerprint() == body.Definition.Fingerprint() {
		return nil, nil
	}
	body.Renamed = slices.DeleteFunc(body.Renamed, func(one change.Rename) bool {
		_, from, _ := form.of(one.From)
		_, to, _ := form.of(one.To)
		return from == to || body.Previous == nil || body.Previous.Column(from) == nil || body.Definition == nil || body.Definition.Column(to) == nil
	})
	for i := range body.Renamed {
		one := &body.Renamed[i]
		_, one.From, _ = form.of(one.From)
		_, one.To, _ = form.of(one.To)
	}
	if slices.ContainsFunc(form.Columns, func(c ColumnForm) bool { return c.Treat != Keep }) {
		body.Statement = "" // it may say what the form keeps back
	}
	out.Schema, out.Body = b.schema, body.Encode()
	return out, nil
}
