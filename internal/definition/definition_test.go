package definition

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/destination"
	"rillmark/internal/destination/file"
	"rillmark/internal/destination/http"
	"rillmark/internal/postgres"
	"rillmark/internal/settings"
)

// read is a definition as the API reads it.
func read[D any](t *testing.T, text string) *D {
	t.Helper()
	d := new(D)
	decoder := json.NewDecoder(strings.NewReader(text))
	decoder.DisallowUnknownFields()
	require.NoError(t, decoder.Decode(d), text)
	return d
}

// says checks where an error is and what it says; none is wanted where both are empty.
func says(t *testing.T, err error, at, told, text string) {
	t.Helper()
	if at == "" {
		require.NoError(t, err, text)
		return
	}
	var invalid *Invalid
	require.True(t, errors.As(err, &invalid), "%s: %v", text, err)
	require.Equal(t, at, invalid.Location, "%s: %v", text, err)
	require.Contains(t, invalid.Message, told, text)
}

func TestOutlets(t *testing.T) {
	for _, c := range []struct{ text, at, told string }{
		{`{"source":"circulation"}`, "", ""},
		{`{"format":"xml"}`, "format", "there are cloudevents"},
		{`{"changes":"some"}`, "changes", "there are each, combined, inserts"},
		{`{"columns":"few"}`, "columns", "all, changed"},
		{`{"nulls":"drop"}`, "nulls", "keep, omit"},
		{`{"updates":"three"}`, "updates", "one, pair"},
		{`{"deletes":"never"}`, "deletes", "event, marker, both"},
		{`{"integers":"roman"}`, "integers", "number, text"},
		{`{"from":"yesterday"}`, "from", "no place in a journal"},
		{`{"from":"time:9 o'clock"}`, "from", "no time"},
		{`{"from":"mark:Before"}`, "from", "no place"},
		{`{"from":"mark:before-weeding"}`, "", ""},
		{`{"from":"time:2026-11-23T09:00:00+01:00"}`, "", ""},
		{`{"from":"0123456789012345678"}`, "from", "no place"},
		{`{"tables":["a\nb"]}`, "tables[0]", "control character"},
		{`{"tables":[""]}`, "tables[0]", "empty"},
		{`{"operations":["insert","upsert"]}`, "operations[1]", "upsert"},
		{`{"topic":"{table","destination":"hub"}`, "topic", "{table"},
		{`{"key":"{row.}"}`, "key", "row."},
		{`{"topic":"loans"}`, "topic", "applies only to outlets with a destination"},
		{`{"kafka":{}}`, "kafka", "applies only to outlets with a destination"},
		{`{"format":"parquet"}`, "format", "read over HTTP"},
		{`{"metadata":["colour"]}`, "metadata[0]", "no metadata of format cloudevents"},
		{`{"format":"row","metadata":["offset","colour"]}`, "metadata[1]", "no metadata of format row"},
		{`{"format":"row","updates":"pair","metadata":["offset"]}`, "updates", "put operation into metadata"},
		{`{"avro":{}}`, "avro", "goes with format avro"},
		{`{"format":"avro","destination":"hub","avro":{"framing":"registry"}}`, "avro.registry", "address is needed"},
		{`{"format":"avro","destination":"hub","avro":{"framing":"registry","registry":"registry:8081"}}`, "avro.registry", "no absolute address"},
		{`{"format":"avro","destination":"hub","avro":{"framing":"registry","registry":"https://r.example","tls":{"key":"k"}}}`, "avro.tls.certificate", "go together"},
		{`{"outbox":{"table":"","id":"a","kind":"b","body":"c"}}`, "outbox.table", "empty"},
		{`{"format":"avro","destination":"hub","outbox":{"table":"notices","id":"a","kind":"b","body":"c"}}`, "outbox", "go with the formats"},
		{`{"changes":"combined","transactions":true}`, "changes", "leave out transactions"},
		{`{"changes":"combined","updates":"pair"}`, "changes", "updates: pair"},
		{`{"batch":{"every":"48h"},"destination":"hub"}`, "batch.every", "no duration"},
		{`{"retry":{"first_wait":"soon"},"destination":"hub"}`, "retry.first_wait", "no duration"},
	} {
		o := read[Outlet](t, c.text)
		says(t, o.Validate(), c.at, c.told, c.text)
	}
	o := read[Outlet](t, `{}`)
	require.NoError(t, o.Validate())
	require.Equal(t, []string{"cloudevents", "each", "beginning", "wait"}, []string{string(o.Format), o.Changes, o.From, o.Refused.Later})
	require.Equal(t, 10_000, o.Refused.MaxDeadLetters)
}

