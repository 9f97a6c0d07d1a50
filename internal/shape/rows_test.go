package shape

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/expression"
)

func formsOf(t *testing.T, columns []ColumnForm, created ...NewColumn) *Rows {
	t.Helper()
	formulas, err := expression.NewFormulas(nil)
	require.NoError(t, err)
	match, err := ParsePattern("public.loans")
	require.NoError(t, err)
	return &Rows{Forms: []RowForm{{Match: match, Columns: columns, New: created}}, Formulas: formulas, HashKey: []byte("key")}
}

func columnForm(t *testing.T, match string, treat Treat, name string) ColumnForm {
	t.Helper()
	p, err := ParseColumnPattern(match)
	require.NoError(t, err)
	return ColumnForm{Match: p, Treat: treat, Name: name}
}

// loansVersion is a version of a table with a key of two columns, in another order.
func loansVersion(columns ...string) *change.Schema {
	all := []change.Column{{Name: "patron", Type: "bigint", Rule: change.RuleInteger, Bits: 64, Key: 2}, {Name: "copy", Type: "bigint", Rule: change.RuleInteger, Bits: 64, Key: 1}}
	for _, name := range columns {
		all = append(all, change.Column{Name: name, Type: "text", Rule: change.RuleText, Nullable: true})
	}
	return change.NewSchema(change.PostgreSQL, "public.loans", all, nil, false)
}

// TestRows: images, the other half's key, and the columns that come along are those of the
// form; a row that is no more is never refused.
func TestRows(t *testing.T) {
	r := formsOf(t, []ColumnForm{columnForm(t, "pin", Drop, ""), columnForm(t, "patron", Hash, "reader"), columnForm(t, "note", Keep, "remark")},
		NewColumn{Name: "size", Is: "note.size()"}, NewColumn{Name: "ratio", Is: "100 / note.size()"}, NewColumn{Name: "both", Is: "note + shelf"})
	of := loansVersion("pin", "note", "shelf")
	to, err := r.Schema(of)
	require.NoError(t, err)
	var names []string
	for _, c := range to.Columns {
		names = append(names, c.Name)
	}
	require.Equal(t, []string{"reader", "copy", "remark", "shelf", "size", "ratio", "both"}, names)
	require.Equal(t, []int{1, 0}, to.Key(), "in the key's order")
	require.NotEqual(t, of.Fingerprint(), to.Fingerprint())
	same, err := r.Schema(of)
	require.NoError(t, err)
	require.Same(t, to, same, "made once")

	row := func(patron, note string) []change.Value {
		return []change.Value{change.Of(patron), change.Of("7"), change.Of("1234"), change.Of(note), change.Of("A")}
	}
	e := &change.Event{Operation: change.Update, Table: "public.loans", Schema: of, Before: row("1", ""), After: row("2", "lent"), Rekeyed: []change.Value{change.Of("7"), change.Of("1")}}
	out, err := r.Apply(e)
	require.NoError(t, err)
	require.Len(t, out.After, 7)
	require.Equal(t, "4", string(out.After[4].Text))
	require.Equal(t, "25", string(out.After[5].Text))
	require.Equal(t, "lentA", string(out.After[6].Text))
	require.Equal(t, change.Omitted, out.Before[5].Presence, "there is no 100 / 0; the row before is no reason to refuse the one after")
	hashed := string(NewHasher([]byte("key"))(nil, []byte("1")))
	require.Equal(t, []string{"7", hashed}, []string{string(out.Rekeyed[0].Text), string(out.Rekeyed[1].Text)})
	require.Equal(t, hashed, string(out.Before[0].Text))
	require.Equal(t, "2", string(e.After[0].Text), "the event itself stays")
	along, err := r.Along(of, []int{0, 2, 3})
	require.NoError(t, err)
	require.Equal(t, []int{0, 2}, along, "one that is dropped does not come")

	deleted, err := r.Apply(&change.Event{Operation: change.Delete, Table: "public.loans", Schema: of, Before: row("1", "")})
	require.NoError(t, err)
	require.Nil(t, deleted.After)
	var refused *Refused
	_, err = r.Apply(&change.Event{Operation: change.Insert, Table: "public.loans", Schema: of, After: row("1", "")})
	require.ErrorAs(t, err, &refused)
	require.Equal(t, "ratio", refused.Column)

	// What the log left out of the row after an update.
	left := row("1", "")
	left[3] = change.Value{}
	before := row("1", "x")
	out, err = r.Apply(&change.Event{Operation: change.Update, Table: "public.loans", Schema: of, Before: before, After: left})
	require.NoError(t, err, "nothing that it needs has changed")
	require.Equal(t, change.Omitted, out.After[6].Presence)
	left[4] = change.Of("B")
	_, err = r.Apply(&change.Event{Operation: change.Update, Table: "public.loans", Schema: of, Before: before, After: left})
	require.ErrorAs(t, err, &refused)
	require.Equal(t, "both", refused.Column)

	nulls := formsOf(t, nil, NewColumn{Name: "both", Is: "note + shelf", OrNull: true}, NewColumn{Name: "ratio", Is: "100 / note.size()", OrNull: true})
	_, err = nulls.Apply(&change.Event{Operation: change.Update, Table: "public.loans", Schema: of, Before: before, After: left})
	require.ErrorAs(t, err, &refused, "a null in its place would be wrong")
	out, err = nulls.Apply(&change.Event{Operation: change.Insert, Table: "public.loans", Schema: of, After: row("1", "")})
	require.NoError(t, err)
	require.Equal(t, change.Null, out.After[6].Presence)

	// No value that is kept private is in what is said.
	hiding := formsOf(t, []ColumnForm{columnForm(t, "pin", Drop, "")}, NewColumn{Name: "n", Is: "decimal(pin + note)"})
	_, err = hiding.Apply(&change.Event{Operation: change.Insert, Table: "public.loans", Schema: of, After: row("1", "x")})
	require.ErrorAs(t, err, &refused)
	require.NotContains(t, err.Error(), "1234")
	require.Contains(t, err.Error(), "keeps private")

	other := &change.Event{Operation: change.Insert, Table: "public.holds", Schema: change.NewSchema(change.PostgreSQL, "public.holds", of.Columns, nil, false), After: row("1", "")}
	out, err = r.Apply(other)
	require.NoError(t, err)
	require.Same(t, other, out, "no form is for it")
	message := &change.Event{Operation: change.Message}
	out, err = r.Apply(message)
	require.NoError(t, err)
	require.Same(t, message, out)
}

