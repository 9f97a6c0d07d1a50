package test

import (
	"fmt"
	"net/http"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/require"

	"rillmark/internal/seeded"
)

// add defines a target's destination and outlet, both under its name.
func (i *instance) add(one target) {
	i.t.Helper()
	i.must(http.MethodPost, "/v1/destinations/"+one.name, one.destination, nil)
	outlet := map[string]any{"source": "circulation", "destination": one.name, "retry": map[string]any{"first_wait": "20ms", "longest_wait": "300ms"}}
	for name, value := range one.outlet {
		outlet[name] = value
	}
	i.must(http.MethodPost, "/v1/outlets/"+one.name, outlet, nil)
}

// caughtUp waits until outlets have delivered all that is in the journal now.
func (i *instance) caughtUp(names ...string) {
	i.t.Helper()
	var now struct{ To int64 } // the status may be half a second old
	i.must(http.MethodPost, "/v1/outlets/"+names[0]+"/rewind", map[string]any{"to": "now", "dry_run": true}, &now)
	for _, name := range names {
		i.outletIs(name, "has caught up", func(o outletStatus) bool { return o.Committed >= now.To })
	}
}

// complete checks that all events that a target should have are there, none that
// it should not, in order for each row, and repeats only where they may be.
func complete(t *testing.T, one target, events []*event) (repeats int) {
	t.Helper()
	want := make(map[string]bool)
	flat := one.name == "avro" || one.name == "parquet" || strings.HasPrefix(one.name, "tables")
	for _, e := range events {
		// Flat formats have no rows for schema events and messages.
		if flat && !strings.Contains(" existing insert update delete truncate ", " "+e.Data.Operation+" ") || one.name == "redis" && (e.Data.Operation == "schema" || e.Data.Operation == "message") {
			continue
		}
		want[e.ID] = true
	}
	seen := make(map[string]bool)
	newest := make(map[string]int64)
	for _, a := range one.read() {
		require.True(t, want[a.id], "%s: %q is no event that should be there", one.name, a.id)
		if seen[a.id] {
			repeats++
			continue
		}
		seen[a.id] = true
		require.Greater(t, a.offset, newest[a.row], "%s: the events of %q are in order", one.name, a.row)
		newest[a.row] = a.offset
	}
	require.Equal(t, len(want), len(seen), "%s has every event", one.name)
	if one.exact {
		require.Zero(t, repeats, "%s has no repeats", one.name)
	}
	return repeats
}

// TestConformance runs every kind of destination beside the others on one
// journal: with a load and writers, destinations that go away and come back, and
// the service killed at random between send and commit.
func TestConformance(t *testing.T) {
	t.Parallel()
	inRounds(t, conformance)
}

func conformance(t *testing.T, _ int) {
	source := sourceServer(t)
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	fillWorkload(t, db, 400)
	dropSlotAtEnd(t, source)
	i := newInstance(t, stateServer(t), "source: {heartbeat_every: 200ms}\n").start()
	i.must(http.MethodPost, "/v1/sources/circulation", sourceDefinition(source, name), nil)
	targets := []target{tablesTarget(t, "postgresql"), tablesTarget(t, "mariadb"), kafkaTarget(t), exactTarget(t), natsTarget(t), redisTarget(t), httpTarget(t), bucketTarget(t), fileTarget(t, i), columnarTarget(t, i, "avro"), columnarTarget(t, i, "parquet")}
	names := make([]string, len(targets))
	for n, one := range targets {
		names[n] = one.name
		i.add(one)
	}
	i.resume()
	w := startWriters(t, source, name, 3, 400)
	defer w.stop()
	random := seeded.Random(t, 7)
	for round := range 4 {
		// A destination goes away while the others go on, and comes back.
		one := targets[random.IntN(8)]
		one.away()
		i.progresses(200)
		if round%2 == 0 {
			i.stop(syscall.SIGKILL)
			i.start()
		}
		one.back()
		i.progresses(200)
		i.stop(syscall.SIGKILL)
		i.start()
		i.progresses(100)
	}
	w.stop()
	w.done.Wait()
	i.settled("circulation", db)
	i.caughtUp(names...)
	began := time.Now()
	i.stop(syscall.SIGTERM)
	require.Less(t, time.Since(began), 15*time.Second, "a stop ends within its deadline")
	i.start()
	i.caughtUp(names...)
	events := i.journal("circulation")
	for _, one := range targets {
		repeats := complete(t, one, events)
		t.Logf("%-8s %d events, %d repeats", one.name, len(events), repeats)
	}
}

