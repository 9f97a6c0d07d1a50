package test

import (
	"fmt"
	"net/http"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestSchemaChangesChosen: an outlet holds before each change of a table that concerns what goes
// out, across restarts, until somebody lets it pass; or what no longer fits it becomes dead
// letters, of which those that it chooses go out in order once it has been mended.
func TestSchemaChangesChosen(t *testing.T) {
	t.Parallel()
	configured, _ := scratch(t)
	i, name := begin(t, configured+"source:\n  refresh_every: 200ms\n", "CREATE TABLE loans (loan_id bigint PRIMARY KEY, branch integer, note text, pin text)", "ALTER TABLE loans REPLICA IDENTITY FULL", "INSERT INTO loans VALUES (1, 1, 'a', 'x')", "CREATE TABLE fees (fee_id bigint PRIMARY KEY, amount integer)", "CREATE TABLE visits (visit_id bigint PRIMARY KEY, at text)")
	source := sourceServer(t)
	db := connect(t, source, name)
	broker := launch(t, binary, "stand-in", "broker", "--listen", "$ADDR", "--folder", "$DIR")
	schemas := launch(t, binary, "stand-in", "registry", "--backward", "--listen", "$ADDR")
	into := database(t, source, "postgres")
	target := connect(t, source, into)
	i.resume()
	i.settled("circulation", db)
	i.must(http.MethodPost, "/v1/destinations/hub", map[string]any{"kind": "kafka", "kafka": map[string]any{"brokers": []string{broker.address}, "create_topics": map[string]any{"partitions": 3}}}, nil)
	drops := []map[string]any{{"match": "public.loans", "columns": []map[string]any{{"match": "pin*", "treat": "drop"}}}}
	i.intoTables("tables", source, into, nil, map[string]any{"schema_changes": "hold"})
	add := func(name, destination string, more map[string]any) {
		d := map[string]any{"source": "circulation", "destination": destination, "tables": []string{"public.loans"}}
		for field, value := range more {
			d[field] = value
		}
		if destination == name {
			i.must(http.MethodPost, "/v1/destinations/"+name, map[string]any{"kind": "file", "file": map[string]any{"directory": name}}, nil)
		}
		i.must(http.MethodPost, "/v1/outlets/"+name, d, nil)
	}
	registered := map[string]any{"framing": "registry", "registry": "http://" + schemas.address}
	add("watched", "watched", map[string]any{"schema_changes": "hold", "operations": []string{"insert"}, "rows": drops})
	add("some", "some", map[string]any{"schema_changes": "dead-letter", "where": map[string]any{"loans": "branch == 1"}})
	add("formed", "formed", map[string]any{"schema_changes": "dead-letter", "rows": []map[string]any{{"match": "public.loans", "columns": []map[string]any{{"match": "pin*", "treat": "mask"}}, "new": []map[string]any{{"name": "twice", "is": "branch * 2"}}}}})
	add("avro", "hub", map[string]any{"schema_changes": "dead-letter", "format": "avro", "topic": "plain.avro", "avro": registered, "tables": []string{"public.fees"}, "operations": []string{"existing", "insert", "update"}})
	all := []string{"tables", "watched", "some", "formed", "avro"}
	i.caughtUp(all...)

	// A change that does not concern what goes out holds nobody; one that does holds before it.
	run(t, db, "CREATE TABLE other (id bigint PRIMARY KEY)", "ALTER TABLE loans RENAME COLUMN pin TO pin2", "INSERT INTO loans VALUES (2, 1, 'b', 'y')")
	i.reached("circulation", db)
	i.caughtUp("watched")
	held := func(outlet, says string) outletStatus {
		t.Helper()
		o := i.outletIs(outlet, "holds before "+says, func(o outletStatus) bool {
			return o.Phase == "failed" && o.Code == "schema-change" && strings.Contains(o.Error, says)
		})
		require.Contains(t, o.Error, fmt.Sprintf("`rillmark outlet resume %s --let-pass %d`", outlet, o.HeldAt))
		return o
	}
	at := held("tables", "pin")
	_, errs, code := i.cli("outlet", "resume", "tables")
	require.Zero(t, code, errs)
	require.Equal(t, at.HeldAt, held("tables", "pin").HeldAt, "a resume alone lets nothing pass")
	_, errs, code = i.cli("outlet", "resume", "tables", "--let-pass", fmt.Sprint(at.HeldAt))
	require.Zero(t, code, errs)
	i.caughtUp("tables")
	sameRows(t, digest(t, db, "SELECT * FROM loans"), digest(t, target, "SELECT * FROM public.loans"), "after the rename")

	var said impactOf
	i.must(http.MethodPost, "/v1/sources/circulation/impact", map[string]any{"sql": "ALTER TABLE loans RENAME COLUMN branch TO home"}, &said)
	for outlet, verdict := range map[string]string{"tables": "holds", "watched": "holds", "some": "loses", "formed": "loses"} {
		require.Equal(t, verdict, verdictOf(t, &said, outlet).Verdict, outlet)
	}
	run(t, db, "ALTER TABLE loans RENAME COLUMN branch TO home", "INSERT INTO loans VALUES (3, 1, 'c', 'z'), (4, 2, 'd', 'z')", "INSERT INTO visits VALUES (1, 'now')", "UPDATE loans SET note = 'e' WHERE loan_id = 2",
		"INSERT INTO fees VALUES (1, 10)", "ALTER TABLE fees ALTER amount TYPE text", "INSERT INTO fees VALUES (2, 'ten')")
	i.reached("circulation", db)
	at = held("watched", "home")
	held("tables", "home")
	i.stop(syscall.SIGTERM)
	i.start()
	require.Equal(t, at.HeldAt, held("watched", "home").HeldAt, "it holds after a restart")
	for _, one := range [][2]string{{"watched", "home"}, {"tables", "home"}, {"tables", "type integer → text"}} {
		i.must(http.MethodPost, "/v1/outlets/"+one[0]+"/resume", map[string]any{"let_pass": held(one[0], one[1]).HeldAt}, nil)
	}
	i.caughtUp("watched", "tables")
	sameRows(t, digest(t, db, "SELECT * FROM loans"), digest(t, target, "SELECT * FROM public.loans"), "after the second rename")
	i.must(http.MethodPost, "/v1/outlets/tables/rewind", map[string]any{"to": "beginning"}, nil)
	i.caughtUp("tables") // what was let pass once is not asked for again

	// Where the condition, the form or the registry no longer fits, rows wait as dead letters.
	i.caughtUp("some", "formed", "avro")
	for outlet, says := range map[string]string{"some": "its columns are loan_id, home", "formed": `the new column "twice" does not fit`, "avro": "the schema registry does not take"} {
		found := i.letters(outlet)
		require.NotZero(t, found.Dead, outlet)
		for _, l := range found.Items {
			if l.State == "dead" {
				require.Contains(t, l.Error, says, outlet)
			}
			require.NotContains(t, l.Error, "'z'")
		}
	}
	out, errs, code := i.cli("dead-letter", "show", "some", fmt.Sprint(i.letters("some").Items[0].ID))
	require.Zero(t, code, errs)
	require.Contains(t, out, "loan_id")
	edit(i, "outlets", "some", func(d map[string]any) { d["where"] = map[string]any{"loans": "home == 1"} })
	edit(i, "outlets", "formed", func(d map[string]any) {
		d["rows"].([]any)[0].(map[string]any)["new"] = []map[string]any{{"name": "twice", "is": "home * 2"}}
	})
	edit(i, "outlets", "avro", func(d map[string]any) {
		d["rows"] = []map[string]any{{"match": "public.fees", "columns": []map[string]any{{"match": "amount", "name": "price"}}}}
	})
	run(t, db, "UPDATE loans SET note = 'f' WHERE loan_id = 3")
	for _, outlet := range []string{"some", "formed", "avro"} {
		_, errs, code = i.cli("dead-letter", "retry", outlet, "--all")
		require.Zero(t, code, errs)
		i.outletIs(outlet, "has no dead letter", func(o outletStatus) bool { return o.Dead == 0 && o.Phase == "running" })
	}
	i.reached("circulation", db)
	i.caughtUp(all...)
	came := make(map[string]string)
	for _, outlet := range []string{"watched", "some", "formed"} {
		for _, e := range i.files(outlet) {
			if e.Data.After == nil {
				continue
			}
			came[outlet] += fmt.Sprintf("%s%s ", e.Data.Key["loan_id"], e.Data.After["note"])
			if outlet == "formed" {
				require.Equal(t, `"***"`, string(append(e.Data.After["pin"], e.Data.After["pin2"]...)))
			}
		}
	}
	require.Equal(t, map[string]string{"watched": `2"b" 3"c" 4"d" `, "some": `1"a" 2"b" 3"c" 2"e" 3"f" `, "formed": `1"a" 2"b" 3"c" 4"d" 2"e" 3"f" `}, came)

	keys := make(map[string]int)
	for _, r := range records(t, broker.address, "plain.avro") {
		keys[*r.Key]++
	}
	require.Contains(t, keys, "1")
	require.Contains(t, keys, "2", "what the registry had refused has gone out")

	// The table's end holds, too; wrong choices are refused.
	run(t, db, "DROP TABLE visits")
	i.reached("circulation", db)
	held("tables", "it is gone")
	for says, d := range map[string]map[string]any{
		"choose pass or hold":                        {"source": "circulation", "destination": "tables", "schema_changes": "dead-letter"},
		"applies only to outlets with a destination": {"source": "circulation", "schema_changes": "hold"},
		`pass, hold, dead-letter`:                    {"source": "circulation", "destination": "some", "schema_changes": "stop"},
	} {
		code, raw, err := i.call(http.MethodPost, "/v1/outlets/wrong", d)
		require.NoError(t, err)
		require.Equal(t, http.StatusUnprocessableEntity, code, "%s", raw)
		require.Contains(t, string(raw), says)
	}
	_, errs, code = i.cli("outlet", "resume", "some", "--let-pass", "1")
	require.NotZero(t, code)
	require.Contains(t, errs, "does not hold before changes")
}
