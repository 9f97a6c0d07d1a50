package test

import (
	"bytes"
	"crypto/tls"
	"encoding/json"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/require"
)

// TestEncryptedSource follows a source whose connections are encrypted, with its
// certificate checked, through load and stream.
func TestEncryptedSource(t *testing.T) {
	t.Parallel()
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

// TestEncryptedDestinations delivers to servers that talk TLS alone; a certificate
// that does not match is told by the check.
func TestEncryptedDestinations(t *testing.T) {
	t.Parallel()
	certificate, key := selfSigned(t, "127.0.0.1")
	other, _ := selfSigned(t, "127.0.0.1")
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	n := launch(t, "nats-server", "-a", "127.0.0.1", "-p", "$PORT", "-js", "-sd", "$DIR", "--tls", "--tlscert", certificate, "--tlskey", key)
	r := launch(t, "redis-server", "--bind", "127.0.0.1", "--port", "0", "--tls-port", "$PORT", "--tls-cert-file", certificate, "--tls-key-file", key, "--tls-auth-clients", "no", "--save", "")
	k := launch(t, binary, "stand-in", "broker", "--listen", "$ADDR", "--certificate", certificate, "--key", key)
	lake := t.TempDir()
	require.NoError(t, mkdir(filepath.Join(lake, "lake")))
	s := launch(t, binary, "stand-in", "objects", "--listen", "$ADDR", "--folder", lake, "--certificate", certificate, "--key", key)
	g := launch(t, binary, "stand-in", "registry", "--listen", "$ADDR", "--certificate", certificate, "--key", key)
	f := &function{address: "127.0.0.1:0"}
	pair, err := tls.LoadX509KeyPair(certificate, key)
	require.NoError(t, err)
	listener, err := tls.Listen("tcp", f.address, &tls.Config{Certificates: []tls.Certificate{pair}, ClientAuth: tls.RequireAnyClientCert, MinVersion: tls.VersionTLS12})
	require.NoError(t, err)
	f.address, f.server = listener.Addr().String(), &http.Server{Handler: f}
	go f.server.Serve(listener) //nolint:errcheck // it is closed
	t.Cleanup(f.stop)

	destinations := func(root string) map[string]map[string]any {
		checked := map[string]any{"root": root}
		return map[string]map[string]any{
			"nats":  {"kind": "nats", "nats": map[string]any{"servers": []string{"tls://" + n.address}, "stream": "library", "create_stream": true, "tls": checked}},
			"redis": {"kind": "redis", "redis": map[string]any{"address": r.address, "tls": checked}},
			"kafka": {"kind": "kafka", "kafka": map[string]any{"brokers": []string{k.address}, "create_topics": map[string]any{"partitions": 1}, "tls": checked}},
			"file":  {"kind": "file", "file": map[string]any{"bucket": map[string]any{"name": "lake", "endpoint": "https://" + s.address, "access_key": "demo", "secret_key": "only-for-the-test", "tls": checked}}},
			"http":  {"kind": "http", "http": map[string]any{"url": "https://" + f.address, "tls": map[string]any{"root": root, "certificate": certificate, "key": key}}},
		}
	}
	topics := map[string]any{"nats": "library.desk", "redis": "desk", "kafka": "desk"}
	for kind, d := range destinations(other) {
		_, raw, err := i.call(http.MethodPost, "/v1/destinations/a/check", d)
		require.NoError(t, err)
		require.Contains(t, string(raw), "certificate", kind)
		require.Contains(t, string(raw), "missing", kind)
	}
	names := make([]string, 0, 6)
	for kind, d := range destinations(certificate) {
		one := target{name: kind, destination: d, outlet: map[string]any{"operations": []string{"insert"}}}
		if topics[kind] != nil {
			one.outlet["topic"] = topics[kind]
		}
		if kind == "file" {
			one.outlet["file"] = map[string]any{"rotate_every": "1s"}
		}
		i.add(one)
		names = append(names, kind)
	}
	registered := func(root string) map[string]any {
		return map[string]any{"source": "circulation", "destination": "kafka", "operations": []string{"insert"}, "topic": "framed", "format": "avro",
			"avro": map[string]any{"framing": "registry", "registry": "https://" + g.address, "tls": map[string]any{"root": root}}}
	}
	i.must(http.MethodPost, "/v1/outlets/framed", registered(other), nil)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO desk SELECT n, 'private' FROM generate_series(1, 10) n")
	i.outletIs("framed", "does not trust the registry", func(o outletStatus) bool { return strings.Contains(o.Error, "certificate") })
	code, raw, err := i.call(http.MethodPut, "/v1/outlets/framed", registered(certificate), "If-Match", `"1"`)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, code, "%s", raw)
	i.reached("circulation", db)
	i.caughtUp(append(names, "framed")...)
	require.Len(t, f.all(), 10)
	placed := 0
	for _, name := range manifest(t, filepath.Join(lake, "lake"), "file") {
		content, err := os.ReadFile(name)
		require.NoError(t, err)
		placed += bytes.Count(content, []byte("\n"))
	}
	require.Equal(t, 10, placed)
	_, port, _ := net.SplitHostPort(r.address)
	out, err := exec.Command("redis-cli", "-p", port, "--tls", "--cacert", certificate, "XLEN", "desk").Output()
	require.NoError(t, err)
	require.Equal(t, "10", strings.TrimSpace(string(out)))
	seen := kcat(t, "-b", k.address, "-X", "security.protocol=ssl", "-X", "ssl.ca.location="+certificate, "-C", "-t", "desk", "-o", "beginning", "-e", "-q")
	require.Equal(t, 10, strings.Count(string(seen), "\n"))
	conn, err := nats.Connect("tls://"+n.address, nats.RootCAs(certificate))
	require.NoError(t, err)
	defer conn.Close()
	js, err := jetstream.New(conn)
	require.NoError(t, err)
	stream, err := js.Stream(t.Context(), "library")
	require.NoError(t, err)
	require.EqualValues(t, 10, stream.CachedInfo().State.Msgs)
}

// TestAFunctionSaysWhenToComeAgain: Retry-After stands above the outlet's own waits.
func TestAFunctionSaysWhenToComeAgain(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	f := newFunction(t)
	refusals := 2
	f.wait = "2"
	f.set(func(r *http.Request, _ []byte) int {
		if refusals--; refusals >= 0 {
			return http.StatusTooManyRequests
		}
		return http.StatusOK
	})
	i.add(target{name: "desk", destination: map[string]any{"kind": "http", "http": map[string]any{"url": "http://" + f.address}}, outlet: map[string]any{"operations": []string{"insert"}}})
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO desk VALUES (1, 'later')")
	i.reached("circulation", db)
	i.outletIs("desk", "waits and says for how long", func(o outletStatus) bool {
		raw, _ := json.Marshal(o)
		return o.Phase == "waiting" && strings.Contains(string(raw), "429")
	})
	i.caughtUp("desk")
	f.mu.Lock()
	defer f.mu.Unlock()
	require.Len(t, f.came, 3)
	for n := 1; n < 3; n++ {
		require.GreaterOrEqual(t, f.came[n].Sub(f.came[n-1]), 2*time.Second, "the outlet's own wait would be 20 to 300 ms")
	}
}
