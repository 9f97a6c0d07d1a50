package test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestMariaDBLoadWithoutAKey: a table without a key is read in one snapshot while the log stands
// still. Statements on its definition and changes of its rows come at every moment of that, also
// between the snapshot and the first row that is read of it.
func TestMariaDBLoadWithoutAKey(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	const fill = "INSERT INTO gates (gate, passed) SELECT seq %% 7, seq + %d FROM seq_1_to_3000"
	i, name, db := mariaFollowed(t, m, "", "CREATE TABLE gates (gate int, passed int)", "CREATE TABLE gates_b LIKE gates", fmt.Sprintf(fill, 0))
	random := draws(t, 1, 6)
	for step := range 40 {
		i.call(http.MethodPost, "/v1/sources/catalogue/tables/"+name+".gates/reload", nil) //nolint:errcheck // it may be loading
		for range random.IntN(4) {
			mariaRun(t, db, "UPDATE gates SET passed = passed + 1 WHERE gate = 3 LIMIT 5")
		}
		mariaRun(t, db, []string{
			fmt.Sprintf("ALTER TABLE gates ADD COLUMN c%d int DEFAULT %d, ALGORITHM=INSTANT", step, step), "ALTER TABLE gates FORCE", "ALTER TABLE gates MODIFY passed bigint, ALGORITHM=COPY",
			"RENAME TABLE gates TO aside, gates_b TO gates, aside TO gates_b", "DELETE FROM gates WHERE gate = 5", "TRUNCATE gates", fmt.Sprintf(fill, step*10_000), "INSERT INTO gates (gate) VALUES (NULL)",
		}[random.IntN(8)])
	}
	i.must(http.MethodPost, "/v1/sources/catalogue/tables/"+name+".gates/reload", nil, nil)
	i.mariaSettled("catalogue", db)
	rows, loads := map[string]int{}, 0
	text := func(image map[string]string) string { return image["gate"] + " " + image["passed"] }
	for _, e := range ofTable(i.journal("catalogue"), name+".gates") {
		switch e.Data.Operation {
		case "void", "truncate":
			clear(rows)
		case "loaded":
			loads++
		}
		if e.Data.Before != nil {
			rows[text(texts(e.Data.Before))]--
		}
		if e.Data.After != nil {
			rows[text(texts(e.Data.After))]++
		}
	}
	require.Positive(t, loads) // how many is a matter of pace
	found, err := db.QueryContext(t.Context(), "SELECT coalesce(gate, 'null'), coalesce(passed, 'null') FROM gates")
	require.NoError(t, err)
	for found.Next() {
		var gate, passed string
		require.NoError(t, found.Scan(&gate, &passed))
		rows[gate+" "+passed]--
	}
	require.NoError(t, found.Err())
	var wrong []string
	for row, n := range rows {
		if n != 0 {
			wrong = append(wrong, fmt.Sprintf("%s: %d", row, n))
		}
	}
	require.Empty(t, wrong, strings.Join(wrong, ", "))
}