func TestOutletsWithDestinations(t *testing.T) {
	kinds := map[string]string{
		"file": `{"kind":"file","file":{"directory":"archive"}}`, "kafka": `{"kind":"kafka","kafka":{"brokers":["127.0.0.1:9092"]}}`,
		"nats": `{"kind":"nats","nats":{"servers":["nats://127.0.0.1:4222"]}}`, "redis": `{"kind":"redis","redis":{"address":"127.0.0.1:6379"}}`, "http": `{"kind":"http","http":{"url":"https://desk.example"}}`,
		"bucket": `{"kind":"file","file":{"bucket":{"endpoint":"https://objects.example","name":"b","access_key":"a","secret_key":"s"}}}`,
	}
	for _, c := range []struct{ kind, text, at, told string }{
		{"file", `{"kafka":{}}`, "kafka", "is one of kind file"},
		{"kafka", `{"file":{}}`, "file", "is one of kind kafka"},
		{"http", `{"redis":{}}`, "redis", "is one of kind http"},
		{"kafka", `{"format":"parquet"}`, "format", "does not take parquet"},
		{"file", `{"format":"cloudevents-binary"}`, "format", "does not take cloudevents-binary"},
		{"file", `{"topic":"a"}`, "topic", "has no topics"},
		{"http", `{"schema_topic":"a"}`, "topic", "has no topics"},
		{"kafka", `{"topic":"a b"}`, "topic", "a b"},
		{"nats", `{"topic":"a..{table}"}`, "topic", "a.."},
		{"redis", `{"deletes":"marker"}`, "deletes", "has none"},
		{"nats", `{"kafka":{}}`, "kafka", "is one of kind nats"},
		{"nats", `{"nats":{}}`, "nats", "no section of their own"},
		{"kafka", `{"deletes":"marker"}`, "", ""},
		{"kafka", `{"kafka":{"exactly_once":true,"acks":"leader"}}`, "kafka.acks", "all brokers"},
		{"http", `{"format":"avro","http":{"events":2}}`, "http.events", "has no lists"},
		{"http", `{"http":{"events":2}}`, "", ""},
		{"file", `{"format":"avro","avro":{}}`, "avro", "leave the section out"},
		{"file", `{"file":{"compression":"snappy"}}`, "file.compression", "none, gzip, zstd"},
		{"file", `{"format":"parquet","file":{"compression":"gzip"}}`, "file.compression", "none, snappy, zstd"},
		{"file", `{"file":{"name":"{outlet}.{run}"}}`, "file.name", "two files alike"},
		{"file", `{"file":{"name":"/{outlet}.{run}.{first}"}}`, "file.name", "no leading slash"},
		{"file", `{"file":{"name":"../{outlet}.{run}.{first}"}}`, "file.name", "no leading slash or dot"},
		{"file", `{"file":{"name":"a/../{outlet}.{run}.{first}"}}`, "file.name", "no .."},
		{"file", `{"file":{"name":"{colour}/{outlet}.{run}.{first}"}}`, "file.name", "names a field"},
		{"file", `{"file":{"name":"{date}/{hour}/{table}/{outlet}.{run}.{first}"}}`, "", ""},
		{"file", `{"file":{"rotate_every":"8d"}}`, "file.rotate_every", "no duration"},
	} {
		d := read[Destination](t, kinds[c.kind])
		require.NoError(t, d.Validate())
		o := read[Outlet](t, c.text)
		o.Destination = "there"
		require.NoError(t, o.Validate(), c.text)
		says(t, o.ValidateFor(d), c.at, c.told, c.kind+" "+c.text)
	}
	for kind, want := range map[string]string{"file": "1h", "bucket": "1m"} {
		o := &Outlet{Destination: "there"}
		require.NoError(t, o.Validate())
		require.NoError(t, o.ValidateFor(read[Destination](t, kinds[kind])))
		require.Equal(t, want, o.Settings.(*file.OutletSettings).RotateEvery, "%s: a bucket's files are seen once they are whole", kind)
	}
}

