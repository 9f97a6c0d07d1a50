package test

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/seeded"
	"rillmark/internal/service/explaining"
)

// TestWhatBecameOfEvents: what an outlet says of the events that it has read is what stands in
// the journal, in its destination and among its dead letters, however it shapes them.
func TestWhatBecameOfEvents(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (loan_id bigint PRIMARY KEY, days integer, note text)", "ALTER TABLE loans REPLICA IDENTITY FULL", "CREATE TABLE visits (visit_id bigint PRIMARY KEY)", "INSERT INTO loans SELECT n, n FROM generate_series(1, 50) n")
	db := connect(t, sourceServer(t), name)
	broker := launch(t, binary, "stand-in", "broker", "--listen", "$ADDR", "--folder", "$DIR")
	i.resume()
	i.settled("circulation", db)
	i.must(http.MethodPost, "/v1/destinations/hub", map[string]any{"kind": "kafka", "kafka": map[string]any{"brokers": []string{broker.address}, "create_topics": map[string]any{"partitions": 1}}}, nil)
	outlets := map[string]map[string]any{
		"inserts":  {"operations": []string{"insert"}},
		"pairs":    {"updates": "pair", "deletes": "both", "transactions": true},
		"chosen":   {"where": map[string]string{"loans": "days % 2 == 0"}, "tables": []string{"loans"}},
		"combined": {"changes": "combined", "batch": map[string]any{"every": "300ms"}},
		"rows":     {"format": "row"},
		"refused":  {"rows": []map[string]any{{"match": "public.loans", "new": []map[string]any{{"name": "rate", "is": "100 / days"}}}}},
	}
	names := make([]string, 0, len(outlets))
	for outlet, d := range outlets {
		d["source"], d["destination"], d["topic"] = "circulation", "hub", outlet+".all"
		i.must(http.MethodPost, "/v1/outlets/"+outlet, d, nil)
		names = append(names, outlet)
	}
	random := seeded.Random(t, 61)
	for n := range 300 {
		id := 1 + random.IntN(80)
		switch random.IntN(5) {
		case 0:
			run(t, db, fmt.Sprintf("INSERT INTO loans VALUES (%d, %d) ON CONFLICT DO NOTHING", id, random.IntN(6)))
		case 1:
			run(t, db, fmt.Sprintf("DELETE FROM loans WHERE loan_id = %d", id))
		case 2:
			run(t, db, fmt.Sprintf("INSERT INTO visits VALUES (%d)", n))
		default:
			run(t, db, fmt.Sprintf("UPDATE loans SET days = %d WHERE loan_id = %d", random.IntN(6), id))
		}
	}
	run(t, db, "TRUNCATE visits", "ALTER TABLE loans ADD COLUMN more text", "UPDATE loans SET more = 'x' WHERE days > 0")
	i.reached("circulation", db)
	i.caughtUp(names...)
	journaled := make(map[string]map[string]int64) // by table and operation
	all := int64(0)
	for _, e := range i.journal("circulation") {
		table := e.Data.Table
		if journaled[table] == nil {
			journaled[table] = make(map[string]int64)
		}
		journaled[table][e.Data.Operation]++
		all++
	}
	for outlet := range outlets {
		var f explaining.OutletFlow
		i.must(http.MethodGet, "/v1/outlets/"+outlet+"/flow", nil, &f)
		require.Equal(t, all, f.Passed, outlet)
		require.True(t, f.Total.Settled, "%s: %+v", outlet, f.Total)
		require.Equal(t, int64(len(records(t, broker.address, outlet+".all"))), f.Total.Messages, outlet)
		by := make(map[string]explaining.FlowLine)
		for _, line := range f.Tables {
			require.True(t, line.Settled, "%s: %+v", outlet, line)
			by[line.Table] = line
			require.Equal(t, journaled[line.Table], line.Reads, "%s of %s", line.Table, outlet)
		}
		loans := by["public.loans"]
		letters := i.letters(outlet)
		require.Equal(t, letters.Dead+letters.Behind, f.Total.Dead, outlet)
		require.Equal(t, f.Total.Dead, f.DeadNow)
		updates, deletes := journaled["public.loans"]["update"], journaled["public.loans"]["delete"]
		switch outlet {
		case "inserts":
			require.Equal(t, loans.Reads["insert"], loans.Messages)
			require.Equal(t, loans.Read-loans.Messages, loans.KeptBack)
		case "pairs":
			require.GreaterOrEqual(t, loans.Split, updates+deletes)
			require.Equal(t, updates, loans.Types["update.old"])
		case "chosen":
			require.Positive(t, loans.KeptBack)
			require.NotContains(t, by, "public.visits")
			require.Positive(t, f.Other)
		case "combined":
			require.Positive(t, loans.Merged)
			require.Less(t, loans.Messages, loans.Read)
		case "rows":
			require.Positive(t, loans.KeptBack, "a row cannot say that a definition has changed")
		case "refused":
			require.Positive(t, loans.Dead)
		}
		require.Positive(t, f.Sending+f.Shaping)
	}
	out, errs, code := i.cli("outlet", "flow", "refused")
	require.Zero(t, code, errs)
	require.Contains(t, out, "+ DEAD LETTERS")
	require.NotContains(t, out, "does not add up")
}
