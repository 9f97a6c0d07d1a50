package demo

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestLongFolder: a folder in which the servers could not start is refused before anything is
// made.
func TestLongFolder(t *testing.T) {
	folder := filepath.Join(t.TempDir(), strings.Repeat("long", 20))
	err := Run(t.Context(), Options{Folder: folder, Rate: 20, Port: 7930})
	require.ErrorContains(t, err, "choose another one with --folder")
	require.NoDirExists(t, folder)
}
