package test

import (
	"fmt"
	"net/http"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestMariaDBLargeGroups: groups that are too large to be held, with parts that are taken
// back, a distributed one among them, are journaled block by block, through kills in their
// middle; a group that is rolled back leaves what its server kept of it.
func TestMariaDBLargeGroups(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	i, name, db := mariaKillStage(t, m, 1000)
	i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
	i.mariaSettled("catalogue", db)
	conn, err := db.Conn(t.Context())
	require.NoError(t, err)
	defer conn.Close() //nolint:errcheck // it goes back to the pool
	exec := func(statements ...string) {
		for _, s := range statements {
			_, err := conn.ExecContext(t.Context(), s)
			require.NoError(t, err, s)
		}
	}
	insert := func(from int) string {
		return fmt.Sprintf("INSERT INTO shelves SELECT concat('x', seq), repeat(md5(seq), 40), 1, NULL FROM seq_%d_to_%d", from, from+11_999)
	}
	random := draws(t, 1, 3)
	kill := func() {
		<-time.After(time.Duration(30+random.IntN(250)) * time.Millisecond)
		i.stop(syscall.SIGKILL)
		i.launch()
	}
	// Rows of a storage engine without transactions keep what is taken back in the log.
	exec("START TRANSACTION", insert(100_000), "SAVEPOINT s", insert(200_000), "UPDATE visits SET n = n + 1 WHERE id < 20", "ROLLBACK TO s", insert(300_000), "COMMIT")
	kill()
	exec("XA START 'large'", insert(400_000), "XA END 'large'", "XA PREPARE 'large'")
	kill()
	mariaRun(t, db, "UPDATE visits SET n = n + 5")
	exec("XA COMMIT 'large'")
	kill()
	exec("START TRANSACTION", insert(500_000), "UPDATE visits SET n = 7 WHERE id = 3", "ROLLBACK")
	exec("XA START 'gone'", insert(600_000), "XA END 'gone'", "XA PREPARE 'gone'")
	kill()
	exec("XA ROLLBACK 'gone'", "UPDATE shelves SET visits = visits + 1")
	kill()
	i.eventually("the service answers again", func() bool { return len(i.status().Sources) == 1 })
	events := mariaProve(t, i, db, name, "copies", "shelves", "visits")
	t.Logf("%d events", len(events))
}

// TestMariaDBBadConnection: the way to the server is cut, stalled and sliced while it is
// written to and its tables are loaded again.
func TestMariaDBBadConnection(t *testing.T) {
	t.Parallel()
	m, copies := mariaServer(t, nil), 3000
	way := startProxy(t, fmt.Sprintf("127.0.0.1:%d", m.Port))
	name, db := mariaDatabase(t, m, mariaFill(copies)...)
	i := newInstance(t, stateServer(t), killConfig).start()
	d := mariaSource(t, m, map[string]any{"match": name + ".*"})
	d["connection"].(map[string]any)["port"] = way.port()
	i.must(http.MethodPost, "/v1/sources/catalogue", d, nil)
	i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
	w := startMariaWriters(t, m, name, 2, copies)
	random := draws(t, 1, 11)
	for n := range 20 {
		<-time.After(time.Duration(50+random.IntN(300)) * time.Millisecond)
		switch n % 4 {
		case 0:
			way.cut()
		case 1:
			i.call(http.MethodPost, "/v1/sources/catalogue/tables/"+name+".copies/reload", nil) //nolint:errcheck // it may be starting
		case 2:
			way.sliced.Store(!way.sliced.Load())
		default:
			way.stalled.Store(true)
			<-time.After(200 * time.Millisecond)
			way.cut()
			way.stalled.Store(false)
		}
	}
	way.sliced.Store(false)
	w.end()
	mariaProve(t, i, db, name, "copies", "loans", "shelves", "visits")
}