// progresses waits until the journal has n more events.
func (i *instance) progresses(n int64) {
	i.t.Helper()
	var from int64
	i.eventually("the journal's end is known", func() bool { from = i.next("circulation"); return from > 0 })
	i.eventually("the journal grows", func() bool { return i.next("circulation") >= from+n })
}

// waits until an outlet is as it should be.
func (i *instance) outletIs(name, what string, is func(o outletStatus) bool) outletStatus {
	i.t.Helper()
	var found outletStatus
	i.eventually("the outlet "+name+" "+what, func() bool {
		for _, o := range i.status().Outlets {
			if o.Name == name && is(o) {
				found = o
				return true
			}
		}
		return false
	}, func() string { // it says what is wrong
		for _, o := range i.status().Outlets {
			if o.Name == name {
				return fmt.Sprintf("%+v", o)
			}
		}
		return "it is not there"
	})
	return found
}

// letters is what tests want of an outlet's dead letters.
type letters struct {
	Items []struct {
		ID                                       int64
		Offset                                   int64
		State, Table, Key, Operation, Error, Row string
		Attempts                                 int
	}
	Dead, Behind int64
}

func (i *instance) letters(outlet string) letters {
	i.t.Helper()
	var l letters
	i.must(http.MethodGet, "/v1/outlets/"+outlet+"/dead-letters", nil, &l)
	return l
}

const deskTable = "CREATE TABLE desk (id bigint PRIMARY KEY, note text)"

// TestRefusedEventsAreSetAside: a function refuses one event of a list; later
// events of the same row wait behind it, others go on; after the mend all of
// them arrive, in order.
func TestRefusedEventsAreSetAside(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	f := newFunction(t)
	bad := func(r *http.Request, body []byte) int {
		if strings.Contains(string(body), "poison") {
			return http.StatusUnprocessableEntity
		}
		return http.StatusOK
	}
	f.set(bad)
	one := target{name: "desk", destination: map[string]any{"kind": "http", "http": map[string]any{"url": "http://" + f.address}},
		outlet: map[string]any{"tables": []string{"desk"}, "operations": []string{"insert", "update"}, "http": map[string]any{"events": 50}}}
	i.add(one)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO desk SELECT n, 'good' FROM generate_series(1, 30) n",
		"INSERT INTO desk VALUES (100, 'poison')", "UPDATE desk SET note = 'after' WHERE id = 100", "UPDATE desk SET note = 'fine' WHERE id = 7")
	i.reached("circulation", db)
	i.caughtUp("desk")
	l := i.letters("desk")
	require.EqualValues(t, 1, l.Dead)
	require.EqualValues(t, 1, l.Behind, "the update of the same row waits")
	require.Equal(t, "dead", l.Items[0].State)
	require.Equal(t, "100", l.Items[0].Key)
	require.Contains(t, l.Items[0].Error, "422")
	arrived := func() []arrival {
		var all []arrival
		for _, r := range f.all() {
			for _, part := range strings.Split(strings.Trim(string(r.body), "[]"), `,{"specversion"`) {
				if !strings.HasPrefix(part, "{") {
					part = `{"specversion"` + part
				}
				all = append(all, arrivalOf(t, []byte(part)))
			}
		}
		return all
	}
	require.Len(t, arrived(), 31, "all but the bad one and the one behind it have gone out")
	out, _, code := i.cli("dead-letter", "list", "desk")
	require.Zero(t, code)
	require.Contains(t, out, "1 dead, 1 behind them")
	out, _, code = i.cli("dead-letter", "show", "desk", fmt.Sprint(l.Items[0].ID))
	require.Zero(t, code)
	require.Contains(t, out, "poison", "a dead letter keeps its event")
	// Tried again before the mend, it stays, with one more try.
	_, errs, code := i.cli("dead-letter", "retry", "desk", "--all")
	require.Zero(t, code, errs)
	i.eventually("it was refused again", func() bool { l := i.letters("desk"); return l.Dead == 1 && l.Items[0].Attempts == 2 })
	require.EqualValues(t, 1, i.letters("desk").Behind)
	f.set(nil)
	_, errs, code = i.cli("dead-letter", "retry", "desk", fmt.Sprint(l.Items[0].ID))
	require.Zero(t, code, errs)
	i.eventually("there are no dead letters any more", func() bool { l := i.letters("desk"); return l.Dead+l.Behind == 0 })
	all := arrived()
	require.Len(t, all, 33)
	require.Equal(t, l.Items[0].Offset, all[31].offset, "the bad one first")
	require.Equal(t, l.Items[1].Offset, all[32].offset, "then the one that waited behind it")
	// What comes later of the row goes straight out.
	run(t, db, "UPDATE desk SET note = 'later' WHERE id = 100")
	i.eventually("it arrives", func() bool { return len(arrived()) == 34 })
}

