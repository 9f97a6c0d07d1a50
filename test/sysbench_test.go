package test

import (
	"fmt"
	"net/http"
	"os/exec"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestSysbench has a load that is not ours on each engine while the service is killed: folded,
// the journal equals the tables. It is skipped where sysbench is not installed, which make
// soak sees to.
func TestSysbench(t *testing.T) {
	if _, err := exec.LookPath("sysbench"); err != nil {
		t.Skip("sysbench is not installed")
	}
	t.Parallel()
	t.Run("postgresql", func(t *testing.T) { inRounds(t, func(t *testing.T, round int) { sysbench(t, round, "postgresql") }) })
	t.Run("mariadb", func(t *testing.T) { inRounds(t, func(t *testing.T, round int) { sysbench(t, round, "mariadb") }) })
}

// sysbenchTime is how long one round of it runs.
const sysbenchTime = 20 * time.Second

func sysbench(t *testing.T, round int, engine string) {
	tables := []string{"sbtest1", "sbtest2", "sbtest3"}
	arguments := []string{"oltp_read_write", "--tables=3", "--table-size=3000", "--threads=4", "--skip-trx=off", "--db-ps-mode=auto", "--time=" + strconv.Itoa(int(sysbenchTime/time.Second))}
	var i *instance
	var settled func()
	var equal func(f *fold)
	if engine == "postgresql" {
		source := sourceServer(t)
		name := database(t, source, "postgres")
		db := connect(t, source, name)
		config := db.Config()
		arguments = append(arguments, "--db-driver=pgsql", "--pgsql-host="+config.Host, fmt.Sprintf("--pgsql-port=%d", config.Port), "--pgsql-user="+config.User, "--pgsql-password="+config.Password, "--pgsql-db="+name)
		dropSlotAtEnd(t, source)
		i = newInstance(t, stateServer(t), killConfig).start()
		i.must(http.MethodPost, "/v1/sources/circulation", sourceDefinition(source, name), nil)
		settled = func() { i.settled("circulation", db) }
		equal = func(f *fold) {
			for _, table := range tables {
				f.equals(t, db, table)
			}
		}
	} else {
		m := mariaServer(t, nil)
		name, db := mariaDatabase(t, m)
		password, err := m.Password()
		require.NoError(t, err)
		require.NoError(t, m.Login(t.Context(), "bench", "ALL ON "+name+".*"))
		arguments = append(arguments, "--db-driver=mysql", "--mysql-host=127.0.0.1", fmt.Sprintf("--mysql-port=%d", m.Port), "--mysql-user=bench", "--mysql-password="+password, "--mysql-db="+name)
		i = newInstance(t, stateServer(t), killConfig).start()
		i.must(http.MethodPost, "/v1/sources/circulation", mariaSource(t, m, map[string]any{"match": name + ".*"}), nil)
		settled = func() { i.mariaSettled("circulation", db) }
		equal = func(f *fold) {
			for _, table := range tables {
				f.mariaEquals(t, db, name, table)
			}
		}
	}
	out, err := exec.Command("sysbench", append(arguments, "prepare")...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	ended := make(chan error, 1)
	bench := exec.Command("sysbench", append(arguments, "run")...)
	require.NoError(t, bench.Start())
	go func() { ended <- bench.Wait() }()
	i.resume()
	random := draws(t, round, 31)
	for running := true; running; {
		select {
		case err := <-ended:
			require.NoError(t, err)
			running = false
		case <-time.After(time.Duration(200+random.IntN(2500)) * time.Millisecond):
			i.stop(syscall.SIGKILL)
			i.start()
		}
	}
	settled()
	f := proveJournal(t, i.journal("circulation"))
	equal(f)
}
