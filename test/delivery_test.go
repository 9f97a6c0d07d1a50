package test

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// page reads a pull outlet from its committed offset on.
func (i *instance) page(outlet string, limit int) (events []json.RawMessage, passed int64) {
	i.t.Helper()
	var p struct {
		Events []json.RawMessage
		Passed int64
	}
	i.must(http.MethodGet, fmt.Sprintf("/v1/outlets/%s/events?limit=%d", outlet, limit), nil, &p)
	return p.Events, p.Passed
}

func join(raw []json.RawMessage) string {
	parts := make([]string, len(raw))
	for n, one := range raw {
		parts[n] = string(one)
	}
	return strings.Join(parts, "\n")
}

// TestPlaces: an outlet starts at and is set to offsets, times and marks; a dry
// run says what that would be and changes nothing.
func TestPlaces(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO desk SELECT n, 'early' FROM generate_series(1, 10) n")
	i.reached("circulation", db)
	var between time.Time
	require.NoError(t, db.QueryRow(t.Context(), "SELECT clock_timestamp()").Scan(&between))
	_, errs, code := i.cli("mark", "set", "circulation", "before-weeding", "--reason", "old copies go")
	require.Zero(t, code, errs)
	run(t, db, "INSERT INTO desk SELECT n, 'late' FROM generate_series(11, 14) n")
	i.reached("circulation", db)
	out, _, _ := i.cli("mark", "list", "circulation")
	require.Contains(t, out, "old copies go")
	for from, want := range map[string]int{"beginning": 14, "now": 0, "mark:before-weeding": 4, "time:" + between.UTC().Format(time.RFC3339Nano): 4} {
		outlet := fmt.Sprintf("o%d", databases.Add(1))
		i.must(http.MethodPost, "/v1/outlets/"+outlet, map[string]any{"source": "circulation", "from": from, "operations": []string{"insert"}}, nil)
		events, passed := i.page(outlet, 100)
		require.Len(t, events, want, from)
		if want == 0 {
			continue
		}
		i.must(http.MethodPost, "/v1/outlets/"+outlet+"/commit", map[string]any{"committed": passed}, nil)
		events, _ = i.page(outlet, 100)
		require.Empty(t, events)
		out, errs, code := i.cli("outlet", "rewind", outlet, "--to", from, "--dry-run")
		require.Zero(t, code, errs)
		require.Contains(t, out, "would be set")
		events, _ = i.page(outlet, 100)
		require.Empty(t, events, "a dry run changes nothing")
		_, errs, code = i.cli("outlet", "rewind", outlet, "--to", from)
		require.Zero(t, code, errs)
		events, _ = i.page(outlet, 100)
		require.Len(t, events, want)
	}
	_, errs, code = i.cli("outlet", "rewind", "o1", "--to", "mark:nowhere")
	require.NotZero(t, code)
	require.Contains(t, errs, "there is no")
	_, _, code = i.cli("mark", "remove", "circulation", "before-weeding")
	require.Zero(t, code)
}

// TestRunOnce: a paused outlet delivers what there is, ends, and does nothing
// when there is nothing.
func TestRunOnce(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	one := columnarTarget(t, i, "parquet")
	one.outlet["file"] = map[string]any{"rotate_every": "1h"}
	i.add(one)
	i.must(http.MethodPost, "/v1/outlets/parquet/pause", map[string]any{"reason": "runs at night"}, nil)
	i.resume()
	i.settled("circulation", db)
	for round := 1; round <= 2; round++ {
		run(t, db, fmt.Sprintf("INSERT INTO desk SELECT n, 'x' FROM generate_series(%d, %d) n", round*100, round*100+49))
		i.reached("circulation", db)
		out, errs, code := i.cli("outlet", "run", "parquet")
		require.Zero(t, code, errs)
		require.Contains(t, out, "delivered up to offset")
		require.Len(t, npmReader(t, "parquet", manifest(t, filepath.Join(i.folder, "files", "parquet"), "parquet")), 50*round, "what was delivered is in its place")
		i.outletIs("parquet", "is paused again", func(o outletStatus) bool { return o.Phase == "paused" })
	}
	run(t, db, "SELECT 1")
	out, _, code := i.cli("outlet", "run", "parquet")
	require.Zero(t, code)
	require.Regexp(t, "nothing to deliver|delivered up to", out) // a heartbeat may have come
}

