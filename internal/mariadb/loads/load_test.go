package loads

import (
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/mariadb/stream"
)

// TestLayOver: what the log says between two places is laid over the rows of a chunk, be it
// that their snapshot has seen it or not.
func TestLayOver(t *testing.T) {
	schema := change.NewSchema(change.MariaDB, "cat.works", []change.Column{{Name: "id", Rule: change.RuleInteger, Key: 1}, {Name: "title", Rule: change.RuleText}}, nil, false)
	row := func(id, title string) []change.Value { return []change.Value{change.Of(id), change.Of(title)} }
	l := new(TableLoad)
	l.Observe(stream.Place{File: 1, Offset: 5}, nil, []change.Value{change.Of("1")}, row("1", "before it was kept"))
	l.Record(stream.Place{File: 1, Offset: 10})
	at := func(offset uint64) stream.Place { return stream.Place{File: 1, Offset: offset} }
	key := func(id string) []change.Value { return []change.Value{change.Of(id)} }
	l.Observe(at(20), key("1"), key("1"), row("1", "seen already"))
	l.Observe(at(30), key("2"), nil, nil)
	l.Observe(at(40), nil, key("9"), row("9", "in its own event"))
	l.Observe(at(50), key("3"), key("4"), row("4", "another key"))
	l.Observe(at(60), key("4"), key("4"), row("4", "and changed"))
	changes, ddl := l.Between(at(20))
	require.Len(t, changes, 4)
	require.False(t, ddl)
	changes, _ = l.Between(at(10))
	got := LayOver([][]change.Value{row("1", "new"), row("2", "goes"), row("3", "moves"), row("5", "stays")}, schema, changes)
	require.Equal(t, [][]change.Value{row("1", "seen already"), row("4", "and changed"), row("5", "stays")}, got)

	l.Disturb(at(70))
	_, ddl = l.Between(at(60))
	require.True(t, ddl)
	l.Prune(at(60))
	require.Len(t, l.changes, 1)
	require.Equal(t, at(60), l.Floor)
	l.Restart()
	require.Equal(t, 1, l.Progress.Restarts)
}