func TestDestinations(t *testing.T) {
	for _, c := range []struct{ text, at, told string }{
		{`{"kind":"tape"}`, "kind", "there are file, kafka, nats, redis, http"},
		{`{"kind":"file"}`, "file", "needs the section file"},
		{`{"kind":"file","file":{"directory":"a"},"redis":{"address":"b:1"}}`, "redis", "has no section redis"},
		{`{"kind":"file","file":{}}`, "file", "either file.directory or file.bucket"},
		{`{"kind":"file","file":{"bucket":{"endpoint":"https://o.example","name":"b","access_key":"a"}}}`, "file.bucket.secret_key", "needs a key"},
		{`{"kind":"file","file":{"bucket":{"endpoint":"o.example","name":"b","access_key":"a","secret_key":"s"}}}`, "file.bucket.endpoint", "no absolute address"},
		{`{"kind":"kafka","kafka":{"brokers":[]}}`, "kafka.brokers", "at least one"},
		{`{"kind":"kafka","kafka":{"brokers":["a:1","b"]}}`, "kafka.brokers[1]", "host:port"},
		{`{"kind":"kafka","kafka":{"brokers":["a:1"],"login":{"mechanism":"gssapi","user":"u"}}}`, "kafka.login.mechanism", "none of plain"},
		{`{"kind":"kafka","kafka":{"brokers":["a:1"],"login":{"mechanism":"plain","user":"u"}}}`, "kafka.login.mechanism", "add a section tls"},
		{`{"kind":"kafka","kafka":{"brokers":["127.0.0.1:1","localhost:2"],"login":{"mechanism":"plain","user":"u"}}}`, "", ""},
		{`{"kind":"kafka","kafka":{"brokers":["${env:RILLMARK_SECRET_BROKER}"]}}`, "", ""},
		{`{"kind":"kafka","kafka":{"brokers":["a:1"],"tls":{"certificate":"c"}}}`, "kafka.tls.certificate", "go together"},
		{`{"kind":"nats","nats":{"servers":[]}}`, "nats.servers", "at least one"},
		{`{"kind":"nats","nats":{"servers":["http://a"]}}`, "nats.servers[0]", "nats://host:port"},
		{`{"kind":"nats","nats":{"servers":["nats://user:pass@a:1"]}}`, "nats.servers[0]", "fields of their own"},
		{`{"kind":"nats","nats":{"servers":["nats://a:1"],"create_stream":true}}`, "nats.stream", "needs a name"},
		{`{"kind":"nats","nats":{"servers":["nats://a:1"],"stream":"a.b"}}`, "nats.stream", "no name of a stream"},
		{`{"kind":"redis","redis":{"address":"a"}}`, "redis.address", "host:port"},
		{`{"kind":"http","http":{"url":"desk.example"}}`, "http.url", "no absolute address"},
		{`{"kind":"http","http":{"url":"https://u:p@desk.example"}}`, "http.url", "would be shown"},
		{`{"kind":"http","http":{"url":"https://desk.example","headers":{"authorization":"x"}}}`, "http.headers", "use token"},
		{`{"kind":"http","http":{"url":"https://desk.example","sign_key":"secret"}}`, "http.sign_key", "whsec_"},
		{`{"kind":"http","http":{"url":"https://desk.example","sign_key":"whsec_c2hvcnQ="}}`, "http.sign_key", "24 to 64 bytes"},
		{`{"kind":"http","http":{"url":"https://desk.example","sign_key":"whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLjTe"}}`, "", ""},
		{`{"kind":"http","http":{"url":"https://desk.example","timeout":"1h"}}`, "http.timeout", "no duration"},
	} {
		d := read[Destination](t, c.text)
		says(t, d.Validate(), c.at, c.told, c.text)
	}
}

// TestSecretsOfDestinations: every secret is found, a clone has its own copies, and a
// changed address, user or TLS mode is noticed.
func TestSecretsOfDestinations(t *testing.T) {
	d := read[Destination](t, `{"kind":"http","http":{"url":"https://desk.example","token":"t","sign_key":"k","headers":{"X-Api-Key":"h","X-Team":"desk"}}}`)
	copied := d.Clone()
	found := map[string]string{}
	copied.EachSecret(func(name, secret string) string {
		found[name] = secret
		return "(sealed)"
	})
	require.Equal(t, map[string]string{"http.token": "t", "http.sign_key": "k", "http.headers.x-api-key": "h"}, found)
	require.Equal(t, "h", d.Settings.(*http.Settings).Headers["X-Api-Key"], "a clone's headers are its own")
	require.Equal(t, "desk", copied.Settings.(*http.Settings).Headers["X-Team"])
	require.True(t, settings.SecretName("Cookie"))
	require.False(t, settings.SecretName("X-Team"))
	for _, pair := range [][2]string{
		{`{"kind":"redis","redis":{"address":"a:1"}}`, `{"kind":"redis","redis":{"address":"b:1"}}`},
		{`{"kind":"redis","redis":{"address":"a:1","user":"u"}}`, `{"kind":"redis","redis":{"address":"a:1","user":"v"}}`},
		{`{"kind":"redis","redis":{"address":"a:1","tls":{}}}`, `{"kind":"redis","redis":{"address":"a:1"}}`},
		{`{"kind":"kafka","kafka":{"brokers":["a:1"]}}`, `{"kind":"kafka","kafka":{"brokers":["a:1","b:1"]}}`},
		{`{"kind":"nats","nats":{"servers":["nats://a:1"]}}`, `{"kind":"nats","nats":{"servers":["tls://a:1"]}}`},
		{`{"kind":"http","http":{"url":"https://a.example/x"}}`, `{"kind":"http","http":{"url":"http://a.example/x"}}`},
	} {
		one, other := read[Destination](t, pair[0]), read[Destination](t, pair[1])
		require.NotEqual(t, one.Reaches(), other.Reaches(), "%v", pair)
		require.Equal(t, one.Reaches(), read[Destination](t, pair[0]).Reaches())
	}
}