// TestShapes: the net of changes, pairs, closing events, chosen members, integers
// as text, and rows.
func TestShapes(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "source: {heartbeat_every: 1h}\n", deskTable, "ALTER TABLE desk REPLICA IDENTITY FULL")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	for outlet, d := range map[string]map[string]any{
		"net":    {"changes": "combined"},
		"news":   {"changes": "inserts"},
		"pairs":  {"updates": "pair", "columns": "changed", "metadata": []string{"none"}},
		"ends":   {"transactions": true},
		"rows":   {"format": "row", "metadata": []string{"operation", "id"}, "integers": "text", "nulls": "omit"},
		"narrow": {"format": "data", "metadata": []string{"changed"}, "operations": []string{"update"}, "columns": "changed"},
	} {
		d["source"], d["from"] = "circulation", "now"
		if d["tables"] == nil {
			d["tables"] = []string{"desk"}
		}
		i.must(http.MethodPost, "/v1/outlets/"+outlet, d, nil)
	}
	run(t, db, `BEGIN; INSERT INTO desk VALUES (9007199254740993, 'one'), (2, 'gone'); UPDATE desk SET note = 'two' WHERE id > 2; DELETE FROM desk WHERE id = 2; COMMIT`,
		"UPDATE desk SET note = NULL")
	i.must(http.MethodGet, "/v1/outlets/net/events?wait=10", nil, nil)
	i.eventually("the update is journaled", func() bool { events, _ := i.page("narrow", 10); return len(events) == 2 })

	events, _ := i.page("net", 100)
	require.Len(t, events, 1, "%s", join(events))
	e := parseEvent(t, events[0])
	require.Equal(t, "insert", e.Data.Operation, "inserted, then updated twice: a new row")
	require.Equal(t, `{"id":9007199254740993,"note":null}`, string(mustJSON(t, e.Data.After)))

	events, _ = i.page("news", 100)
	require.Len(t, events, 2)

	events, _ = i.page("pairs", 100)
	text := join(events)
	require.Contains(t, text, `"type":"rillmark.row.update.old"`)
	require.Contains(t, text, `/old"`)
	require.Contains(t, text, `"after":{"id":9007199254740993,"note":"two"}`)
	require.NotContains(t, text, `"transaction"`)
	require.NotContains(t, text, `"database"`)

	events, _ = i.page("ends", 100)
	ends := 0
	for _, raw := range events {
		if bytes.Contains(raw, []byte("rillmark.transaction.end")) {
			ends++
			if ends == 1 {
				require.Contains(t, string(raw), `"events":4,"delivered":4`)
				require.Contains(t, string(raw), `"tables":{"public.desk":{"delete":1,"insert":2,"update":1}}`)
			}
		}
	}
	require.Equal(t, 2, ends)
	// Begun again in the middle of the transaction, the counts are the same.
	_, passed := i.page("ends", 2)
	i.must(http.MethodPost, "/v1/outlets/ends/commit", map[string]any{"committed": passed}, nil)
	events, _ = i.page("ends", 100)
	require.Contains(t, join(events), `"events":4,"delivered":4`)

	events, _ = i.page("rows", 100)
	require.Contains(t, join(events), `"id":"9007199254740993","note":"one",`)
	require.Contains(t, join(events), `"_operation":"update","_id":"circulation/1/`)
	last := string(events[len(events)-1])
	require.NotContains(t, last, "note", "nulls are left out")
	var versions struct {
		Items []struct{ Fingerprint string }
	}
	i.must(http.MethodGet, "/v1/outlets/rows/schemas", nil, &versions)
	require.NotEmpty(t, versions.Items)
	_, raw, err := i.call(http.MethodGet, "/v1/schemas/"+versions.Items[len(versions.Items)-1].Fingerprint, nil)
	require.NoError(t, err)
	require.Contains(t, string(raw), `"_operation"`, "what an outlet reshapes has a version of its own")

	events, _ = i.page("narrow", 100)
	require.Equal(t, `{"operation":"update","table":"public.desk","key":{"id":9007199254740993},"before":{"id":9007199254740993,"note":"one"},"after":{"id":9007199254740993,"note":"two"},"changed":["note"]}`, string(events[0]))
}