// TestRowsWhenTablesChange: a schema event says what changes in what goes out, and nothing
// private; one that changes nothing there is none.
func TestRowsWhenTablesChange(t *testing.T) {
	r := formsOf(t, []ColumnForm{columnForm(t, "pin", Drop, ""), columnForm(t, "note", Keep, "remark")})
	change_ := func(from, to *change.Schema, renamed ...change.Rename) (*change.Event, error) {
		body := change.SchemaChange{Definition: to, Previous: from, Renamed: renamed, Statement: "ALTER TABLE loans …"}
		return r.Apply(&change.Event{Operation: change.Definition, Table: "public.loans", Schema: to, Body: body.Encode()})
	}
	out, err := change_(loansVersion("pin", "note", "shelf"), loansVersion("pin", "note", "place"), change.Rename{From: "shelf", To: "place"})
	require.NoError(t, err)
	var body change.SchemaChange
	require.NoError(t, json.Unmarshal(out.Body, &body))
	require.Equal(t, []change.Rename{{From: "shelf", To: "place"}}, body.Renamed)
	require.Empty(t, body.Statement, "it may name what is kept back")
	require.Nil(t, body.Definition.Column("pin"))
	require.NotNil(t, body.Previous.Column("remark"))
	require.Equal(t, out.Schema.Fingerprint().String(), body.Fingerprint)

	out, err = change_(loansVersion("note", "shelf"), loansVersion("pin", "note", "shelf"))
	require.NoError(t, err)
	require.Nil(t, out, "a column that does not go out has come")
	var unfit *Unfit
	_, err = change_(loansVersion("pin", "note"), loansVersion("secret", "note"))
	require.ErrorAs(t, err, &unfit)
	require.Contains(t, err.Error(), "add a rule for it")
	_, err = change_(loansVersion("pin", "note"), loansVersion("note"))
	require.NoError(t, err, "it has gone, and nothing has come")
	// Neither an expression that does not fit the former version, nor a filter that keeps schema
	// events back, hides that a private column may have another name.
	fitting := formsOf(t, []ColumnForm{columnForm(t, "pin", Drop, "")}, NewColumn{Name: "n", Is: "remark.size()"})
	body = change.SchemaChange{Previous: loansVersion("pin", "note"), Definition: loansVersion("secret", "remark")}
	e := &change.Event{Operation: change.Definition, Table: "public.loans", Schema: body.Definition, Body: body.Encode()}
	_, err = fitting.Apply(e)
	require.ErrorAs(t, err, &unfit)
	require.ErrorAs(t, fitting.Watch(e), &unfit)
	e.Table = "public.holds"
	require.NoError(t, fitting.Watch(e), "no form is for it")
	require.NoError(t, (*Rows)(nil).Watch(e))

	at, says, unused := formsOf(t, []ColumnForm{columnForm(t, "note", Keep, "x"), columnForm(t, "pni", Drop, "")}).Unused([]*change.Schema{loansVersion("note"), loansVersion("pin", "note")})
	require.True(t, unused)
	require.Contains(t, at, ".columns[1].match")
	require.Contains(t, says, `a column "pni" (pin?)`)
	_, _, unused = r.Unused([]*change.Schema{loansVersion("note"), loansVersion("pin")})
	require.False(t, unused)
	_, err = r.Schema(loansVersion("remark", "note"))
	require.ErrorContains(t, err, `two columns are called "remark"`)
	require.Nil(t, (*Rows)(nil).Clone())
}

