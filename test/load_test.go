package test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/require"

	"rillmark/internal/seeded"
)

// TestLoadBesideCommitsThatCannotBeSeen loads a table again and again while
// writers' commits wait for a standby that is not there: they stand in the log,
// and reach us, long before a query can see them.
func TestLoadBesideCommitsThatCannotBeSeen(t *testing.T) {
	t.Parallel()
	inRounds(t, loadBesideCommitsThatCannotBeSeen)
}

func loadBesideCommitsThatCannotBeSeen(t *testing.T, _ int) {
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
	random := seeded.Random(t, 1)
	go func() {
		defer releasing.Done()
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
	for range 3 {
		before := i.loads("circulation", "")
		for _, table := range []string{"copies", "loans", "shelves"} {
			i.must(http.MethodPost, "/v1/sources/circulation/tables/public."+table+"/reload", nil, nil)
		}
		i.eventually("all is loaded again", func() bool {
			if i.loads("circulation", "") < before+3 {
				return false
			}
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
	require.Len(t, ofTable(events, "public.copies", "loaded"), 2+3)
}

// TestLoadBesideWriters: tables are loaded again and again while others write to them, and while
// they are rewritten, moved in their file and given columns.
func TestLoadBesideWriters(t *testing.T) {
	t.Parallel()
	inRounds(t, func(t *testing.T, _ int) {
		d := drivenPostgres(t, sourceServer(t), stateServer(t), 3000, nil)
		underReloads(t, d, func(step int) {
			switch step % 10 {
			case 3:
				d.run("CHECKPOINT", "SELECT pg_switch_wal()")
			case 6:
				d.run("ALTER TABLE copies ADD COLUMN IF NOT EXISTS extra int")
			case 9:
				d.run("VACUUM FULL loans", "CLUSTER shelves USING shelves_pkey")
			}
		})
	})
}

// TestLoadOfRowsThatChangeTheirKeys loads a small table again and again while
// its rows take each other's keys and move in its file, and the log leaves the
// large value out that they all have.
func TestLoadOfRowsThatChangeTheirKeys(t *testing.T) {
	t.Parallel()
	inRounds(t, loadOfRowsThatChangeTheirKeys)
}

func loadOfRowsThatChangeTheirKeys(t *testing.T, _ int) {
	source := sourceServer(t)
	name := database(t, source, "postgres")
	dropSlotAtEnd(t, source)
	db := connect(t, source, name)
	run(t, db, "CREATE TABLE shelves (mark text PRIMARY KEY, essay text NOT NULL, visits integer NOT NULL DEFAULT 0, plan char(700) NOT NULL DEFAULT '')",
		"ALTER TABLE shelves ALTER COLUMN essay SET STORAGE EXTERNAL", "ALTER TABLE shelves ALTER COLUMN plan SET STORAGE PLAIN")
	run(t, db, "INSERT INTO shelves (mark, essay) SELECT 'm' || i, repeat(md5(i::text), 80) FROM generate_series(1, 300) i")
	i := newInstance(t, stateServer(t), "source:\n  chunk_bytes: 16384\n").start()
	// Between a piece's marks there is time for many changes, as from far away.
	way := startProxy(t, fmt.Sprintf("127.0.0.1:%d", source.Port))
	way.delay = 4 * time.Millisecond
	d := sourceDefinition(source, name)
	d["connection"].(map[string]any)["port"] = way.port()
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	i.resume()
	i.settled("circulation", db)

	var swaps []func(from, to string) error
	for range 2 {
		conn := connect(t, source, name)
		swaps = append(swaps, func(from, to string) error {
			_, err := conn.Exec(context.Background(), "UPDATE shelves SET mark = $2, visits = visits + 1 WHERE mark = $1 AND NOT EXISTS (SELECT FROM shelves WHERE mark = $2)", from, to)
			var refused *pgconn.PgError
			if errors.As(err, &refused) && refused.Code == "23505" {
				return nil // two rows that want the same key
			}
			return err
		})
	}
	changingKeys(t, i, "circulation", "public.shelves", swaps...)
	i.settled("circulation", db)
	f := newFold()
	events := i.journal("circulation")
	for _, e := range events {
		f.apply(e)
		if e.Data.Operation == "loaded" || !f.loaded["public.shelves"] || !e.Data.Transaction.Last {
			continue
		}
		for key, row := range f.tables["public.shelves"] {
			require.Contains(t, row, "essay", "at offset %d, %s", e.offset(), key)
		}
	}
	proveJournal(t, events).equals(t, db, "shelves")
}

// TestMariaDBLoadOfRowsThatChangeTheirKeys is the same on the other engine, where the keys are of a
// collation that takes several texts for one.
func TestMariaDBLoadOfRowsThatChangeTheirKeys(t *testing.T) {
	t.Parallel()
	inRounds(t, func(t *testing.T, _ int) {
		m := mariaServer(t, nil)
		name, db := mariaDatabase(t, m, "CREATE TABLE shelves (mark varchar(40) PRIMARY KEY, essay text NOT NULL, visits int NOT NULL DEFAULT 0)",
			"INSERT INTO shelves (mark, essay) SELECT concat('m', seq), repeat(md5(seq), 80) FROM seq_1_to_300")
		i := newInstance(t, stateServer(t), "source:\n  chunk_bytes: 16384\n").start()
		way := startProxy(t, fmt.Sprintf("127.0.0.1:%d", m.Port))
		way.delay = 4 * time.Millisecond
		stageOutlets(i, "catalogue", mariaSource(t, m, map[string]any{"match": name + ".*"}), way)
		i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
		i.mariaSettled("catalogue", db)
		swap := func(from, to string) error {
			_, err := db.ExecContext(context.Background(), "UPDATE IGNORE shelves SET mark = if(visits % 2, ?, upper(?)), visits = visits + 1 WHERE mark = ?", to, to, from)
			return err
		}
		changingKeys(t, i, "catalogue", name+".shelves", swap, swap)
		mariaProve(t, i, db, name, "shelves")
	})
}

// TestReloadsWhileAllGoesOn: a reload is taken on by the capture that runs. However
// often one is asked for, a large transaction gets into the journal, in one go.
func TestReloadsWhileAllGoesOn(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable, "INSERT INTO desk SELECT n, 'before' FROM generate_series(1, 2000) n")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	began := i.status().Sources[0].Since
	large := make(chan error, 1)
	other := connect(t, sourceServer(t), name)
	go func() {
		_, err := other.Exec(context.Background(), "INSERT INTO desk SELECT n, repeat('large', 20) FROM generate_series(10001, 25000) n")
		large <- err
	}()
	loads, done := 0, false
	for ; !done || loads < 4; loads++ {
		if loads%2 == 0 {
			i.must(http.MethodPost, "/v1/sources/circulation/tables/public.desk/reload", nil, nil)
		} else {
			i.must(http.MethodPost, "/v1/sources/circulation/tables/public.desk/reload", map[string]string{"where": "id < 100"}, nil)
		}
		i.eventually("it is loaded", func() bool {
			if i.loads("circulation", "public.desk") < 2+loads {
				return false
			}
			for _, table := range i.status().Sources[0].Tables {
				if table.State != "following" {
					return false
				}
			}
			return true
		})
		select {
		case err := <-large:
			require.NoError(t, err)
			done = true
		default:
		}
	}
	i.settled("circulation", db)
	require.Equal(t, began, i.status().Sources[0].Since, "capture has gone on all the time")
	events := i.journal("circulation")
	proveJournal(t, events).equals(t, db, "desk")
	require.Len(t, ofTable(events, "public.desk", "loaded"), 1+loads)
	code, raw, err := i.call(http.MethodPost, "/v1/sources/circulation/tables/public.nowhere/reload", nil)
	require.NoError(t, err)
	require.Equal(t, http.StatusNotFound, code, "%s", raw)
}

// TestARemovedOutletsLoad: a load for one outlet alone ends with the outlet, whatever it waits for and
// whichever instance is asked, in both engines, and the table goes on as before.
func TestARemovedOutletsLoad(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE copies (copy_id bigint PRIMARY KEY)", "INSERT INTO copies SELECT generate_series(1, 500)")
	db := connect(t, sourceServer(t), name)
	m := mariaServer(t, nil)
	database, maria := mariaDatabase(t, m, "CREATE TABLE copies (copy_id bigint PRIMARY KEY)", "INSERT INTO copies SELECT seq FROM seq_1_to_500")
	i.must(http.MethodPost, "/v1/sources/catalogue", mariaSource(t, m, map[string]any{"match": database + ".copies"}), nil)
	for _, source := range []string{"circulation", "catalogue"} {
		i.must(http.MethodPost, "/v1/sources/"+source+"/resume", nil, nil)
	}
	i.settled("circulation", db)
	state := func(source string) string {
		for _, s := range i.status().Sources {
			if s.Name == source {
				for _, table := range s.Tables {
					if strings.HasSuffix(table.Name, ".copies") {
						return table.State
					}
				}
			}
		}
		return ""
	}
	i.eventually("the catalogue is loaded", func() bool { return state("catalogue") == "following" })
	locked, err := maria.Conn(t.Context())
	require.NoError(t, err)
	defer locked.Close() //nolint:errcheck // it goes back to the pool
	_, err = locked.ExecContext(t.Context(), "LOCK TABLES copies WRITE")
	require.NoError(t, err)
	run(t, db, "BEGIN", "LOCK TABLE copies IN ACCESS EXCLUSIVE MODE")
	other := i.twin().start() // captures nothing, and has to ask the one that does
	for source, table := range map[string]string{"circulation": "public.copies", "catalogue": database + ".copies"} {
		i.must(http.MethodPost, "/v1/outlets/"+source, map[string]any{"source": source}, nil)
		i.must(http.MethodPost, "/v1/outlets/"+source+"/load", nil, nil)
		i.eventually("the load for the outlet waits", func() bool { return state(source) != "following" })
		asked := i
		if source == "catalogue" {
			asked = other
		}
		asked.must(http.MethodDelete, "/v1/outlets/"+source, nil, nil)
		i.eventually(table+" goes on as before", func() bool { return state(source) == "following" })
	}
	run(t, db, "COMMIT", "INSERT INTO copies VALUES (501)")
	_, err = locked.ExecContext(t.Context(), "UNLOCK TABLES")
	require.NoError(t, err)
	i.reached("circulation", db)
	proveJournal(t, i.journal("circulation")).equals(t, db, "copies")
	i.must(http.MethodPost, "/v1/outlets/circulation", map[string]any{"source": "circulation", "from": "load"}, nil)
	i.outletIs("circulation", "is loaded", func(o outletStatus) bool { return len(o.Loads) == 0 })
}

// TestDamagedTable: a table whose file is torn and one whose file is gone are not loaded,
// by name and with the server's words; the others are, and what is written to them goes on.
func TestDamagedTable(t *testing.T) {
	t.Parallel()
	source := ownServer(t, sourceSettings)
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	run(t, db, "CREATE TABLE torn (id integer PRIMARY KEY)", "CREATE TABLE missing (id integer PRIMARY KEY)", "CREATE TABLE whole (id integer PRIMARY KEY)",
		"INSERT INTO torn SELECT generate_series(1, 1000)", "INSERT INTO missing VALUES (1)", "INSERT INTO whole VALUES (1), (2)", "CHECKPOINT")
	file := func(table string) string {
		var path string
		require.NoError(t, db.QueryRow(t.Context(), "SELECT current_setting('data_directory') || '/' || pg_relation_filepath($1)", table).Scan(&path))
		return path
	}
	torn, missing := file("torn"), file("missing")
	source.Stop()
	page, err := os.OpenFile(torn, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = page.WriteAt(bytes.Repeat([]byte{0xA5}, 64), 0)
	require.NoError(t, errors.Join(err, page.Close(), os.Remove(missing)))
	require.NoError(t, source.Start(t.Context()))
	db = connect(t, source, name)
	i := newInstance(t, stateServer(t), "").start()
	i.must(http.MethodPost, "/v1/sources/circulation", sourceDefinition(source, name), nil)
	i.resume()
	i.eventually("the damaged tables are not loaded, and the other one is", func() bool {
		found := make(map[string]string)
		for _, table := range i.status().Sources[0].Tables {
			found[table.Name] = table.State
			if table.State == "not-loaded" {
				require.Contains(t, table.Note, map[string]string{"public.torn": "invalid page in block 0", "public.missing": "could not open file"}[table.Name])
				require.Contains(t, table.Note, "rillmark source reload")
				require.EqualValues(t, "unreadable", table.Cause)
			}
		}
		return found["public.torn"] == "not-loaded" && found["public.missing"] == "not-loaded" && found["public.whole"] == "following"
	})
	run(t, db, "TRUNCATE torn", "INSERT INTO torn VALUES (7)", "DELETE FROM whole WHERE id = 1")
	i.must(http.MethodPost, "/v1/sources/circulation/tables/public.torn/reload", nil, nil)
	i.eventually("the mended table follows", func() bool {
		for _, table := range i.status().Sources[0].Tables {
			if table.Name == "public.torn" {
				return table.State == "following"
			}
		}
		return false
	})
	i.reached("circulation", db)
	f := proveJournal(t, i.journal("circulation"))
	f.equals(t, db, "torn")
	f.equals(t, db, "whole")
}
