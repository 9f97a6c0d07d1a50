package asof

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/seeded"
)

func schemaOf(names ...string) *change.Schema {
	var columns []change.Column
	for i, name := range names {
		c := change.Column{Name: name, Type: "text", Rule: change.RuleText, Nullable: i > 0}
		if name == "id" {
			c.Key = 1
		}
		columns = append(columns, c)
	}
	return change.NewSchema(change.PostgreSQL, "public.loans", columns, nil, false)
}

func definition(was, is *change.Schema, rewrites bool, renamed ...change.Rename) *change.Event {
	body := change.SchemaChange{Definition: is, Previous: was, Renamed: renamed, Rewrites: rewrites}
	return &change.Event{Operation: change.Definition, Schema: is, Body: body.Encode()}
}

func values(texts ...string) []change.Value {
	row := make([]change.Value, len(texts))
	for i, text := range texts {
		switch text {
		case "-":
			row[i] = change.NullValue()
		case "?":
		default:
			row[i] = change.Of(text)
		}
	}
	return row
}

// lines are the table's rows as texts, by their first column.
func lines(t *testing.T, of *Table) map[string]string {
	t.Helper()
	found := make(map[string]string)
	require.NoError(t, of.Each(func(row []change.Value) error {
		var parts []string
		for _, v := range row {
			text := string(v.Text)
			switch v.Presence {
			case change.Null:
				text = "-"
			case change.Omitted:
				text = "?"
			case change.Present:
			}
			parts = append(parts, text)
		}
		found[parts[0]] += strings.Join(parts, "|")
		return nil
	}))
	return found
}

// TestFold draws a table's events and folds them, with room in memory and without: both give
// what a plain map gives.
func TestFold(t *testing.T) {
	random := seeded.Random(t, 8)
	dir := t.TempDir()
	roomy, narrow := New(dir, 1<<20), New(dir, 2000)
	model := make(map[string][]string)
	versions := []*change.Schema{schemaOf("id", "note", "state"), schemaOf("id", "remark", "state"), schemaOf("id", "remark", "place"), schemaOf("id", "remark", "place", "more")}
	at := 0
	apply := func(e *change.Event) {
		e.Table = "public.loans"
		if e.Schema == nil {
			e.Schema = versions[at]
		}
		require.NoError(t, roomy.Apply(e))
		require.NoError(t, narrow.Apply(e))
	}
	apply(definition(nil, versions[0], false))
	text := func() string { return []string{"a", "-", strings.Repeat("long ", 40), ""}[random.IntN(4)] }
	for n := range 6000 {
		if n%1500 == 1400 && at < 3 {
			at++
			switch at {
			case 1:
				apply(definition(versions[0], versions[1], false, change.Rename{From: "note", To: "remark"}))
			case 2: // dropped, and another made
				apply(definition(versions[1], versions[2], false))
				for _, row := range model {
					row[2] = "-"
				}
			case 3:
				apply(definition(versions[2], versions[3], false))
				for id := range model {
					model[id] = append(model[id], "-")
				}
			}
		}
		id := fmt.Sprint(random.IntN(300))
		row := []string{id, text(), text()}
		if at == 3 {
			row = append(row, text())
		}
		switch random.IntN(10) {
		case 0:
			apply(&change.Event{Operation: change.Delete, Before: values(append([]string{id}, make([]string, len(row)-1)...)...)})
			delete(model, id)
		case 1: // the key changes, and a value that the log has not stays
			other := fmt.Sprint(random.IntN(300))
			if model[id] == nil || model[other] != nil {
				continue
			}
			apply(&change.Event{Operation: change.Delete, Before: values(model[id]...), Rekeyed: values(other)})
			row[0], row[1] = other, "?"
			apply(&change.Event{Operation: change.Insert, After: values(row...), Rekeyed: values(id)})
			row[1] = model[id][1]
			model[other] = row
			delete(model, id)
		case 2, 3, 4:
			if model[id] == nil {
				continue
			}
			row[2] = "?"
			apply(&change.Event{Operation: change.Update, After: values(row...)})
			row[2] = model[id][2]
			model[id] = row
		case 5:
			if n < 4500 && random.IntN(300) == 0 { // enough comes after it that rows are left
				apply(&change.Event{Operation: change.Truncate})
				clear(model)
			}
		default:
			apply(&change.Event{Operation: change.Insert, After: values(row...)})
			model[id] = row
		}
	}
	want := make(map[string]string)
	for id, row := range model {
		want[id] = strings.Join(row, "|")
	}
	require.Greater(t, len(want), 100)
	require.Equal(t, want, lines(t, roomy))
	require.Equal(t, want, lines(t, narrow))
	for _, one := range []*Table{narrow, roomy} {
		n, err := one.Rows()
		require.NoError(t, err)
		require.EqualValues(t, len(want), n)
	}
	require.NotEmpty(t, narrow.rows.files, "it did not fit into memory")
	require.Empty(t, roomy.rows.files)
	require.NoError(t, narrow.Close())
	require.NoError(t, roomy.Close())
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, left, "nothing stays on disk")
}

