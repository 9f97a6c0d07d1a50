package test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestPartsOfAJournal reads, works out the net of, replays and runs what lies between
// two marks, with a source that runs on a schedule.
func TestPartsOfAJournal(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable, "INSERT INTO desk VALUES (1, 'there before')")
	db := connect(t, sourceServer(t), name)
	say := func(args ...string) string {
		t.Helper()
		out, errs, code := i.cli(args...)
		require.Zero(t, code, "%v: %s%s", args, out, errs)
		return out
	}
	refused := func(told string, args ...string) {
		t.Helper()
		_, errs, code := i.cli(args...)
		require.NotZero(t, code, "%v", args)
		require.Contains(t, errs, told, "%v", args)
	}
	i.add(fileTarget(t, i))
	say("outlet", "add", "desk", "--source", "circulation")

	// The first run loads; one after it has nothing to do; the next one follows.
	require.Contains(t, say("source", "run", "circulation"), "has caught up")
	require.Len(t, ofTable(i.journal("circulation"), "public.desk", "existing", "loaded"), 2)
	require.Contains(t, say("source", "run", "circulation"), "nothing to do")
	require.Contains(t, say("status"), "paused (has caught up)")
	say("mark", "set", "circulation", "morning")
	run(t, db, "INSERT INTO desk SELECT n, 'new' FROM generate_series(2, 31) n", "UPDATE desk SET note = 'once' WHERE id <= 10",
		"UPDATE desk SET note = 'twice' WHERE id <= 10", "DELETE FROM desk WHERE id > 21")
	require.Contains(t, say("source", "run", "circulation"), "60 events")
	say("mark", "set", "circulation", "noon")
	run(t, db, "UPDATE desk SET note = 'late'")
	require.Contains(t, say("source", "run", "circulation"), "21 events")
	i.caughtUp("archive")
	refused("runs already", "outlet", "run", "archive")

	// What lies between the marks, all of it and what it comes to.
	between := func(args ...string) (events []*event) {
		for _, line := range strings.Split(strings.TrimSpace(say(append(args, "--from", "mark:morning", "--until", "mark:noon", "--json")...)), "\n") {
			events = append(events, parseEvent(t, []byte(line)))
		}
		return events
	}
	all := between("watch", "circulation")
	require.Len(t, all, 60)
	require.Equal(t, all[59].offset(), between("read", "desk", "--limit", "1000")[59].offset())
	require.Len(t, between("watch", "--outlet", "archive"), 60)
	came := make(map[string]int)
	for _, e := range between("watch", "circulation", "--changes", "combined") {
		came[e.Data.Operation+" "+string(e.Data.After["note"])]++
	}
	require.Equal(t, map[string]int{`update "twice"`: 1, `insert "twice"`: 9, `insert "new"`: 11}, came, "ten rows came and went")
	var page struct {
		Events []json.RawMessage
		Passed int64
	}
	i.must(http.MethodGet, "/v1/sources/circulation/events?from=mark:morning&until=mark:noon&table=none&limit=7", nil, &page)
	require.Empty(t, page.Events)
	require.Equal(t, all[59].offset(), page.Passed, "a page ends where it was told to, whatever the filter lets through")
	refused("lies before the beginning", "watch", "circulation", "--from", "mark:noon", "--until", "mark:morning")
	refused("still to come", "watch", "circulation", "--until", "time:2999-01-01T00:00:00Z")
	refused("give --from and --until", "watch", "circulation", "--changes", "combined")

	// Replayed up to a mark, and back; replayed, and paused there; run up to a mark.
	before := len(i.files("archive"))
	committed := i.outletIs("archive", "has all", func(outletStatus) bool { return true }).Committed
	require.Contains(t, say("outlet", "rewind", "archive", "--to", "mark:morning", "--until", "mark:noon", "--return", "--dry-run"), "60 events of the source are delivered again")
	say("outlet", "rewind", "archive", "--to", "mark:morning", "--until", "mark:noon", "--return")
	i.outletIs("archive", "is back, and runs", func(o outletStatus) bool {
		return o.Committed == committed && o.Phase == "running" && o.Until == 0
	})
	require.Len(t, i.files("archive"), before+60)
	say("outlet", "rewind", "archive", "--to", "mark:morning", "--until", "mark:noon")
	i.outletIs("archive", "pauses at the mark", func(o outletStatus) bool {
		return o.Committed == all[59].offset() && o.Phase == "paused" && o.Until == 0
	})
	require.Len(t, i.files("archive"), before+120)
	require.Contains(t, say("outlet", "run", "archive", "--until", "mark:noon"), "nothing to deliver")
	say("outlet", "rewind", "archive", "--to", "mark:morning")
	require.Contains(t, say("outlet", "run", "archive", "--until", "mark:noon"), "delivered up to offset")
	require.Contains(t, say("outlet", "run", "archive"), "delivered up to offset")
	require.Len(t, i.files("archive"), before+120+81)
	refused("nothing lies between both places", "outlet", "rewind", "archive", "--to", "mark:noon", "--until", "mark:noon")
	refused("give until, too", "outlet", "rewind", "archive", "--to", "mark:noon", "--return")
	refused("read with until", "outlet", "rewind", "desk", "--to", "mark:morning", "--until", "mark:noon")

	// An end stays while the outlet is paused by hand; resumed twice, it goes on beyond.
	door := newFunction(t)
	refuse := func(*http.Request, []byte) int { return http.StatusServiceUnavailable }
	door.set(refuse)
	say("destination", "add", "door", "--kind", "http", "--url", "http://"+door.address)
	say("outlet", "add", "door", "--source", "circulation", "--destination", "door", "--from", "mark:morning")
	say("outlet", "pause", "door")
	say("outlet", "rewind", "door", "--to", "mark:morning", "--until", "mark:noon")
	ends := func(phase string) func(outletStatus) bool {
		return func(o outletStatus) bool { return o.Phase == phase && o.Until == all[59].offset() }
	}
	i.outletIs("door", "tries", ends("waiting"))
	say("outlet", "pause", "door")
	i.outletIs("door", "keeps its end", ends("paused"))
	require.Contains(t, say("outlet", "resume", "door"), "resumed")
	i.outletIs("door", "tries again", ends("waiting"))
	door.set(nil)
	i.outletIs("door", "pauses at the mark", func(o outletStatus) bool {
		return o.Phase == "paused" && o.Committed == all[59].offset() && o.Until == 0
	})
	door.set(refuse)
	say("outlet", "rewind", "door", "--to", "mark:morning", "--until", "mark:noon")
	i.outletIs("door", "tries", ends("waiting"))
	say("outlet", "resume", "door")
	i.outletIs("door", "has no end", func(o outletStatus) bool { return o.Until == 0 })
	door.set(nil)
	i.outletIs("door", "goes on", func(o outletStatus) bool { return o.Committed > all[59].offset() && o.Phase == "running" })
}

// TestLoadOnlySourcesRunOnce: a source that only loads ends by itself when all is loaded,
// leaves no slot behind, and loads again when it is run again.
func TestLoadOnlySourcesRunOnce(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable, "INSERT INTO desk VALUES (1, 'a'), (2, 'b')")
	db := connect(t, sourceServer(t), name)
	d := sourceDefinition(sourceServer(t), name)
	d["mode"] = "load-only"
	i.must(http.MethodDelete, "/v1/sources/circulation?forget=true", nil, nil)
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	for n := 1; n <= 2; n++ {
		out, errs, code := i.cli("source", "run", "circulation")
		require.Zero(t, code, errs)
		require.Contains(t, out, "has caught up")
		i.eventually("it is loaded, and its slot is gone", func() bool {
			var slots int
			state, _ := i.table("public.desk")
			return state == "loaded" && db.QueryRow(t.Context(), "SELECT count(*) FROM pg_replication_slots WHERE slot_name = 'rillmark_circulation'").Scan(&slots) == nil && slots == 0
		})
		require.Len(t, ofTable(i.journal("circulation"), "public.desk", "existing"), 2*n)
	}
}
