package test

import (
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestEncryptedSource follows a source whose connections are encrypted, with its
// certificate checked, through load and stream.
func TestEncryptedSource(t *testing.T) {
	certificate, key := selfSigned(t, "127.0.0.1")
	folder, err := os.MkdirTemp("", "rillmark-tls-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(folder) }) //nolint:errcheck // it lies in the temporary folder
	require.NoError(t, os.Chmod(folder, 0o755))
	settings := map[string]string{"ssl": "on"}
	for name, value := range sourceSettings {
		settings[name] = value
	}
	for setting, file := range map[string]string{"ssl_cert_file": certificate, "ssl_key_file": key} {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		copied := filepath.Join(folder, filepath.Base(file))
		require.NoError(t, os.WriteFile(copied, raw, 0o600))
		if os.Getuid() == 0 { // then the server runs as its own user
			server, err := user.Lookup("postgres")
			require.NoError(t, err)
			uid, _ := strconv.Atoi(server.Uid)
			gid, _ := strconv.Atoi(server.Gid)
			require.NoError(t, os.Chown(copied, uid, gid))
		}
		settings[setting] = copied
	}
	source := server(t, "encrypted", settings)
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	run(t, db, deskTable, "INSERT INTO desk VALUES (1, 'loaded')")
	dropSlotAtEnd(t, source)
	i := newInstance(t, stateServer(t), "").start()
	d := sourceDefinition(source, name)
	d["connection"].(map[string]any)["tls"] = "verify-full"
	d["connection"].(map[string]any)["tls_root"] = certificate
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO desk SELECT n, 'streamed' FROM generate_series(2, 2000) n")
	i.reached("circulation", db)
	require.Len(t, ofTable(i.journal("circulation"), "public.desk", "existing", "insert"), 2000)
	var encrypted bool
	require.NoError(t, db.QueryRow(t.Context(), "SELECT bool_and(ssl) FROM pg_stat_ssl JOIN pg_stat_activity USING (pid) WHERE application_name LIKE 'rillmark%' AND datname = $1", name).Scan(&encrypted))
	require.True(t, encrypted)
}