func mustJSON(t *testing.T, v any) []byte {
	raw, err := json.Marshal(v)
	require.NoError(t, err)
	return raw
}

// TestLeases: several readers share one committed offset; what one does not end
// in time goes to another.
func TestLeases(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	i.must(http.MethodPost, "/v1/outlets/shared", map[string]any{"source": "circulation", "operations": []string{"insert"}}, nil)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO desk SELECT n, 'x' FROM generate_series(1, 30) n")
	i.reached("circulation", db)
	type lease struct {
		Events      []json.RawMessage
		Lease       string
		First, Last int64
	}
	take := func(reader string, seconds int) (l lease) {
		i.must(http.MethodPost, "/v1/outlets/shared/leases", map[string]any{"reader": reader, "limit": 10, "seconds": seconds}, &l)
		return l
	}
	a, b, c := take("a", 60), take("b", 1), take("c", 60)
	require.Len(t, a.Events, 10)
	require.Equal(t, a.Last+1, b.First)
	require.Equal(t, b.Last+1, c.First)
	committed := func(l lease) int64 {
		var end struct{ Committed int64 }
		i.must(http.MethodPost, "/v1/outlets/shared/leases/"+l.Lease+"/done", map[string]any{"events": len(l.Events)}, &end)
		return end.Committed
	}
	require.Less(t, committed(c), a.First, "what lies before is not dealt with yet")
	var again lease
	i.eventually("b's time is over", func() bool { again = take("d", 60); return again.Lease != "" && again.First == b.First })
	require.Equal(t, b.Events, again.Events, "another reader has its events")
	status, raw, err := i.call(http.MethodPost, "/v1/outlets/shared/leases/"+b.Lease+"/done", map[string]any{})
	require.NoError(t, err)
	require.Equal(t, http.StatusConflict, status, "%s", raw)
	require.Equal(t, a.Last, committed(a))
	require.GreaterOrEqual(t, committed(again), c.Last)
	require.Empty(t, take("e", 60).Events)
}

// TestRetentionOfWhatIsNotDelivered: an outlet is warned, one that holds keeps the
// journal up to its size, one that does not is told exactly what it lost.
func TestRetentionOfWhatIsNotDelivered(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "journal: {segment_bytes: 100000, retain_bytes: 1000000, retain_age: 0s, upkeep_every: 100ms}\n", deskTable)
	db := connect(t, sourceServer(t), name)
	i.must(http.MethodPost, "/v1/outlets/loose", map[string]any{"source": "circulation"}, nil)
	i.must(http.MethodPost, "/v1/outlets/holds", map[string]any{"source": "circulation", "hold_journal_bytes": 3_000_000}, nil)
	i.resume()
	i.settled("circulation", db)
	write := func() {
		run(t, db, "INSERT INTO desk SELECT (random() * 1e15)::bigint, string_agg(md5(random()::text), '') FROM generate_series(1, 40) g, generate_series(1, 20) n GROUP BY n")
	}
	room := func(outlet, level string) bool {
		for _, o := range i.status().Outlets {
			if o.Name == outlet {
				return o.Retention != nil && o.Retention.Level == level
			}
		}
		return false
	}
	i.eventually("the outlet is warned", func() bool { write(); return room("loose", "warning") || room("holds", "warning") })
	require.EqualValues(t, 1, i.first(), "what an outlet holds is kept above the usual size")
	i.eventually("the held size is reached", func() bool { write(); return i.first() > 1 })
	i.eventually("the outlet is told", func() bool { return room("loose", "lost") })
	i.eventually("and so is who looks", func() bool {
		out, _, code := i.cli("status")
		return code == 0 && strings.Contains(out, "outlet loose has lost")
	})
	var history struct{ Lost []struct{ First, Last int64 } }
	i.must(http.MethodGet, "/v1/outlets/loose/history", nil, &history)
	require.NotEmpty(t, history.Lost)
	require.EqualValues(t, 1, history.Lost[len(history.Lost)-1].First)
	status, raw, err := i.call(http.MethodGet, "/v1/outlets/loose/events", nil)
	require.NoError(t, err)
	require.GreaterOrEqual(t, status, 400, "%s", raw)
}

