package test

import (
	"context"
	"fmt"
	"net/http"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"rillmark/internal/seeded"
)

// TestManySmallTables loads a few hundred tables at once, of no rows, of some, and of more
// than a piece has, beside writers: one is being altered while the load begins, one is
// dropped, one has no key, one shows the login not all of its rows. Each table is as the
// source has it, and no table holds up the others.
func TestManySmallTables(t *testing.T) {
	t.Parallel()
	inRounds(t, func(t *testing.T, round int) {
		random := seeded.Random(t, uint64(round))
		const many = 120
		i, name := begin(t, "source: {heartbeat_every: 200ms, refresh_every: 200ms}\n")
		db := connect(t, sourceServer(t), name)
		rows := make([]int, many)
		for n := range rows {
			rows[n] = []int{0, 1, 7, 40, 2500}[random.IntN(5)]
			key := "PRIMARY KEY"
			if n == 5 {
				key = "NOT NULL"
			}
			run(t, db, fmt.Sprintf("CREATE TABLE shelf_%03d (id integer %s, note text, large text)", n, key),
				fmt.Sprintf("INSERT INTO shelf_%03d SELECT k, 'there', repeat('x', (k %% 5) * 10) FROM generate_series(1, %d) k", n, rows[n]))
		}
		run(t, db, "CREATE TABLE hidden (id integer PRIMARY KEY)", "ALTER TABLE hidden ENABLE ROW LEVEL SECURITY")

		// The slot is made first: that waits for every transaction that is open.
		run(t, db, "CREATE TABLE first (id integer PRIMARY KEY)")
		d := sourceDefinition(sourceServer(t), name)
		d["tables"] = []map[string]any{{"match": "first"}}
		i.must(http.MethodDelete, "/v1/sources/circulation?forget=true", nil, nil)
		i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
		i.resume()
		i.comesTo("public.first", "following")

		// A table that is being altered cannot be published or read until that is over.
		altering, err := connect(t, sourceServer(t), name).Begin(t.Context())
		require.NoError(t, err)
		_, err = altering.Exec(t.Context(), "LOCK TABLE shelf_010 IN ACCESS EXCLUSIVE MODE")
		require.NoError(t, err)

		ctx, stop := context.WithCancel(context.Background())
		var writing sync.WaitGroup
		defer func() {
			stop()
			writing.Wait()
		}()
		for n := range 3 {
			draws := seeded.Random(t, uint64(100+n))
			conn := connect(t, sourceServer(t), name)
			writing.Go(func() {
				for ctx.Err() == nil {
					table, id := draws.IntN(many), 1+draws.IntN(50)
					if table == 10 || table == 20 || table == 5 {
						continue
					}
					sql := []string{"INSERT INTO shelf_%03d VALUES (%d, 'new', NULL) ON CONFLICT DO NOTHING", "UPDATE shelf_%03d SET note = note || '.' WHERE id = %d",
						"DELETE FROM shelf_%03d WHERE id = %d", "UPDATE shelf_%03d SET id = id + 10000 WHERE id = %d AND NOT EXISTS (SELECT FROM shelf_%[1]03d WHERE id = %[2]d + 10000)"}[draws.IntN(4)]
					conn.Exec(context.Background(), fmt.Sprintf(sql, table, id)) //nolint:errcheck // two of them may meet
				}
			})
		}
		d["tables"] = []map[string]any{{"match": "public.*"}}
		code, raw, err := i.call(http.MethodPut, "/v1/sources/circulation", d, "If-Match", `"1"`)
		require.NoError(t, err)
		require.Equal(t, http.StatusOK, code, "%s", raw)
		i.comesTo("public.shelf_119", "following")
		run(t, db, "DROP TABLE shelf_020")
		state, _ := i.table("public.shelf_010")
		require.Contains(t, []string{"new", "to-load", "loading", "unpublished"}, state, "it waits for the lock")
		_, err = altering.Exec(t.Context(), "ALTER TABLE shelf_010 ADD COLUMN added integer")
		require.NoError(t, err)
		require.NoError(t, altering.Commit(t.Context()))
		i.eventually("all is loaded", func() bool {
			for _, table := range i.status().Sources[0].Tables {
				if table.State != "following" && table.Name != "public.shelf_020" {
					return false
				}
			}
			return true
		})
		stop()
		writing.Wait()
		i.reached("circulation", db)
		events := i.journal("circulation")
		f := proveJournal(t, events)
		for n := range rows {
			if n != 20 && n != 5 {
				f.equals(t, db, fmt.Sprintf("shelf_%03d", n))
			}
		}
		require.Len(t, ofTable(events, "public.shelf_005", "existing"), rows[5], "a table without a key is read as a whole")
		state, _ = i.table("public.shelf_020")
		require.Equal(t, "gone", state)
		var published int
		require.NoError(t, db.QueryRow(t.Context(), "SELECT count(*) FROM pg_publication_tables", pgx.QueryExecModeExec).Scan(&published))
		require.Equal(t, many+1, published, "all but the dropped one, and two more")
	})
}
