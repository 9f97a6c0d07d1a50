package definition

import (
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/postgres"
)

// TestChanged names what changed, and never what it holds.
func TestChanged(t *testing.T) {
	before := Source{Engine: "postgresql", Connection: Connection{&postgres.Settings{Host: "a", Password: "sealed:1:x"}}, Tables: []TableRule{{Match: "loans"}}}
	after := before.Clone()
	after.Connection.Connection = &postgres.Settings{Host: "b", Password: "sealed:1:y"}
	after.Tables = []TableRule{{Match: "holds"}}
	require.Equal(t, "connection.host, connection.password, tables", Changed(before, after))
	require.Empty(t, Changed(before, before))
}