// TestATableIsKeptForLess: a table's events go before those of others, but not
// before the outlets that take the table have them; offsets stay as they are.
func TestATableIsKeptForLess(t *testing.T) {
	t.Parallel()
	i, name := captured(t, "journal:\n  upkeep_every: 100ms\n", []map[string]any{{"match": "visits", "keep_for": "1s"}, {"match": "*"}}, nil,
		"CREATE TABLE visits (visit_id integer PRIMARY KEY, note text)", "CREATE TABLE loans (loan_id integer PRIMARY KEY)")
	db := connect(t, sourceServer(t), name)
	i.must(http.MethodPost, "/v1/outlets/slow", map[string]any{"source": "circulation", "tables": []string{"visits"}}, nil)
	i.must(http.MethodPost, "/v1/outlets/slow/rewind", map[string]any{"to": "beginning"}, nil)
	i.must(http.MethodPost, "/v1/outlets/other", map[string]any{"source": "circulation", "tables": []string{"loans"}}, nil)
	run(t, db, "INSERT INTO visits SELECT n, 'seen at the desk' FROM generate_series(1, 50) n")
	i.reached("circulation", db) // what follows is in another block
	run(t, db, "INSERT INTO loans SELECT n FROM generate_series(1, 50) n", "BEGIN", "INSERT INTO loans VALUES (51)", "DELETE FROM visits", "COMMIT")
	i.reached("circulation", db)
	before := i.journal("circulation")
	require.Len(t, ofTable(before, "public.visits", "insert", "delete"), 100)
	state := connect(t, i.state, i.stateDB)
	// What the slow reader has taken may go, and nothing else.
	last := ofTable(before, "public.loans", "insert")[0].offset() - 1
	i.must(http.MethodPost, "/v1/outlets/slow/commit", map[string]any{"committed": last}, nil)
	i.eventually("what was taken is gone", func() bool { return len(ofTable(i.journal("circulation"), "public.visits", "insert")) == 0 })
	require.Len(t, ofTable(i.journal("circulation"), "public.visits", "delete"), 50, "what was not stays")
	var told int
	require.NoError(t, state.QueryRow(t.Context(), "SELECT count(*) FROM rillmark.run_log WHERE message LIKE '%public.visits are no longer kept%'").Scan(&told))
	require.Positive(t, told)
	i.must(http.MethodPost, "/v1/outlets/slow/commit", map[string]any{"committed": before[len(before)-1].offset()}, nil)
	i.eventually("then the rest goes", func() bool { return len(ofTable(i.journal("circulation"), "public.visits")) == 0 })
	var kept, want []string
	for _, e := range before {
		if e.Data.Table != "public.visits" {
			want = append(want, e.ID+string(e.raw))
		}
	}
	for _, e := range i.journal("circulation") {
		kept = append(kept, e.ID+string(e.raw))
	}
	require.Equal(t, want, kept[:len(want)], "nothing else has changed")
	require.Contains(t, fmt.Sprint(i.refused(http.MethodPost, "/v1/sources/b", ruled(sourceServer(t), name, []map[string]any{{"match": "*", "keep_for": "soon"}}, nil))), "tables[0].keep_for")
}

