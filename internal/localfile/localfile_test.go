package localfile

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestRead: what is no regular file, or a large one, is refused at once.
func TestRead(t *testing.T) {
	folder := t.TempDir()
	at := func(name string) string { return filepath.Join(folder, name) }
	require.NoError(t, syscall.Mkfifo(at("pipe"), 0o600))
	require.NoError(t, os.WriteFile(at("good"), []byte("text"), 0o600))
	require.NoError(t, os.WriteFile(at("large"), make([]byte, 1025), 0o600))
	require.NoError(t, os.Symlink("good", at("link")))
	require.NoError(t, os.Symlink("/dev/zero", at("zero")))
	root, err := os.OpenRoot(folder)
	require.NoError(t, err)
	defer root.Close() //nolint:errcheck // it was only read
	for name, says := range map[string]string{"good": "", "link": "", "pipe": "it is no regular file", "zero": "it is no regular file", ".": "it is no regular file", "large": "it has more than 1 KiB", "none": "no such file"} {
		text, err := Read(at(name), 1024)
		f, size, opened := Open(root, name, 1024)
		for what, err := range map[string]error{"read": err, "check": Check(at(name), 1024), "open": opened} {
			if what == "open" && name == "zero" {
				require.Error(t, err) // it lies outside
				continue
			}
			if says != "" {
				require.ErrorContains(t, err, says, "%s %s", what, name)
				continue
			}
			require.NoError(t, err, "%s %s", what, name)
		}
		if says == "" {
			require.Equal(t, "text", string(text))
			require.EqualValues(t, 4, size)
			require.NoError(t, f.Close())
		}
	}
}
