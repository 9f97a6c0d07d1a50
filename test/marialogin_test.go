package test

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestMariaDBLogins: a user of each way to log in, over a connection that is encrypted and
// checked; a certificate that nobody vouches for is refused.
func TestMariaDBLogins(t *testing.T) {
	t.Parallel()
	folder, err := os.MkdirTemp(shared.folder, "certificates-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o755))
	key, certificate := filepath.Join(folder, "key.pem"), filepath.Join(folder, "certificate.pem")
	out, err := exec.CommandContext(t.Context(), "openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=localhost", "-addext", "subjectAltName=DNS:localhost", "-keyout", key, "-out", certificate).CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, os.Chmod(key, 0o644)) // the server's user reads it
	m := mariaServer(t, map[string]string{"ssl-cert": certificate, "ssl-key": key})
	database, db := mariaDatabase(t, m, "CREATE TABLE a (id int PRIMARY KEY)", "INSERT INTO a VALUES (1)", "INSTALL SONAME 'auth_ed25519'")
	mariaRun(t, db, "CREATE USER modern@'%' IDENTIFIED VIA ed25519 USING PASSWORD('a long pass word') REQUIRE SSL", "GRANT REPLICATION SLAVE, BINLOG MONITOR, REPLICATION MASTER ADMIN ON *.* TO modern@'%'", "GRANT SELECT, LOCK TABLES, REFERENCES ON *.* TO modern@'%'")
	i := newInstance(t, stateServer(t), "").start()
	d := mariaSource(t, m, map[string]any{"match": database + ".*"})
	with := func(changes map[string]any) map[string]any {
		for name, v := range changes {
			d["connection"].(map[string]any)[name] = v
		}
		return d
	}
	found := func(definition map[string]any) string {
		var answer struct{ Items []struct{ Found string } }
		i.must(http.MethodPost, "/v1/sources/catalogue/check", definition, &answer)
		return fmt.Sprint(answer.Items[0])
	}
	require.Contains(t, found(with(map[string]any{"host": "localhost", "tls": "verify-full"})), "certificate")
	require.Contains(t, found(with(map[string]any{"tls_root": certificate})), "in, encrypted")
	require.Contains(t, found(with(map[string]any{"user": "modern", "password": "wrong"})), "refuses user")
	require.Contains(t, found(with(map[string]any{"password": "a long pass word"})), `user "modern" in, encrypted`)
	i.must(http.MethodPost, "/v1/sources/catalogue", d, nil)
	i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
	i.mariaSettled("catalogue", db)
	proveJournal(t, i.journal("catalogue")).mariaEquals(t, db, database, "a")
}
