package test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestWrongDelivery: what can be known when a destination or an outlet is defined
// is told then, in a sentence with its place.
func TestWrongDelivery(t *testing.T) {
	t.Parallel()
	i, _ := begin(t, "", deskTable)
	for _, d := range []map[string]any{
		{"kind": "kafka", "kafka": map[string]any{"brokers": []string{"127.0.0.1:1"}}}, {"kind": "http", "http": map[string]any{"url": "http://127.0.0.1:1"}},
		{"kind": "file", "file": map[string]any{"directory": "x"}}, {"kind": "nats", "nats": map[string]any{"servers": []string{"nats://127.0.0.1:1"}}},
	} {
		i.must(http.MethodPost, "/v1/destinations/"+d["kind"].(string), d, nil)
	}
	type wrong struct {
		path string
		body map[string]any
		says string
	}
	outlet := func(fields map[string]any) map[string]any {
		fields["source"] = "circulation"
		return fields
	}
	for _, w := range []wrong{
		{"/v1/destinations/a", map[string]any{"kind": "pigeon"}, "expected value to be one of"},
		{"/v1/destinations/a", map[string]any{"kind": "kafka", "kafka": map[string]any{"brokers": []string{"nowhere"}}}, "write host:port"},
		{"/v1/destinations/a", map[string]any{"kind": "kafka", "kafka": map[string]any{"brokers": []string{"a:1"}, "speed": 3}}, "unexpected property"},
		{"/v1/destinations/a", map[string]any{"kind": "kafka"}, "needs the section kafka"},
		{"/v1/destinations/a", map[string]any{"kind": "kafka", "kafka": map[string]any{"brokers": []string{"far.example:1"}, "login": map[string]any{"mechanism": "plain", "user": "u", "password": "p"}}}, "sends the password as it is"},
		{"/v1/destinations/a", map[string]any{"kind": "http", "http": map[string]any{"url": "ftp://x"}}, "no absolute address"},
		{"/v1/destinations/a", map[string]any{"kind": "http", "http": map[string]any{"url": "http://x.example", "sign_key": "short"}}, "whsec_"},
		{"/v1/destinations/a", map[string]any{"kind": "http", "http": map[string]any{"url": "http://x.example", "tls": map[string]any{"root": "/nowhere.pem"}}}, "cannot be read on the service's machine"},
		{"/v1/destinations/a", map[string]any{"kind": "file", "file": map[string]any{"directory": "../../etc"}}, "outside of the service's files_root"},
		{"/v1/outlets/a", outlet(map[string]any{"destination": "kafka", "topic": "{colour}"}), "names the field \"colour\", which no event has"},
		{"/v1/outlets/a", outlet(map[string]any{"destination": "kafka", "topic": "a b"}), "is no name of a topic"},
		{"/v1/outlets/a", outlet(map[string]any{"destination": "nats", "topic": "a.*"}), "is no subject"},
		{"/v1/outlets/a", outlet(map[string]any{"destination": "kafka", "format": "parquet"}), "does not take parquet"},
		{"/v1/outlets/a", outlet(map[string]any{"destination": "http", "format": "avro", "http": map[string]any{"events": 5}}), "has no lists"},
		{"/v1/outlets/a", outlet(map[string]any{"destination": "http", "kafka": map[string]any{}}), "goes with a destination of kind kafka"},
		{"/v1/outlets/a", outlet(map[string]any{"destination": "http", "deletes": "marker"}), "which has none"},
		{"/v1/outlets/a", outlet(map[string]any{"destination": "file", "file": map[string]any{"name": "{outlet}/{first}"}}), "could name two files alike"},
		{"/v1/outlets/a", outlet(map[string]any{"destination": "file", "file": map[string]any{"name": "../{outlet}.{run}.{first}"}}), "no name below a directory"},
		{"/v1/outlets/a", outlet(map[string]any{"destination": "file", "file": map[string]any{"compression": "snappy"}}), "no compression of format"},
		{"/v1/outlets/a", outlet(map[string]any{"destination": "nowhere"}), "there is no destination"},
		{"/v1/outlets/a", outlet(map[string]any{"from": "yesterday"}), "no place in a journal"},
		{"/v1/outlets/a", outlet(map[string]any{"from": "time:noon"}), "no time"},
		{"/v1/outlets/a", outlet(map[string]any{"from": "mark:nowhere"}), "there is no mark"},
		{"/v1/outlets/a", outlet(map[string]any{"from": "99999"}), "lies outside of the journal"},
		{"/v1/outlets/a", outlet(map[string]any{"changes": "combined", "transactions": true}), "no single changes"},
		{"/v1/outlets/a", outlet(map[string]any{"format": "row", "metadata": []string{"log"}}), "no metadata of format row"},
		{"/v1/outlets/a", outlet(map[string]any{"destination": "http", "batch": map[string]any{"every": "soon"}}), "no duration"},
	} {
		status, raw, err := i.call(http.MethodPost, w.path, w.body)
		require.NoError(t, err)
		require.GreaterOrEqual(t, status, 400, "%v", w.body)
		require.Less(t, status, 500, "%v %s", w.body, raw)
		var problem struct{ Detail, Code string }
		require.NoError(t, json.Unmarshal(raw, &problem))
		require.Contains(t, problem.Detail, w.says, "%v", w.body)
		require.NotEmpty(t, problem.Code)
	}
}