func (i *instance) first() int64 {
	for _, s := range i.status().Sources {
		return s.Journal.First
	}
	return 0
}

// TestOutboxEvents: rows that are events go out as themselves, signed by the
// Standard Webhooks scheme.
func TestOutboxEvents(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE notices (id uuid PRIMARY KEY, kind text, subject text, body jsonb, at timestamptz)")
	db := connect(t, sourceServer(t), name)
	f := newFunction(t)
	key := []byte("a key of thirty-two bytes, or so")
	i.must(http.MethodPost, "/v1/destinations/notices", map[string]any{"kind": "http", "http": map[string]any{"url": "http://" + f.address, "sign_key": "whsec_" + base64.StdEncoding.EncodeToString(key), "token": "not-for-eyes"}}, nil)
	i.must(http.MethodPost, "/v1/outlets/notices", map[string]any{"source": "circulation", "destination": "notices", "tables": []string{"notices"}, "format": "cloudevents-binary", "operations": []string{"insert", "update"},
		"outbox": map[string]any{"table": "notices", "id": "id", "kind": "kind", "subject": "subject", "body": "body", "time": "at"}}, nil)
	i.resume()
	i.settled("circulation", db)
	run(t, db, `INSERT INTO notices VALUES ('00000000-0000-4000-8000-000000000001', 'loan.reminder', 'patron/Grüße 7', '{"text": "Your loan is due."}', '2026-11-23 09:14:07+00')`, "UPDATE notices SET kind = 'x'")
	i.reached("circulation", db)
	i.caughtUp("notices")
	require.Len(t, f.all(), 1, "an update of the row is no event")
	got := f.all()[0]
	require.Equal(t, `{"text": "Your loan is due."}`, string(got.body))
	require.Equal(t, "loan.reminder", got.headers.Get("ce-type"))
	require.Equal(t, "00000000-0000-4000-8000-000000000001", got.headers.Get("ce-id"))
	require.Equal(t, "patron/Gr%C3%BC%C3%9Fe%207", got.headers.Get("ce-subject"))
	require.Equal(t, "2026-11-23T09:14:07.000000Z", got.headers.Get("ce-time"))
	require.Equal(t, "application/json", got.headers.Get("Content-Type"))
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%s.%s.%s", got.headers.Get("webhook-id"), got.headers.Get("webhook-timestamp"), got.body) //nolint:errcheck // never fails
	require.Equal(t, "v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil)), got.headers.Get("webhook-signature"))
	_, raw, err := i.call(http.MethodGet, "/v1/destinations/notices", nil)
	require.NoError(t, err)
	require.NotContains(t, string(raw), "not-for-eyes")
	require.Contains(t, string(raw), "(sealed)")
	// The charts of the last hour outlive a restart.
	i.stop(syscall.SIGTERM)
	i.start()
	var hour struct {
		Points []struct{ Delivered, Read int64 }
	}
	i.must(http.MethodGet, "/v1/outlets/notices/history", nil, &hour)
	delivered := int64(0)
	for _, p := range hour.Points {
		delivered += p.Delivered
	}
	require.EqualValues(t, 1, delivered)
}

// TestAvroMessages: an independent reader finds the schema by the message alone,
// by fingerprint from us, or by number from a registry.
func TestAvroMessages(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable, "INSERT INTO desk VALUES (9007199254740993, 'exact')")
	db := connect(t, sourceServer(t), name)
	k := kafkaTarget(t)
	registry := launch(t, binary, "stand-in", "registry", "--listen", "$ADDR")
	i.must(http.MethodPost, "/v1/destinations/hub", k.destination, nil)
	for outlet, avro := range map[string]map[string]any{"single": {}, "framed": {"framing": "registry", "registry": "http://" + registry.address, "subject": "{table}-value"}} {
		i.must(http.MethodPost, "/v1/outlets/"+outlet, map[string]any{"source": "circulation", "destination": "hub", "topic": outlet, "format": "avro", "avro": avro, "tables": []string{"desk"}, "operations": []string{"existing"}}, nil)
	}
	i.resume()
	i.settled("circulation", db)
	i.caughtUp("single", "framed")
	for outlet, source := range map[string]string{"single": i.address, "framed": "http://" + registry.address} {
		file := filepath.Join(t.TempDir(), "value")
		require.NoError(t, os.WriteFile(file, kcat(t, "-b", brokerOf(k), "-C", "-t", outlet, "-o", "beginning", "-e", "-q", "-D", ""), 0o600))
		out, err := exec.Command("node", "readers/message.mjs", source, file).Output()
		require.NoError(t, err)
		require.JSONEq(t, `{"_operation":"existing","_offset":"`+offsetOf(t, out)+`","id":"9007199254740993","note":"exact"}`, string(out))
	}
	r, err := http.Get("http://" + registry.address + "/subjects/desk-value/versions/latest")
	require.NoError(t, err)
	require.NoError(t, r.Body.Close())
	require.Equal(t, http.StatusOK, r.StatusCode, "it is registered under the subject that was chosen")
	out, errs, code := i.cli("outlet", "preview", "framed", "--from", "1")
	require.Zero(t, code, errs)
	require.Contains(t, out, `"note":"exact"`)
	out, errs, code = i.cli("outlet", "document", "single")
	require.Zero(t, code, errs)
	var doc map[string]any
	require.NoError(t, json.Unmarshal([]byte(out), &doc))
	require.Equal(t, "3.0.0", doc["asyncapi"])
	require.Contains(t, out, `"#/components/messages/public.desk"`)
}

