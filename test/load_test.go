package test

import (
	"context"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestLoadBesideCommitsThatCannotBeSeen loads a table again and again while
// writers' commits wait for a standby that is not there: they stand in the log,
// and reach us, long before a query can see them.
func TestLoadBesideCommitsThatCannotBeSeen(t *testing.T) {
	source, copies := ownServer(t, sourceSettings), 1500
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	run(t, db, "SET synchronous_commit = local")
	fillWorkload(t, db, copies)
	i := newInstance(t, stateServer(t), "source:\n  chunk_bytes: 4096\n  heartbeat_every: 200ms\n").start()
	i.must(http.MethodPost, "/v1/sources/circulation", sourceDefinition(source, name), nil)
	i.resume()
	i.settled("circulation", db)
	admin := connect(t, source, "postgres")
	run(t, admin, "SET synchronous_commit = local", "ALTER SYSTEM SET synchronous_standby_names = 'nobody'", "SELECT pg_reload_conf()")
	i.eventually("new sessions wait for the standby", func() bool {
		conn, err := source.Connect(t.Context(), name)
		if err != nil {
			return false
		}
		defer conn.Close(context.Background()) //nolint:errcheck // nothing is open on it
		var waits string
		return conn.QueryRow(t.Context(), "SHOW synchronous_standby_names").Scan(&waits) == nil && waits == "nobody"
	})

	// A commit that hangs before the load begins holds the load of its table.
	hung, err := source.Connect(t.Context(), name)
	require.NoError(t, err)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		hung.Exec(context.Background(), "UPDATE copies SET shelf_mark = 'hung' WHERE copy_id <= 10") //nolint:errcheck // it ends with a warning
		hung.Close(context.Background())                                                             //nolint:errcheck // nothing is open on it
	}()
	i.eventually("the hanging commit is in the journal", func() bool {
		_, raw, err := i.call(http.MethodGet, "/v1/sources/circulation/events?table=copies&operation=update&limit=1", nil)
		var waiting int
		return err == nil && strings.Contains(string(raw), `"hung"`) &&
			admin.QueryRow(t.Context(), "SELECT count(*) FROM pg_stat_activity WHERE wait_event = 'SyncRep'").Scan(&waiting) == nil && waiting == 1
	})
	i.must(http.MethodPost, "/v1/sources/circulation/tables/public.copies/reload", nil, nil)
	state := func() string {
		for _, s := range i.status().Sources {
			for _, table := range s.Tables {
				if table.Name == "public.copies" {
					return table.State
				}
			}
		}
		return ""
	}
	i.eventually("the load has begun", func() bool { return state() == "loading" })
	i.reached("circulation", db) // following goes on meanwhile
	require.Equal(t, "loading", state(), "the load waits for what it cannot see")
	release := "SELECT pg_cancel_backend(pid) FROM pg_stat_activity WHERE wait_event = 'SyncRep'"
	run(t, admin, release)
	<-ended
	i.settled("circulation", db)

	// Then writers whose commits hang for a moment each, while all is reloaded.
	ctx, cancel := context.WithCancel(context.Background())
	var releasing sync.WaitGroup
	releasing.Add(1)
	go func() {
		defer releasing.Done()
		random := rand.New(rand.NewPCG(1, 2))
		for ctx.Err() == nil {
			select {
			case <-ctx.Done():
			case <-time.After(time.Duration(5+random.IntN(60)) * time.Millisecond):
			}
			conn, err := source.Connect(context.Background(), "postgres")
			if err != nil {
				continue
			}
			conn.Exec(context.Background(), release+" AND random() < 0.6") //nolint:errcheck // the next round does it again
			conn.Close(context.Background())                               //nolint:errcheck // nothing is open on it
		}
	}()
	w := startWriters(t, source, name, 6, copies)
	for range 3 * rounds() {
		for _, table := range []string{"copies", "loans", "shelves"} {
			i.must(http.MethodPost, "/v1/sources/circulation/tables/public."+table+"/reload", nil, nil)
		}
		i.eventually("all is loaded again", func() bool {
			for _, s := range i.status().Sources {
				for _, table := range s.Tables {
					if table.State != "following" {
						return false
					}
				}
			}
			return true
		})
	}
	run(t, admin, "ALTER SYSTEM RESET synchronous_standby_names", "SELECT pg_reload_conf()")
	cancel()
	releasing.Wait()
	w.end()
	run(t, admin, release)
	i.settled("circulation", db)
	events := i.journal("circulation")
	f := proveJournal(t, events)
	for _, table := range []string{"copies", "loans", "shelves"} {
		f.equals(t, db, table)
	}
	require.Len(t, ofTable(events, "public.copies", "loaded"), 2+3*rounds())
}
