package postgres

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/capture/rules"
	"rillmark/internal/postgres/publication"
	"rillmark/internal/postgres/session"
	"rillmark/internal/postgres/tables"
)

// TestATellableStatement: a text that came with others, or that is a call, may hold what
// a rule keeps private; so may one of a table whose rule treats a column.
func TestATellableStatement(t *testing.T) {
	secret, open := &tables.Table{}, &tables.Table{}
	rules := []rules.Table{{Columns: []rules.Column{{Treat: rules.Mask}}}, {Columns: []rules.Column{{Treat: rules.Keep}}}}
	secret.State.Table, open.State.Table = "public.patrons", "public.loans"
	r := newRun(&session.Config{Rules: rules}, nil)
	r.owners = map[uint32]*tables.Table{1: secret, 2: open}
	secret.Captured, open.Captured = &publication.Captured{Rule: &rules[0]}, &publication.Captured{Rule: &rules[1]}
	for text, tellable := range map[string]bool{
		"ALTER TABLE loans ADD COLUMN shelf text":                        true,
		" alter\n table loans add shelf text ;\n":                        true,
		"UPDATE patrons SET pin = 'x'; ALTER TABLE loans ADD shelf text": false,
		"ALTER TABLE loans ADD shelf text; UPDATE patrons SET pin = 'x'": false,
		"SELECT change_tables('x')":                                      false,
		"CREATE TABLE loans AS SELECT pin FROM patrons":                  false,
	} {
		n := &noted{Tag: "ALTER TABLE", Statement: text}
		require.NoError(t, json.Unmarshal([]byte(`[{"oid": 2}]`), &n.Tables))
		require.Equal(t, tellable, r.tellable(n), text)
		require.NoError(t, json.Unmarshal([]byte(`[{"oid": 2}, {"oid": 1}]`), &n.Tables))
		require.False(t, r.tellable(n), text)
		require.NoError(t, json.Unmarshal([]byte(`[{"oid": 3, "table": "public.unknown"}]`), &n.Tables))
		require.False(t, r.tellable(n), text)
	}
}
