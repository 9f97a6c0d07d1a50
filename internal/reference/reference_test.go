package reference

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestReference: each kind and each engine has its page, whose tables are up to date,
// and every field says what it is.
func TestReference(t *testing.T) {
	for page, tables := range Pages() {
		text, err := os.ReadFile(filepath.Join("../../docs", page))
		require.NoError(t, err)
		filled, err := Fill(string(text), tables)
		require.NoError(t, err, page)
		require.Equal(t, filled, string(text), "run make types")
		for _, table := range tables {
			require.NotContains(t, table, "|  |\n", page)
		}
	}
}
