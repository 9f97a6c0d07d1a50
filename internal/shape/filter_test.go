package shape

import (
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/expression"
)

// TestFilterConverts: an update by which a row enters or leaves the conditions is an insert
// or a delete, unless it is to go out as it is.
func TestFilterConverts(t *testing.T) {
	filtered := change.NewSchema(change.PostgreSQL, "public.loans", []change.Column{{Name: "loan_id", Type: "bigint", Rule: change.RuleInteger, Key: 1}, {Name: "branch_id", Type: "integer", Rule: change.RuleInteger, Nullable: true}}, nil, false)
	one, two := []change.Value{change.Of("1"), change.Of("3")}, []change.Value{change.Of("1"), change.Of("4")}
	parsed := func(text string) *expression.EventCondition {
		condition, err := expression.ParseEventCondition(text)
		require.NoError(t, err)
		return condition
	}
	every, err := ParsePattern("public.*")
	require.NoError(t, err)
	loans, err := ParsePattern("loans")
	require.NoError(t, err)
	f := &Filter{Where: []TableCondition{{every, parsed("branch_id in [3, 4]")}, {loans, parsed("branch_id == 3")}}}
	admit := func(e change.Event) (*change.Event, bool) {
		e.Table, e.Schema = filtered.Table, filtered
		admitted, err := f.Admits(&e)
		require.NoError(t, err)
		return &e, admitted
	}
	e, admitted := admit(change.Event{Operation: change.Update, Before: one, After: two})
	require.True(t, admitted)
	require.Equal(t, change.Delete, e.Operation)
	require.Equal(t, one, e.Before)
	require.Nil(t, e.After)
	e, admitted = admit(change.Event{Operation: change.Update, Before: two, After: one})
	require.True(t, admitted)
	require.Equal(t, change.Insert, e.Operation)
	require.Nil(t, e.Before)
	e, _ = admit(change.Event{Operation: change.Update, After: two})
	require.Equal(t, change.Delete, e.Operation)
	require.Equal(t, []change.Presence{change.Present, change.Omitted}, []change.Presence{e.Before[0].Presence, e.Before[1].Presence}, "its key is known, and no more")
	_, admitted = admit(change.Event{Operation: change.Update, Before: two, After: two})
	require.False(t, admitted)
	_, admitted = admit(change.Event{Operation: change.Truncate})
	require.True(t, admitted, "what has no row passes")
	f.AsTheyAre = true
	e, _ = admit(change.Event{Operation: change.Update, Before: one, After: two})
	require.Equal(t, change.Update, e.Operation)
	f.AsTheyAre, f.Operations = false, []change.Operation{change.Insert}
	_, admitted = admit(change.Event{Operation: change.Update, Before: one, After: two})
	require.False(t, admitted, "the operations are those that go out")
	_, admitted = admit(change.Event{Operation: change.Update, Before: two, After: one})
	require.True(t, admitted)
}
