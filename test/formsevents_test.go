package test

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/seeded"
)

// TestColumnsOfEvents: new columns that say something of the event that brought a row are, in
// tables of both engines, what a trigger in the source noted; comparing leaves them out.
func TestColumnsOfEvents(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (id int PRIMARY KEY, days int, fee numeric(6,2))", "ALTER TABLE loans REPLICA IDENTITY FULL",
		"CREATE TABLE noted (id int PRIMARY KEY, was int, grown numeric, did text, columns text)",
		`CREATE FUNCTION note() RETURNS trigger LANGUAGE plpgsql AS $$ DECLARE was int; grown numeric; columns text = ''; BEGIN
			IF TG_OP = 'UPDATE' THEN
				was = OLD.days; grown = NEW.fee - OLD.fee;
				columns = concat_ws(',', CASE WHEN OLD.days IS DISTINCT FROM NEW.days THEN 'days' END, CASE WHEN OLD.fee IS DISTINCT FROM NEW.fee THEN 'fee' END);
			END IF;
			DELETE FROM noted WHERE id = NEW.id;
			INSERT INTO noted VALUES (NEW.id, was, grown, lower(TG_OP), columns); RETURN NEW; END $$`,
		"CREATE TRIGGER noting AFTER INSERT OR UPDATE ON loans FOR EACH ROW EXECUTE FUNCTION note()")
	source := sourceServer(t)
	db := connect(t, source, name)
	edit(i, "sources", "circulation", func(d map[string]any) { d["tables"] = []map[string]any{{"match": "public.loans"}} })
	i.resume()
	i.settled("circulation", db)
	form := []map[string]any{{"match": "public.loans", "new": []map[string]any{{"name": "was", "is": "before.days"}, {"name": "grown", "is": "fee - before.fee"},
		{"name": "did", "is": "operation"}, {"name": "changes", "is": `operation == "update" ? changed.join(",") : ""`}, {"name": "at", "is": "transaction.committed_at", "type": "timestamp"}}}}
	into := database(t, source, "postgres")
	i.must(http.MethodPost, "/v1/destinations/noted", databaseAt(source, into), nil)
	i.must(http.MethodPost, "/v1/outlets/noted", map[string]any{"source": "circulation", "destination": "noted", "rows": form}, nil)
	m := mariaServer(t, nil)
	elsewhere, there := mariaDatabase(t, m)
	i.must(http.MethodPost, "/v1/destinations/elsewhere", mariaAt(t, m), nil)
	i.must(http.MethodPost, "/v1/outlets/elsewhere", map[string]any{"source": "circulation", "destination": "elsewhere", "mariadb": map[string]any{"schema": elsewhere}, "rows": form}, nil)
	i.must(http.MethodPost, "/v1/outlets/desk", map[string]any{"source": "circulation", "rows": form, "columns": "changed"}, nil)

	random := seeded.Random(t, 97)
	for range 40 {
		tx, err := db.Begin(t.Context())
		require.NoError(t, err)
		for range 1 + random.IntN(6) {
			id, days, fee := random.IntN(30), random.IntN(4), random.IntN(3)
			text := fmt.Sprintf("INSERT INTO loans VALUES (%d, nullif(%d, 0), nullif(%d, 0)) ON CONFLICT (id) DO UPDATE SET days = excluded.days, fee = excluded.fee", id, days, fee)
			if random.IntN(6) == 0 {
				text = fmt.Sprintf("DELETE FROM loans WHERE id = %d", id)
			}
			_, err = tx.Exec(t.Context(), text)
			require.NoError(t, err)
		}
		require.NoError(t, tx.Commit(t.Context()))
	}
	i.reached("circulation", db)
	want := digest(t, db, "SELECT l.id, n.was, n.grown, n.did, n.columns FROM loans l JOIN noted n USING (id)")
	require.NotEmpty(t, want)
	for _, outlet := range []string{"noted", "elsewhere"} {
		i.caughtUp(outlet)
		require.True(t, i.verified(outlet).Equal, outlet)
	}
	sameRows(t, want, digest(t, connect(t, source, into), "SELECT id, was, grown, did, changes FROM public.loans WHERE at > '2026-01-01'"), "in PostgreSQL")
	var rows, wrong int
	require.NoError(t, db.QueryRow(t.Context(), "SELECT count(*), count(*) FILTER (WHERE did = 'update' AND columns = '') FROM loans JOIN noted USING (id)").Scan(&rows, &wrong))
	var found, same int
	require.NoError(t, there.QueryRow("SELECT count(*), sum(did = 'update' AND changes = '') FROM loans WHERE at > '2026-01-01'").Scan(&found, &same))
	require.Equal(t, []int{rows, wrong}, []int{found, same}, "in MariaDB")

	events, _ := i.page("desk", 1000)
	updates := 0
	for _, raw := range events {
		e := parseEvent(t, raw)
		if e.Data.Operation != "update" {
			continue
		}
		updates++
		require.Contains(t, e.Data.After, "was", "it goes with every change: %s", raw)
		require.NotContains(t, e.Data.Before, "was", "the row before has none: %s", raw)
		require.Contains(t, e.Data.Changed, "was")
	}
	require.Positive(t, updates)
	out, errs, exit := i.cli("outlet", "preview", "desk", "--from", "1", "--limit", "5")
	require.Zero(t, exit, errs)
	require.Contains(t, out, "grown")
}
