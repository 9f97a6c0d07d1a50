package test

import (
	"context"
	"fmt"
	"net/http"
	"os/exec"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestMoneyInTables has PostgreSQL's own benchmark move money, in transactions that touch
// four tables, and the definitions of all of them change meanwhile. Whoever reads the target
// in between sees the same sum in all four, through kills of the service and of the target.
func TestMoneyInTables(t *testing.T)  { money(t, "postgresql") }
func TestMoneyInMariaDB(t *testing.T) { money(t, "mariadb") }

func money(t *testing.T, engine string) {
	t.Parallel()
	inRounds(t, func(t *testing.T, round int) { moveMoney(t, round, engine) })
}

// moneySum is what the four tables say was moved, as differences to the first.
const moneySum = "SELECT (SELECT sum(tbalance) FROM now.pgbench_tellers) - b, (SELECT sum(abalance) FROM now.pgbench_accounts) - b, (SELECT coalesce(sum(delta), 0) FROM now.pgbench_history) - b FROM (SELECT sum(bbalance) AS b FROM now.pgbench_branches) q"

func moveMoney(t *testing.T, round int, engine string) {
	source, to := sourceServer(t), targetOf(t, engine)
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	said, err := exec.Command("pgbench", "-i", "-q", source.Address(name)).CombinedOutput()
	require.NoError(t, err, "%s", said)
	dropSlotAtEnd(t, source)
	i := newInstance(t, stateServer(t), killConfig).start()
	i.must(http.MethodPost, "/v1/sources/circulation", sourceDefinition(source, name), nil)
	s := &stage{instance: i, source: postgresSide(t, source, name)}
	s.keeps("current", to, map[string]any{"schema": "now", "offsets": to.database + ".outlets"}, map[string]any{"batch": map[string]any{"events": 50}})
	s.resume()
	i.settled("circulation", db)
	s.caughtUp("current")
	// The server locks the tables of a foreign key together when one of them is altered.
	to.run("ALTER TABLE now.pgbench_tellers ADD FOREIGN KEY (bid) REFERENCES now.pgbench_branches (bid)")
	watch := to.watchSums(t, moneySum, "0|0|0")
	busy, stop := context.WithCancel(t.Context())
	defer stop()
	bench := exec.CommandContext(busy, "pgbench", "-n", "-c", "3", "-R", "400", "-T", "900", source.Address(name))
	require.NoError(t, bench.Start())
	random := draws(t, round, 8)
	tables := []string{"pgbench_branches", "pgbench_tellers", "pgbench_accounts", "pgbench_history"}
	extra := make(map[string][]string)
	for n := range 24 {
		table := tables[random.IntN(len(tables))]
		var last string
		if names := extra[table]; len(names) > 0 {
			last = names[len(names)-1]
		}
		now := fmt.Sprint("extra_", n)
		set := func(column string) string {
			return fmt.Sprintf("UPDATE %s SET %s = %d WHERE ctid IN (SELECT ctid FROM %[1]s LIMIT 3)", table, column, n)
		}
		drawn := random.IntN(5)
		switch {
		case last == "" || drawn == 0:
			run(t, db, "ALTER TABLE "+table+" ADD COLUMN "+now+" integer")
			if table != "pgbench_history" { // it has no key
				run(t, db, set(now))
			}
			extra[table] = append(extra[table], now)
		case drawn == 1:
			run(t, db, "ALTER TABLE "+table+" RENAME COLUMN "+last+" TO "+now)
			extra[table][len(extra[table])-1] = now
		case drawn == 2:
			run(t, db, "ALTER TABLE "+table+" DROP COLUMN "+last)
			extra[table] = extra[table][:len(extra[table])-1]
		default: // in the middle of moving money, before its own table is touched
			table = "pgbench_tellers"
			run(t, db, fmt.Sprintf("BEGIN; LOCK TABLE pgbench_accounts, pgbench_tellers, pgbench_branches; UPDATE pgbench_branches SET bbalance = bbalance + 840 WHERE bid = 1; UPDATE pgbench_accounts SET abalance = abalance + 7 WHERE aid BETWEEN 100 AND 219; ALTER TABLE pgbench_tellers ADD COLUMN %s integer; "+
				"UPDATE pgbench_tellers SET tbalance = tbalance + 840, %[1]s = %d WHERE tid = 2; INSERT INTO pgbench_history VALUES (2, 1, 100, 840, now()); COMMIT", now, n))
			extra[table] = append(extra[table], now)
		}
		switch random.IntN(8) {
		case 0:
			s.stop(syscall.SIGKILL)
			s.start()
		case 1:
			to.kill()
			require.NoError(t, to.back())
		}
		s.progresses(int64(50 + random.IntN(400)))
	}
	stop()
	bench.Wait() //nolint:errcheck // it was ended
	i.settled("circulation", db)
	i.reached("circulation", db)
	s.caughtUp("current")
	watch.end()
	require.Positive(t, watch.read)
	require.Equal(t, []string{"0|0|0"}, to.digest(t, moneySum))
	require.NotEqual(t, []string{"0"}, to.digest(t, "SELECT count(*) FROM now.pgbench_history"))
	for table, columns := range map[string]string{tables[0]: "bid bbalance", tables[1]: "tid bid tbalance", tables[2]: "aid bid abalance", tables[3]: "tid bid aid delta mtime:time"} {
		for _, column := range extra[table] {
			columns += " " + column
		}
		want := s.source.digest(t, "SELECT "+s.source.list(columns)+" FROM "+table)
		sameRows(t, want, to.digest(t, "SELECT "+to.list(columns)+" FROM now."+table), table)
	}
}