// TestDestinationChecks: what is wrong at the far end is told by the check, which
// leaves nothing there.
func TestDestinationChecks(t *testing.T) {
	t.Parallel()
	i := newInstance(t, stateServer(t), "network: {local: [kafka, redis, nats, file]}\n").start()
	check := func(d map[string]any) string {
		t.Helper()
		_, raw, err := i.call(http.MethodPost, "/v1/destinations/a/check", d)
		require.NoError(t, err)
		return string(raw)
	}
	// A private address, where the service does not allow it: by name, too.
	for url, told := range map[string]string{"http://127.0.0.1:9/": "on this machine", "http://localhost:9/": "on this machine", "http://10.1.2.3/": "a private address",
		"http://[::1]/": "on this machine", "http://169.254.169.254/": "a link-local address", "http://[::ffff:127.0.0.1]/": "on this machine", "http://[64:ff9b::7f00:1]/": "on this machine"} {
		require.Contains(t, check(map[string]any{"kind": "http", "http": map[string]any{"url": url}}), told, url)
	}
	folder := t.TempDir()
	require.NoError(t, mkdir(filepath.Join(folder, "lake")))
	objects := launch(t, binary, "stand-in", "objects", "--listen", "$ADDR", "--folder", folder)
	bucket := func(name, key string) map[string]any {
		return map[string]any{"kind": "file", "file": map[string]any{"bucket": map[string]any{"name": name, "endpoint": "http://" + objects.address, "access_key": key, "secret_key": "s"}}}
	}
	require.Contains(t, check(bucket("pond", "demo")), "there is no bucket pond")
	require.Contains(t, check(bucket("lake", "other")), "missing")
	require.NotContains(t, check(bucket("lake", "demo")), "missing")
	left, err := os.ReadDir(filepath.Join(folder, "lake"))
	require.NoError(t, err)
	for _, e := range left {
		inside, err := os.ReadDir(filepath.Join(folder, "lake", e.Name()))
		require.NoError(t, err)
		require.Empty(t, inside, "nothing is left there")
	}

	certificate, key := selfSigned(t, "127.0.0.1")
	other, _ := selfSigned(t, "127.0.0.1")
	broker := launch(t, binary, "stand-in", "broker", "--listen", "$ADDR", "--certificate", certificate, "--key", key)
	kafka := func(root string) map[string]any {
		return map[string]any{"kind": "kafka", "kafka": map[string]any{"brokers": []string{broker.address}, "tls": map[string]any{"root": root}}}
	}
	require.Contains(t, check(kafka(other)), "certificate")
	require.Contains(t, check(kafka(other)), "missing")
	require.NotContains(t, check(kafka(certificate)), "missing")
	redis := launch(t, "redis-server", "--bind", "127.0.0.1", "--port", "$PORT", "--dir", "$DIR", "--requirepass", "right-one", "--save", "")
	require.Contains(t, check(map[string]any{"kind": "redis", "redis": map[string]any{"address": redis.address, "password": "wrong-one"}}), "refuses user or password")
	require.NotContains(t, check(map[string]any{"kind": "redis", "redis": map[string]any{"address": redis.address, "password": "right-one"}}), "missing")
	nats := launch(t, "nats-server", "-a", "127.0.0.1", "-p", "$PORT")
	require.Contains(t, check(map[string]any{"kind": "nats", "nats": map[string]any{"servers": []string{"nats://" + nats.address}}}), "start the server with -js")
}

// selfSigned makes a certificate for a name, and its key.
func selfSigned(t *testing.T, name string) (certificate, key string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.ParseIP(name)}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	require.NoError(t, err)
	encoded, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	folder := t.TempDir()
	certificate, key = filepath.Join(folder, "certificate.pem"), filepath.Join(folder, "key.pem")
	require.NoError(t, os.WriteFile(certificate, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: encoded}), 0o600))
	return certificate, key
}
