package definition

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestChanged names what changed, and never what it holds.
func TestChanged(t *testing.T) {
	before := Source{Engine: "postgresql", Connection: Connection{Host: "a", Password: "sealed:1:x"}, Tables: []TableRule{{Match: "loans"}}}
	after := before
	after.Connection.Password, after.Connection.Host = "sealed:1:y", "b"
	after.Tables = []TableRule{{Match: "holds"}}
	require.Equal(t, "connection.host, connection.password, tables", Changed(before, after))
	require.Equal(t, "nothing", Changed(before, before))
}