func offsetOf(t *testing.T, out []byte) string {
	var row struct {
		Offset string `json:"_offset"`
	}
	require.NoError(t, json.Unmarshal(out, &row), "%s", out)
	return row.Offset
}

// TestBrokerLogin: SASL is checked with the real login; a wrong password is told.
func TestBrokerLogin(t *testing.T) {
	t.Parallel()
	i := newInstance(t, stateServer(t), "").start()
	p := launch(t, binary, "stand-in", "broker", "--listen", "$ADDR", "--user", "rill", "--password", "right-one")
	for _, mechanism := range []string{"plain", "scram-sha-512"} {
		for password, verdict := range map[string]string{"right-one": "good", "wrong-one": "missing"} {
			var found struct {
				Items []struct{ Verdict, Found string }
			}
			i.must(http.MethodPost, "/v1/destinations/hub/check", map[string]any{"kind": "kafka", "kafka": map[string]any{"brokers": []string{p.address},
				"login": map[string]any{"mechanism": mechanism, "user": "rill", "password": password}}}, &found)
			require.Equal(t, verdict, found.Items[0].Verdict, "%s %s: %v", mechanism, password, found)
			require.NotContains(t, fmt.Sprint(found), password)
		}
	}
}

// TestFormChangesOnTheWay: what lies in a file that is open stays when the form of
// files changes: it is closed and listed, and the next ones go on behind it.
func TestFormChangesOnTheWay(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	i.must(http.MethodPost, "/v1/destinations/archive", map[string]any{"kind": "file", "file": map[string]any{"directory": "archive"}}, nil)
	d := map[string]any{"source": "circulation", "destination": "archive", "operations": []string{"insert"}}
	i.must(http.MethodPost, "/v1/outlets/archive", d, nil)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO desk SELECT n, 'open' FROM generate_series(1, 20) n")
	i.reached("circulation", db)
	i.caughtUp("archive")
	d["file"] = map[string]any{"compression": "gzip", "rotate_every": "1s"}
	status, raw, err := i.call(http.MethodPut, "/v1/outlets/archive", d, "If-Match", `"1"`)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, status, "%s", raw)
	run(t, db, "INSERT INTO desk SELECT n, 'packed' FROM generate_series(21, 40) n")
	i.reached("circulation", db)
	i.caughtUp("archive")
	files := manifest(t, filepath.Join(i.folder, "files", "archive"), "archive")
	require.GreaterOrEqual(t, len(files), 2)
	lines, err := os.ReadFile(files[0])
	require.NoError(t, err)
	require.Equal(t, 20, bytes.Count(lines, []byte(`"note":"open"`)))
	out, err := exec.Command("sh", "-c", "zcat "+filepath.Join(i.folder, "files", "archive", "*.gz")).Output()
	require.NoError(t, err)
	require.Equal(t, 20, bytes.Count(out, []byte(`"note":"packed"`)))
}

