package mariadb

import (
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/capture/load"
	"rillmark/internal/change"
	"rillmark/internal/mariadb/stream"
)

// TestLayOver: what the log says between two places is laid over the rows of a chunk, be it
// that their snapshot has seen it or not.
func TestLayOver(t *testing.T) {
	schema := change.NewSchema(change.MariaDB, "cat.works", []change.Column{{Name: "id", Rule: change.RuleInteger, Key: 1}, {Name: "title", Rule: change.RuleText}}, nil, false)
	row := func(id, title string) []change.Value { return []change.Value{change.Of(id), change.Of(title)} }
	l := new(tableLoad)
	l.observe(stream.Place{File: 1, Offset: 5}, nil, []change.Value{change.Of("1")}, row("1", "before it was kept"))
	l.record(stream.Place{File: 1, Offset: 10})
	at := func(offset uint64) stream.Place { return stream.Place{File: 1, Offset: offset} }
	key := func(id string) []change.Value { return []change.Value{change.Of(id)} }
	l.observe(at(20), key("1"), key("1"), row("1", "seen already"))
	l.observe(at(30), key("2"), nil, nil)
	l.observe(at(40), nil, key("9"), row("9", "in its own event"))
	l.observe(at(50), key("3"), key("4"), row("4", "another key"))
	l.observe(at(60), key("4"), key("4"), row("4", "and changed"))
	changes, ddl := l.between(at(20))
	require.Len(t, changes, 4)
	require.False(t, ddl)
	changes, _ = l.between(at(10))
	got := load.LayOver([][]change.Value{row("1", "new"), row("2", "goes"), row("3", "moves"), row("5", "stays")}, schema, changes, (*overlaid).change)
	require.Equal(t, [][]change.Value{row("1", "seen already"), row("4", "and changed"), row("5", "stays")}, got)

	l.disturb(at(70))
	_, ddl = l.between(at(60))
	require.True(t, ddl)
	l.prune(at(60))
	require.Len(t, l.changes, 1)
	require.Equal(t, at(60), l.floor)
	l.restart()
	require.Equal(t, 1, l.progress.Restarts)
}