func TestSources(t *testing.T) {
	const rule = `"tables":[{"match":"public.*"}]`
	for _, c := range []struct{ text, at, told string }{
		{`{` + rule + `}`, "", ""},
		{`{"engine":"ledger",` + rule + `}`, "engine", "knows postgresql, mariadb"},
		{`{}`, "tables", "at least one rule"},
		{`{"connection":{"tls_root":"/ca"},` + rule + `}`, "connection.tls_root", "verify-full only"},
		{`{"from_position":"12","mode":"follow-only",` + rule + `}`, "from_position", "looks like 0/19A2F48"},
		{`{"from_position":"0/12",` + rule + `}`, "from_position", "mode: follow-only"},
		{`{"from_position":"0/12","mode":"follow-only",` + rule + `}`, "from_position", "connection.slot"},
		{`{"from_position":"0/12","mode":"follow-only","connection":{"slot":"mine"},` + rule + `}`, "", ""},
		{`{"engine":"mariadb","from_position":"0/12","mode":"follow-only",` + rule + `}`, "from_position", "like 0-1-42"},
		{`{"engine":"mariadb","from_position":"0-1-42,3-1-7","mode":"follow-only",` + rule + `}`, "", ""},
		{`{"tables":[{"match":"a"},{"match":""}]}`, "tables[1].match", "empty"},
		{`{"tables":[{"match":"a","columns":[{"match":"b","treat":"hide"}]}]}`, "tables[0].columns[0].treat", "none of keep"},
		{`{"tables":[{"match":"a","columns":[{"match":"b","treat":"hash"}]}]}`, "tables[0].columns[0].treat", "hash_key"},
		{`{"hash_key":"k","tables":[{"match":"a","columns":[{"match":"b","treat":"hash"}]}]}`, "", ""},
		{`{"tables":[{"match":"a","columns":[{"match":"","treat":"drop"}]}]}`, "tables[0].columns[0].match", "empty"},
		{`{"tables":[{"match":"a","filter":"branch_id ="}]}`, "tables[0].filter", ""},
		{`{"tables":[{"match":"a","keep_for":"1ms"}]}`, "tables[0].keep_for", "no duration"},
		{`{"tables":[{"match":"a","key":["b","b"]}]}`, "tables[0].key[1]", "once"},
	} {
		s := read[Source](t, c.text)
		says(t, s.Validate(), c.at, c.told, c.text)
	}
	s := read[Source](t, `{`+rule+`}`)
	require.NoError(t, s.Validate())
	require.Equal(t, []any{"postgresql", 5432, "prefer", "load-and-follow", true}, []any{s.Engine, s.Connection.Connection.(*postgres.Settings).Port, s.Connection.Connection.(*postgres.Settings).TLS, s.Mode, s.Loads()})
}

// TestFilesThatDefinitionsName are looked for when a definition is written.
func TestFilesThatDefinitionsName(t *testing.T) {
	there := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(there, nil, 0o600))
	for root, at := range map[string]string{there: "", "/nowhere/ca.pem": "redis.tls.root", "${file:/run/ca}": ""} {
		d := read[Destination](t, `{"kind":"redis","redis":{"address":"a:1","tls":{"root":"`+root+`"}}}`)
		require.NoError(t, d.Validate())
		says(t, d.CheckHere(destination.Environment{}), at, "cannot be read on the service's machine", root)
	}
	for _, name := range []string{"a", "branch-1"} {
		require.NoError(t, CheckName("a source", name))
	}
	for _, name := range []string{"", "A", "1a", "a b", "a/b", strings.Repeat("a", 41), "ü"} {
		require.Error(t, CheckName("a source", name), name)
	}
	d, err := settings.Duration("x", "90s", time.Second, time.Hour)
	require.NoError(t, err)
	require.Equal(t, 90*time.Second, d)
}
