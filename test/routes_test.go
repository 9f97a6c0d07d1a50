package test

import (
	"net/http"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestRoutes: topic, key and partition by template, schema events apart, markers
// for deletes, outbox events by their kind; read back with kcat.
func TestRoutes(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (id integer PRIMARY KEY, branch text, note text)", "ALTER TABLE loans REPLICA IDENTITY FULL", "CREATE TABLE notices (id integer PRIMARY KEY, kind text, subject text, body text)")
	db := connect(t, sourceServer(t), name)
	k := kafkaTarget(t)
	k.outlet = map[string]any{"tables": []string{"loans", "notices"}, "topic": "by-branch.{row.branch|none}", "schema_topic": "schemas", "key": "{row.branch|none}/{key}", "partition": "{transaction}",
		"deletes": "both", "outbox": map[string]any{"table": "notices", "id": "id", "kind": "kind", "subject": "subject", "body": "body", "topic": "notices.{kind}"}}
	i.add(k)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO loans SELECT n, 'alder', 'x' FROM generate_series(1, 40) n", "DELETE FROM loans WHERE id = 7", "INSERT INTO notices VALUES (5, 'due', 'patron/3', 'plain words')")
	i.reached("circulation", db)
	i.caughtUp("kafka")
	all := records(t, brokerOf(k), "")
	by := map[string][]record{}
	for _, r := range all {
		by[r.Topic] = append(by[r.Topic], r)
	}
	alder := by["by-branch.alder"]
	require.Len(t, alder, 42, "40 inserts, a delete, its marker")
	partitions := map[int]bool{}
	markers := 0
	for _, r := range alder {
		require.True(t, strings.HasPrefix(*r.Key, "alder/"))
		if r.Payload == nil || *r.Payload == "" {
			markers++
			require.Equal(t, "alder/7", *r.Key)
			continue
		}
		if strings.Contains(*r.Payload, `"operation":"insert"`) {
			partitions[r.Partition] = true
		}
	}
	require.Equal(t, 1, markers)
	require.Len(t, partitions, 1, "a transaction's events are in one partition")
	require.NotEmpty(t, by["schemas"])
	require.Len(t, by["notices.due"], 1)
	require.Contains(t, *by["notices.due"][0].Payload, `"type":"due"`)
	require.Equal(t, "patron/3", *by["notices.due"][0].Key)
	out, errs, code := i.cli("outlet", "check", "kafka")
	require.Zero(t, code, errs)
	require.Contains(t, out, "schemas")
}

// TestPace: events wait for others as long as the batch says, and a stream is
// trimmed to about what is to be kept.
func TestPace(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	f := newFunction(t)
	i.add(target{name: "slowly", destination: map[string]any{"kind": "http", "http": map[string]any{"url": "http://" + f.address}},
		outlet: map[string]any{"operations": []string{"insert"}, "format": "row", "http": map[string]any{"events": 100, "in_flight": 1}, "batch": map[string]any{"every": "700ms"}}})
	r := redisTarget(t)
	r.outlet = map[string]any{"topic": "desk", "operations": []string{"insert"}, "redis": map[string]any{"keep": 100}}
	i.add(r)
	i.resume()
	i.settled("circulation", db)
	began := time.Now()
	for n := range 10 {
		run(t, db, "INSERT INTO desk VALUES ("+string(rune('0'+n))+", 'x')")
	}
	i.caughtUp("slowly")
	requests := f.all()
	require.LessOrEqual(t, len(requests), int(time.Since(began)/(700*time.Millisecond))+2, "they went together")
	run(t, db, "INSERT INTO desk SELECT n, 'x' FROM generate_series(100, 3000) n")
	i.reached("circulation", db)
	i.caughtUp("redis")
	address := r.destination["redis"].(map[string]any)["address"].(string)
	out, err := exec.Command("redis-cli", "-p", address[strings.LastIndexByte(address, ':')+1:], "XLEN", "desk").Output()
	require.NoError(t, err)
	require.Regexp(t, `^[1-9]\d{2}\n$`, string(out), "about 100 are kept")
	// An answer that asks for time is waited for.
	f.set(func(*http.Request, []byte) int { return http.StatusTooManyRequests })
	run(t, db, "INSERT INTO desk VALUES (50, 'y')")
	i.outletIs("slowly", "waits", func(o outletStatus) bool { return o.Phase == "waiting" })
	f.set(nil)
	i.caughtUp("slowly")
	require.Zero(t, i.letters("slowly").Dead)
}