// TestDocumentsOfOutlets: AsyncAPI documents are held against the specification's
// own schema, and what a pull outlet hands out, read with curl, against its
// document.
func TestDocumentsOfOutlets(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", `CREATE TYPE mood AS ENUM ('calm', 'busy');
		CREATE TABLE every (id bigint PRIMARY KEY, small smallint, price numeric(8,2), wide numeric, day date, at timestamptz, bare timestamp, clock time, feeling mood, raw bytea, doc jsonb, tags text[], real4 real, yes boolean, who uuid)`, deskTable,
		`INSERT INTO every VALUES (9007199254740993, -7, 1234.50, 123456789012345678901234567890.123, '2026-11-23', '2026-11-23 09:14:07.512345+00', '2026-11-23 09:14:07.5', '23:59:59.999999', 'busy', '\x00ff', '{"a": [1, null]}', ARRAY['x', NULL, 'y'], 1.5, true, '6f1e9f3c-0000-4000-8000-000000000001'),
			(2, NULL, -0.01, 'NaN', 'infinity', 'infinity', '0044-03-15 BC', NULL, NULL, NULL, NULL, '{}', 'NaN', false, NULL)`)
	db := connect(t, sourceServer(t), name)
	k := kafkaTarget(t)
	i.must(http.MethodPost, "/v1/destinations/hub", k.destination, nil)
	i.must(http.MethodPost, "/v1/outlets/desk", map[string]any{"source": "circulation", "operations": []string{"existing", "insert", "update", "delete"}}, nil)
	for _, format := range []string{"data", "row", "avro"} {
		i.must(http.MethodPost, "/v1/outlets/"+format, map[string]any{"source": "circulation", "destination": "hub", "topic": format + ".{schema}.{table}", "format": format}, nil)
	}
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO desk VALUES (1, NULL), (2, 'two')", "UPDATE desk SET note = 'one' WHERE id = 1", "UPDATE desk SET id = 3 WHERE id = 2", "UPDATE every SET small = 8", "DELETE FROM every WHERE id = 2")
	i.reached("circulation", db)
	folder := t.TempDir()
	events := filepath.Join(folder, "events")
	require.NoError(t, os.WriteFile(events, nil, 0o600))
	for _, outlet := range []string{"data", "row", "avro", "desk"} {
		out, errs, code := i.cli("outlet", "document", outlet)
		require.Zero(t, code, errs)
		document := filepath.Join(folder, outlet)
		require.NoError(t, os.WriteFile(document, []byte(out), 0o600))
		want := "0\n"
		if outlet == "desk" {
			raw, err := exec.Command("curl", "-sS", "--fail-with-body", "http://"+i.address[strings.LastIndex(i.address, "/")+1:]+"/v1/outlets/desk/events?limit=100").Output()
			require.NoError(t, err, "%s", raw)
			var page struct{ Events []json.RawMessage }
			require.NoError(t, json.Unmarshal(raw, &page))
			require.NoError(t, os.WriteFile(events, bytes.Join(rawLines(page.Events), nil), 0o600))
			want = fmt.Sprintln(len(page.Events))
			require.Greater(t, len(page.Events), 8)
		}
		said, err := exec.Command("node", "readers/asyncapi.mjs", document, events).CombinedOutput()
		require.NoError(t, err, "%s: %s", outlet, said)
		require.Equal(t, want, string(said))
	}
}

func rawLines(all []json.RawMessage) (lines [][]byte) {
	for _, one := range all {
		lines = append(lines, append(one, '\n'))
	}
	return lines
}