// TestWhatIsKnown: whether rows are those of the offset.
func TestWhatIsKnown(t *testing.T) {
	v := schemaOf("id", "note")
	table := New(t.TempDir(), 1<<20)
	apply := func(e change.Event) {
		e.Table, e.Schema = "public.loans", v
		require.NoError(t, table.Apply(&e))
	}
	apply(change.Event{Operation: change.Insert, After: values("1", "a")})
	require.False(t, table.Begun(), "rows from before are not in it")
	apply(change.Event{Operation: change.Update, After: values("9", "?")})
	rows, err := table.Rows()
	require.NoError(t, err)
	require.EqualValues(t, []int64{2, 1}, []int64{rows, table.Partial()}, "of one row nothing but a change is known")
	apply(change.Event{Operation: change.Void, Offset: 7})
	require.True(t, table.Begun())
	require.EqualValues(t, 7, table.Loading())
	apply(change.Event{Operation: change.Existing, After: values("2", "b")})
	apply(change.Event{Operation: change.Loaded, Body: []byte(`{"part":"where id = 1"}`)})
	require.EqualValues(t, 7, table.Loading(), "a part is not the load")
	apply(change.Event{Operation: change.Loaded})
	require.Zero(t, table.Loading())
	require.Equal(t, map[string]string{"2": "2|b"}, lines(t, table))
	rewritten := schemaOf("id", "note", "kind")
	require.NoError(t, table.Apply(definition(v, rewritten, true)))
	require.Contains(t, table.Inexact(), "changed without events")
	require.Equal(t, map[string]string{"2": "2|b|?"}, lines(t, table))
	gone := definition(rewritten, nil, false)
	gone.Schema = rewritten
	require.NoError(t, table.Apply(gone))
	require.Empty(t, lines(t, table))

	bag := New(t.TempDir(), 1<<20)
	plain := change.NewSchema(change.PostgreSQL, "public.bag", []change.Column{{Name: "n", Type: "text", Rule: change.RuleText}}, nil, false)
	for _, e := range []change.Event{{Operation: change.Delete, Before: values("x")}, {Operation: change.Existing, After: values("x")}, {Operation: change.Insert, After: values("y")}, {Operation: change.Insert, After: values("y")},
		{Operation: change.Update, Before: values("y"), After: values("z")}} {
		e.Table, e.Schema = "public.bag", plain
		require.NoError(t, bag.Apply(&e))
	}
	require.Equal(t, map[string]string{"y": "y", "z": "z"}, lines(t, bag), "a row that was taken before it came is not there")
	n, err := bag.Rows()
	require.NoError(t, err)
	require.EqualValues(t, 2, n)

	// Another column comes: rows from before are found by all of their columns still.
	wider := change.NewSchema(change.PostgreSQL, "public.bag", []change.Column{{Name: "n", Type: "text", Rule: change.RuleText}, {Name: "late", Type: "text", Rule: change.RuleText, Nullable: true}}, nil, false)
	added := definition(plain, wider, false)
	added.Table, added.Schema = "public.bag", wider
	require.NoError(t, bag.Apply(added))
	require.NoError(t, bag.Apply(&change.Event{Operation: change.Update, Table: "public.bag", Schema: wider, Before: []change.Value{change.Of("z"), change.NullValue()}, After: []change.Value{change.Of("z"), change.Of("new")}}))
	n, err = bag.Rows()
	require.NoError(t, err)
	require.EqualValues(t, 2, n)
}

// TestNoRoomOnDisk: rows that memory has no room for need a folder; without one there is an
// error, and no row is lost in silence.
func TestNoRoomOnDisk(t *testing.T) {
	v := schemaOf("id", "note")
	table := New(t.TempDir()+"/gone", 200)
	var err error
	for n := 0; n < 10 && err == nil; n++ {
		err = table.Apply(&change.Event{Operation: change.Insert, Table: "public.loans", Schema: v, After: values(fmt.Sprint(n), "a note")})
	}
	require.ErrorContains(t, err, "memory has no room for")
	require.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, table.Close())
}