// TestRefusedNetChanges: a net change that is refused is kept as what it comes to,
// not as the newest of the changes that it is made of.
func TestRefusedNetChanges(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	f := newFunction(t)
	f.set(func(_ *http.Request, body []byte) int {
		if strings.Contains(string(body), "poison") {
			return http.StatusUnprocessableEntity
		}
		return http.StatusOK
	})
	i.add(target{name: "desk", destination: map[string]any{"kind": "http", "http": map[string]any{"url": "http://" + f.address}},
		outlet: map[string]any{"tables": []string{"desk"}, "operations": []string{"insert", "update", "delete"}, "changes": "combined", "batch": map[string]any{"every": "1s"}, "http": map[string]any{"events": 50}}})
	i.resume()
	i.settled("circulation", db)
	run(t, db, "BEGIN", "INSERT INTO desk VALUES (1, 'fine'), (2, 'poison'), (3, 'short')", "UPDATE desk SET note = note || '!'", "UPDATE desk SET note = note || '!' WHERE id = 2", "DELETE FROM desk WHERE id = 3", "COMMIT")
	i.reached("circulation", db)
	i.caughtUp("desk")
	l := i.letters("desk")
	require.EqualValues(t, 1, l.Dead)
	require.Equal(t, "insert", l.Items[0].Operation)
	f.set(nil)
	_, errs, code := i.cli("dead-letter", "retry", "desk", "--all")
	require.Zero(t, code, errs)
	i.eventually("there are no dead letters any more", func() bool { return i.letters("desk").Dead == 0 })
	var all string
	for _, r := range f.all() {
		all += string(r.body)
	}
	require.Equal(t, 2, strings.Count(all, `"operation":"insert"`), all)
	require.NotContains(t, all, `"operation":"update"`)
	require.Contains(t, all, `"after":{"id":2,"note":"poison!!"}`)
}

// TestEventsThatFailOften become dead letters after the stated tries; an outage
// alone makes none.
func TestEventsThatFailOften(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	f := newFunction(t)
	f.set(func(r *http.Request, body []byte) int { return http.StatusServiceUnavailable })
	i.add(target{name: "desk", destination: map[string]any{"kind": "http", "http": map[string]any{"url": "http://" + f.address}},
		outlet: map[string]any{"tables": []string{"desk"}, "operations": []string{"insert"}, "refused": map[string]any{"later": "pass"},
			"retry": map[string]any{"first_wait": "5ms", "longest_wait": "20ms", "attempts": 3}}})
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO desk SELECT n, 'n' || n FROM generate_series(1, 5) n")
	i.outletIs("desk", "waits for the function", func(o outletStatus) bool { return o.Phase == "waiting" && o.Attempts > 4 })
	require.Zero(t, i.letters("desk").Dead, "an outage makes no dead letters")
	f.set(func(r *http.Request, body []byte) int {
		if strings.Contains(string(body), `"n3"`) {
			return http.StatusInternalServerError
		}
		return http.StatusOK
	})
	i.caughtUp("desk")
	l := i.letters("desk")
	require.EqualValues(t, 1, l.Dead)
	require.Equal(t, 3, l.Items[0].Attempts)
	ids := make(map[string]bool) // an outage that ends amid a batch has some come twice
	for _, one := range f.all() {
		ids[one.headers.Get("Rillmark-Id")] = true
	}
	require.Len(t, ids, 4)
	_, errs, code := i.cli("dead-letter", "discard", "desk", "--error", "500")
	require.Zero(t, code, errs)
	require.Zero(t, i.letters("desk").Dead)
}

