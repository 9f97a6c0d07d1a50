package test

import (
	"fmt"
	"maps"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/seeded"
)

// TestMariaDBAnotherReader: each transaction has the events that another reader of the log finds
// in it, by table and operation, in their order.
func TestMariaDBAnotherReader(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, map[string]string{"log-bin-compress": "1", "log-bin-compress-min-len": "10"})
	tables := []string{"loans", "holds", "archive"}
	statements := []string{"CREATE TABLE archive (id bigint PRIMARY KEY, note text) ENGINE = MyISAM"}
	for _, table := range tables[:2] {
		statements = append(statements, "CREATE TABLE "+table+" (id bigint PRIMARY KEY, note text, branch int)")
	}
	i, database, db := mariaFollowed(t, m, "", statements...)
	random := seeded.Random(t, 21)
	for n := range 300 {
		begun, err := db.BeginTx(t.Context(), nil)
		require.NoError(t, err)
		for range 1 + random.IntN(5) {
			table, id := tables[random.IntN(len(tables))], random.IntN(40)
			statement := []string{
				fmt.Sprintf("INSERT INTO %s (id, note) VALUES (%d, 'lent'), (%d, repeat('x', %d)) ON DUPLICATE KEY UPDATE note = concat('again ', VALUES(note))", table, id, id+40, random.IntN(3000)),
				fmt.Sprintf("REPLACE INTO %s (id, note) VALUES (%d, 'put')", table, id), fmt.Sprintf("UPDATE %s SET note = concat(note, '.') WHERE id BETWEEN %d AND %d", table, id, id+6),
				fmt.Sprintf("UPDATE %s SET id = id + 1000 WHERE id = %d", table, id), fmt.Sprintf("DELETE FROM %s WHERE id > %d", table, 1000), fmt.Sprintf("DELETE a, b FROM loans a JOIN holds b USING (id) WHERE a.id = %d", id),
				"SAVEPOINT here", "ROLLBACK TO here",
			}[random.IntN(8)]
			if _, err := begun.ExecContext(t.Context(), statement); err != nil {
				require.Regexp(t, "1305|1062|1213", err.Error(), statement) // no savepoint, or a key that is there
			}
		}
		if random.IntN(6) == 0 {
			require.NoError(t, begun.Rollback())
		} else {
			require.NoError(t, begun.Commit())
		}
		if n == 150 || random.IntN(60) == 0 {
			mariaRun(t, db, "FLUSH BINARY LOGS")
		}
	}
	i.mariaReached("catalogue", db)

	ours := make(map[string][]string)
	for _, e := range i.journal("catalogue") {
		operation := e.Data.Operation
		if e.Data.Rekeyed != nil { // a changed key is two events, and one row of the log
			if operation == "delete" {
				continue
			}
			operation = "update"
		}
		if operation == "insert" || operation == "update" || operation == "delete" {
			ours[e.Data.Transaction.ID] = append(ours[e.Data.Transaction.ID], operation+" "+e.Data.Table)
		}
	}
	files, err := filepath.Glob(filepath.Join(m.Folder, "data", "binlog.0*"))
	require.NoError(t, err)
	require.Greater(t, len(files), 1)
	out, err := exec.Command("mariadb-binlog", append([]string{"--base64-output=decode-rows", "--verbose"}, files...)...).Output()
	require.NoError(t, err)
	theirs := make(map[string][]string)
	group, row := regexp.MustCompile(`\sGTID (\d+-\d+-\d+)`), regexp.MustCompile("^### (INSERT INTO|UPDATE|DELETE FROM) `(.+)`\\.`(.+)`$")
	id, here := "", 0
	for _, line := range strings.Split(string(out), "\n") {
		switch line {
		case "ROLLBACK": // what a transaction with other tables beside those of MyISAM has taken back
			delete(theirs, id)
		case "SAVEPOINT `here`":
			here = len(theirs[id])
		case "ROLLBACK TO `here`":
			theirs[id] = theirs[id][:here]
		}
		if found := group.FindStringSubmatch(line); found != nil {
			id = found[1]
		} else if found := row.FindStringSubmatch(line); found != nil && found[2] == database {
			operation := strings.ToLower(strings.Fields(found[1])[0])
			theirs[id] = append(theirs[id], operation+" "+found[2]+"."+found[3])
		}
	}
	maps.DeleteFunc(theirs, func(_ string, rows []string) bool { return len(rows) == 0 })
	require.Greater(t, len(theirs), 200)
	require.Equal(t, theirs, ours)
}
