package test

import (
	"fmt"
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
	d := drivenMariaDB(t, m, stateServer(t), 1000, nil)
	i, name, db := d.instance, d.database, mariaConnect(t, m, d.database)
	d.resumeSource()
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
	m := mariaServer(t, nil)
	way := startProxy(t, fmt.Sprintf("127.0.0.1:%d", m.Port))
	d := drivenMariaDB(t, m, stateServer(t), 3000, way)
	d.resumeSource()
	w := d.write(2)
	disturb(d.instance, way, draws(t, 1, 11), d.reload)
	w.end()
	d.proveAll(d.instance)
}