// TestTooManyAreRefused: there is a bounded number of dead letters; then the outlet
// holds, and nothing is dropped.
func TestTooManyAreRefused(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	f := newFunction(t)
	f.set(func(*http.Request, []byte) int { return http.StatusUnprocessableEntity })
	i.add(target{name: "desk", destination: map[string]any{"kind": "http", "http": map[string]any{"url": "http://" + f.address}},
		outlet: map[string]any{"tables": []string{"desk"}, "operations": []string{"insert"}, "refused": map[string]any{"max_dead_letters": 4}}})
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO desk SELECT n, 'n' || n FROM generate_series(1, 3) n")
	i.reached("circulation", db)
	i.caughtUp("desk")
	require.EqualValues(t, 3, i.letters("desk").Dead)
	run(t, db, "INSERT INTO desk SELECT n, 'n' || n FROM generate_series(4, 6) n")
	held := i.outletIs("desk", "holds", func(o outletStatus) bool { return o.Phase == "failed" && o.Code == "too-many-dead-letters" })
	require.Contains(t, held.Error, "exceed the limit of 4")
	f.set(nil)
	for _, args := range [][]string{{"outlet", "resume", "desk"}, {"dead-letter", "retry", "desk", "--all"}} {
		_, errs, code := i.cli(args...)
		require.Zero(t, code, errs)
	}
	i.reached("circulation", db)
	i.caughtUp("desk")
	i.eventually("the dead letters have gone out", func() bool { return i.letters("desk").Dead == 0 })
	require.Len(t, f.all(), 6)
}

// TestTooLargeForTheBroker: what a topic does not take is a dead letter with its size.
func TestTooLargeForTheBroker(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	k, n := kafkaTarget(t), natsTarget(t)
	n.destination["nats"].(map[string]any)["stream"] = "library"
	k.outlet["tables"], n.outlet["tables"] = []string{"desk"}, []string{"desk"}
	i.add(k)
	i.add(n)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO desk VALUES (1, repeat('x', 1500000)), (2, ''), (3, NULL)")
	i.reached("circulation", db)
	i.caughtUp("kafka", "nats")
	for _, outlet := range []string{"kafka", "nats"} {
		l := i.letters(outlet)
		require.EqualValues(t, 1, l.Dead, outlet)
		require.Equal(t, "1", l.Items[0].Key)
		require.Regexp(t, "has (about )?150[0-9]{4} bytes", l.Items[0].Error)
		require.Regexp(t, "raise its max", l.Items[0].Error)
	}
	// A stream may take less than its server; named in the destination it is asked
	// before, else its answer tells.
	address := n.destination["nats"].(map[string]any)["servers"].([]string)[0]
	conn, err := nats.Connect(address)
	require.NoError(t, err)
	defer conn.Close()
	js, err := jetstream.New(conn)
	require.NoError(t, err)
	stream, err := js.Stream(t.Context(), "library")
	require.NoError(t, err)
	config := stream.CachedInfo().Config
	config.MaxMsgSize = 2000
	_, err = js.UpdateStream(t.Context(), config)
	require.NoError(t, err)
	i.must(http.MethodPost, "/v1/destinations/unnamed", map[string]any{"kind": "nats", "nats": map[string]any{"servers": []string{address}}}, nil)
	i.must(http.MethodPost, "/v1/outlets/unnamed", map[string]any{"source": "circulation", "destination": "unnamed", "topic": "library.unnamed", "tables": []string{"desk"}, "from": "now"}, nil)
	i.must(http.MethodPost, "/v1/outlets/nats/pause", nil, nil)
	i.must(http.MethodPost, "/v1/outlets/nats/resume", nil, nil) // it asks anew
	run(t, db, "INSERT INTO desk VALUES (4, 'x'), (5, repeat('x', 3000)), (6, 'x')", "UPDATE desk SET note = 'y' WHERE id = 5")
	i.reached("circulation", db)
	i.caughtUp("nats", "unnamed")
	require.Equal(t, []int64{2, 1}, []int64{i.letters("nats").Dead, i.letters("nats").Behind})
	require.EqualValues(t, 1, i.letters("unnamed").Dead)
	require.Contains(t, i.letters("unnamed").Items[0].Error, "max_msg_size")
	// Empty and null values arrive as what they are.
	text := ""
	for _, r := range records(t, brokerOf(k), "plain.desk") {
		text += *r.Payload
	}
	require.Contains(t, text, `"after":{"id":2,"note":""}`)
	require.Contains(t, text, `"after":{"id":3,"note":null}`)
}

func brokerOf(k target) string {
	return k.destination["kafka"].(map[string]any)["brokers"].([]string)[0]
}