// TestRowsOfEvents: a column that says something of the event counts as changed in each, is not
// known of any row before, and is left out where rows stand for themselves.
func TestRowsOfEvents(t *testing.T) {
	r := formsOf(t, nil, NewColumn{Name: "was", Is: "before.note"}, NewColumn{Name: "by", Is: "transaction.origin", Type: "text"}, NewColumn{Name: "size", Is: "note.size()"})
	of := loansVersion("note")
	row := func(note string) []change.Value {
		return []change.Value{change.Of("1"), change.Of("7"), change.Of(note)}
	}
	out, err := r.Apply(&change.Event{Operation: change.Update, Table: "public.loans", Schema: of, Before: row("lent"), After: row("lost"), Transaction: change.Transaction{Origin: "desk"}})
	require.NoError(t, err)
	require.Equal(t, []string{"lent", "desk"}, []string{string(out.After[3].Text), string(out.After[4].Text)})
	require.Equal(t, change.Omitted, out.Before[3].Presence)
	changed, known := out.Changed(nil)
	require.True(t, known)
	require.Equal(t, []int{2, 3, 4}, changed, "note, was and by; the size is the same")

	_, err = r.Apply(&change.Event{Operation: change.Update, Table: "public.loans", Schema: of, After: row("lost")})
	var refused *Refused
	require.ErrorAs(t, err, &refused)
	require.Equal(t, "was", refused.Column)
	r.Forms[0].New[0].OrNull = true
	out, err = r.Clone().Apply(&change.Event{Operation: change.Update, Table: "public.loans", Schema: of, After: row("lost")})
	require.NoError(t, err)
	require.Equal(t, change.Null, out.After[3].Presence)

	alone := r.Clone()
	alone.RowsAlone = true
	to, err := alone.Schema(of)
	require.NoError(t, err)
	require.Len(t, to.Columns, 4)
	formed, err := alone.Row(of, row("lent"))
	require.NoError(t, err)
	require.Equal(t, "4", string(formed[3].Text))
}
