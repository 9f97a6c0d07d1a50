package test

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
	"rillmark/internal/testserver"
)

// TestALostStreamIsBegunAnewOnAPersonsWord breaks what cannot be gone on with, in
// every way but one (a restored copy has a test of its own): each is recognised
// and waits; a reset then loads anew in the journal's next generation, with
// offsets going on and the old events kept.
func TestALostStreamIsBegunAnewOnAPersonsWord(t *testing.T) {
	t.Parallel()
	source := ownServer(t, durable(sourceSettings))
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	run(t, db, "CREATE TABLE loans (id integer PRIMARY KEY, note text)", "INSERT INTO loans SELECT n, 'a' FROM generate_series(1, 50) n")
	state := stateServer(t)
	i := newInstance(t, state, "source:\n  heartbeat_every: 200ms\n  refresh_every: 200ms\n").start()
	i.must(http.MethodPost, "/v1/sources/circulation", sourceDefinition(source, name), nil)
	i.resume()
	i.settled("circulation", db)
	admin := connect(t, state, "postgres")
	moved := func(beyond string) {
		i.eventually("the slot has moved on", func() bool {
			var is bool
			return db.QueryRow(t.Context(), "SELECT confirmed_flush_lsn > $1::text::pg_lsn FROM pg_replication_slots", beyond).Scan(&is) == nil && is
		})
	}
	reconnect := func() *pgx.Conn { db = connect(t, source, name); return db }
	breaks := []struct {
		what, code string
		do         func()
	}{
		{"the slot is dropped", "slot-gone", func() {
			i.stop(syscall.SIGTERM)
			i.eventually("the server lets go of the slot", func() bool {
				_, err := db.Exec(t.Context(), "SELECT pg_drop_replication_slot('rillmark_circulation')")
				return err == nil
			})
			i.start()
		}},
		{"the publication is dropped under the stream", "publication-gone", func() {
			run(t, db, "DROP PUBLICATION rillmark_circulation", "INSERT INTO loans VALUES (1001, 'unpublished')", "CREATE PUBLICATION rillmark_circulation FOR TABLE loans")
		}},
		{"the slot is advanced", "slot-advanced", func() {
			i.stop(syscall.SIGTERM)
			run(t, db, "INSERT INTO loans VALUES (1002, 'passed over')", "SELECT pg_logical_emit_message(true, 'x', 'y')", "SELECT pg_replication_slot_advance('rillmark_circulation', pg_current_wal_lsn())")
			i.start()
		}},
		{"the state database is restored", "slot-advanced", func() {
			i.stop(syscall.SIGTERM)
			run(t, admin, "CREATE DATABASE backup TEMPLATE "+i.stateDB)
			i.start()
			i.eventually("it follows", func() bool { return i.status().Sources[0].Phase == "running" })
			run(t, db, "INSERT INTO loans VALUES (1003, 'after the backup')")
			i.reached("circulation", db)
			var at string
			require.NoError(t, db.QueryRow(t.Context(), "SELECT pg_current_wal_lsn()::text").Scan(&at))
			moved(at)
			i.stop(syscall.SIGTERM)
			run(t, admin, "DROP DATABASE "+i.stateDB, "ALTER DATABASE backup RENAME TO "+i.stateDB)
			i.start()
		}},
		{"the source has removed the log", "slot-lost", func() {
			i.stop(syscall.SIGTERM)
			run(t, db, "ALTER SYSTEM SET max_slot_wal_keep_size = '1MB'", "SELECT pg_reload_conf()")
			for range 6 {
				run(t, db, "INSERT INTO loans SELECT 2000 + max(id), 'b' FROM loans", "SELECT pg_switch_wal()", "CHECKPOINT")
			}
			run(t, db, "ALTER SYSTEM RESET max_slot_wal_keep_size", "SELECT pg_reload_conf()")
			i.start()
		}},
		{"the source is on another timeline", "other-timeline", func() {
			i.stop(syscall.SIGTERM)
			source.Stop()
			require.NoError(t, os.WriteFile(filepath.Join(source.Folder, "data", "standby.signal"), nil, 0o644))
			require.NoError(t, source.Start(context.Background()))
			run(t, reconnect(), "SELECT pg_promote()", "INSERT INTO loans VALUES (1004, 'promoted')")
			i.start()
		}},
	}
	generation := 1
	for _, one := range breaks {
		before := len(i.journal("circulation"))
		one.do()
		i.waits(one.code, "rillmark source reset")
		_, errs, code := i.cli("source", "reset", "circulation")
		require.Equal(t, 2, code, "it wants a word: %s", errs)
		out, errs, code := i.cli("source", "reset", "circulation", "--yes", "--reason", one.what)
		require.Zero(t, code, errs)
		require.Contains(t, out, "offset")
		i.settled("circulation", db)
		run(t, db, "UPDATE loans SET note = 'later' WHERE id % 7 = 0", "DELETE FROM loans WHERE id % 11 = 0")
		i.reached("circulation", db)
		events := i.journal("circulation")
		proveJournal(t, events).equals(t, db, "loans")
		if one.what != "the state database is restored" {
			require.Greater(t, len(events), before, "the old events are kept")
		}
		last := events[len(events)-1].ID
		next := i.status().Sources[0].Journal.Generation
		if one.code == "slot-advanced" {
			require.Greater(t, next, 400_000, "a restored state database must not number generations a second time: the clock does")
		} else {
			require.Equal(t, generation+1, next)
		}
		generation = next
		require.Contains(t, last, fmt.Sprintf("circulation/%d/", generation), one.what)
		require.Contains(t, events[0].ID, "circulation/1/", "an id is permanent")
	}
	var reasons int
	require.NoError(t, connect(t, state, i.stateDB).QueryRow(t.Context(), "SELECT count(*) FROM rillmark.journal_cut WHERE reason <> ''").Scan(&reasons))
	require.Equal(t, len(breaks), reasons, "each cut is on record")
}