// TestReadersOfColumns: independent readers find the values in Avro and Parquet
// files, exactly.
func TestReadersOfColumns(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", `CREATE TYPE mood AS ENUM ('calm', 'busy');
		CREATE TABLE every (id bigint PRIMARY KEY, small smallint, price numeric(8,2), wide numeric, day date, at timestamptz, bare timestamp, clock time, feeling mood, raw bytea, doc jsonb, tags text[], real4 real, yes boolean, who uuid)`,
		`INSERT INTO every VALUES (9007199254740993, -7, 1234.50, 123456789012345678901234567890.123, '2026-11-23', '2026-11-23 09:14:07.512345+00', '2026-11-23 09:14:07.5', '23:59:59.999999', 'busy', '\x00ff', '{"a": [1, null]}', ARRAY['x', NULL, 'y'], 1.5, true, '6f1e9f3c-0000-4000-8000-000000000001'),
			(2, NULL, -0.01, 'NaN', 'infinity', 'infinity', '0044-03-15 BC', NULL, NULL, NULL, NULL, '{}', 'NaN', false, NULL)`)
	db := connect(t, sourceServer(t), name)
	for _, format := range []string{"avro", "parquet"} {
		one := columnarTarget(t, i, format)
		one.outlet["metadata"] = []string{"operation", "offset", "committed_at"}
		i.add(one)
	}
	i.resume()
	i.settled("circulation", db)
	i.caughtUp("avro", "parquet")
	rows := npmReader(t, "avro", manifest(t, filepath.Join(i.folder, "files", "avro"), "avro"))
	require.Len(t, rows, 2)
	byID := map[string]map[string]any{}
	for _, r := range rows {
		byID[fmt.Sprint(r["id"])] = r
	}
	one, two := byID["9007199254740993"], byID["2"]
	require.NotNil(t, one)
	require.Equal(t, "existing", one["_operation"])
	require.EqualValues(t, "-7", fmt.Sprint(one["small"]))
	require.Equal(t, map[string]any{"type": "Buffer", "data": one["price"].(map[string]any)["data"]}, one["price"])
	require.Equal(t, "[1 226 58]", fmt.Sprint(one["price"].(map[string]any)["data"]), "123450 in two's complement")
	require.Equal(t, "123456789012345678901234567890.123", one["wide"])
	require.EqualValues(t, "20780", fmt.Sprint(one["day"]))
	require.EqualValues(t, "1795425247512345", fmt.Sprint(one["at"]))
	require.Equal(t, "busy", one["feeling"])
	require.Equal(t, `{"a": [1, null]}`, one["doc"])
	require.Equal(t, []any{"x", nil, "y"}, one["tags"])
	require.Equal(t, "NaN", two["wide"])
	require.Equal(t, "infinity", two["day"])
	require.Equal(t, "0044-03-15 00:00:00 BC", two["bare"])
	rows = npmReader(t, "parquet", manifest(t, filepath.Join(i.folder, "files", "parquet"), "parquet"))
	require.Len(t, rows, 2)
	for _, r := range rows {
		byID[fmt.Sprint(r["id"])] = r
	}
	one, two = byID["9007199254740993"], byID["2"]
	require.Equal(t, "2026-11-23T00:00:00.000Z", one["day"])
	require.Equal(t, "2026-11-23T09:14:07.512Z", one["at"])
	require.Equal(t, "1234.5", fmt.Sprint(one["price"]))
	require.Equal(t, "123456789012345678901234567890.123", one["wide"])
	require.Equal(t, map[string]any{"day": "infinity", "at": "infinity", "bare": "0044-03-15 00:00:00 BC"}, two["_inexact"])
	require.Nil(t, two["day"])
	require.Nil(t, one["_inexact"])
}

// TestStopWhileDestinationsAreAway: a stop ends within its deadline, whatever is
// under way to destinations that do not answer.
func TestStopWhileDestinationsAreAway(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	targets := []target{tablesTarget(t, "postgresql"), tablesTarget(t, "mariadb"), kafkaTarget(t), exactTarget(t), natsTarget(t), redisTarget(t), httpTarget(t), bucketTarget(t)}
	names := make([]string, len(targets))
	for n, one := range targets {
		names[n] = one.name
		i.add(one)
	}
	i.resume()
	i.settled("circulation", db)
	i.caughtUp(names...)
	for _, one := range targets {
		one.away()
	}
	run(t, db, "INSERT INTO desk SELECT n, 'x' FROM generate_series(1, 500) n")
	i.reached("circulation", db)
	require.Zero(t, i.stop(syscall.SIGTERM).ExitCode(), "it ends in order")
	for _, one := range targets {
		one.back()
	}
	i.start()
	i.caughtUp(names...)
	for _, one := range targets {
		complete(t, one, i.journal("circulation"))
	}
}