// TestASourceFailsOver lets a standby take the source's place: it has the rows
// and not our slot, so that what came meanwhile cannot be known from its log.
func TestASourceFailsOver(t *testing.T) {
	t.Parallel()
	source := ownServer(t, durable(sourceSettings))
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	run(t, db, "CREATE TABLE loans (id integer PRIMARY KEY, note text)", "INSERT INTO loans SELECT n, 'a' FROM generate_series(1, 50) n")
	way := startProxy(t, fmt.Sprintf("127.0.0.1:%d", source.Port))
	i := newInstance(t, stateServer(t), "source:\n  heartbeat_every: 200ms\n").start()
	d := sourceDefinition(source, name)
	d["connection"].(map[string]any)["port"] = way.port()
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	i.resume()
	i.settled("circulation", db)

	standby := &demo.Cluster{Folder: source.Folder + "-standby", Port: testserver.FreePort(), Settings: source.Settings}
	data := filepath.Join(standby.Folder, "data")
	require.NoError(t, os.MkdirAll(data, 0o700))
	require.NoError(t, os.Chmod(standby.Folder, 0o755))
	owner, err := os.Stat(filepath.Join(source.Folder, "data"))
	require.NoError(t, err)
	who := owner.Sys().(*syscall.Stat_t)
	require.NoError(t, os.Chown(data, int(who.Uid), int(who.Gid)))
	password, err := os.ReadFile(source.PasswordFile())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(standby.PasswordFile(), password, 0o600))
	copying := exec.Command("/usr/lib/postgresql/15/bin/pg_basebackup", "-D", data, "-R", "-X", "stream", "-c", "fast", "-h", "127.0.0.1", "-p", fmt.Sprint(source.Port), "-U", "postgres")
	copying.Env, copying.Dir = append(os.Environ(), "PGPASSWORD="+strings.TrimSpace(string(password))), data
	if os.Getuid() == 0 {
		copying.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: who.Uid, Gid: who.Gid}}
	}
	out, err := copying.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, standby.Start(t.Context()))
	t.Cleanup(standby.Stop)
	run(t, db, "INSERT INTO loans VALUES (51, 'seen by both')")
	i.reached("circulation", db)
	before := len(i.journal("circulation"))
	db = connect(t, standby, name)
	i.eventually("the standby has caught up", func() bool {
		var there bool
		return db.QueryRow(t.Context(), "SELECT EXISTS (SELECT FROM loans WHERE id = 51)").Scan(&there) == nil && there
	})

	source.Kill()
	run(t, db, "SELECT pg_promote()", "DELETE FROM loans WHERE id <= 10", "INSERT INTO loans VALUES (52, 'on the new primary')")
	way.turn(fmt.Sprintf("127.0.0.1:%d", standby.Port))
	i.waits("other-timeline", "rillmark source reset")
	require.Len(t, i.journal("circulation"), before, "nothing is taken from a log that may not go on from ours")
	_, errs, code := i.cli("source", "reset", "circulation", "--yes", "--reason", "the standby has taken over")
	require.Zero(t, code, errs)
	i.settled("circulation", db)
	run(t, db, "UPDATE loans SET note = 'later' WHERE id % 7 = 0")
	i.reached("circulation", db)
	proveJournal(t, i.journal("circulation")).equals(t, db, "loans")
}
