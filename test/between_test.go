package test

import (
	"fmt"
	"slices"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
	"github.com/twmb/franz-go/pkg/kgo"
)

// TestKilledBetweenSendAndCommit kills the service at exactly that line, for
// every kind at once: the outlets' offsets are locked in the state database until
// all has arrived, and the sessions that wait to move them end with the service.
func TestKilledBetweenSendAndCommit(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "source: {heartbeat_every: 200ms}\n", "CREATE TABLE desk (id bigint PRIMARY KEY, note text)")
	db := connect(t, sourceServer(t), name)
	targets := []target{kafkaTarget(t), exactTarget(t), natsTarget(t), redisTarget(t), httpTarget(t), bucketTarget(t), fileTarget(t, i), columnarTarget(t, i, "avro"), columnarTarget(t, i, "parquet")}
	names := make([]string, len(targets))
	for n, one := range targets {
		names[n] = one.name
		i.add(one)
	}
	i.resume()
	i.settled("circulation", db)
	i.caughtUp(names...)

	state := connect(t, stateServer(t), i.stateDB)
	run(t, state, "BEGIN", "SELECT FROM rillmark.outlet_offset FOR UPDATE")
	run(t, db, "INSERT INTO desk SELECT n, 'sent twice' FROM generate_series(1, 20) n")
	i.reached("circulation", db)
	events := i.journal("circulation")
	want := ofTable(events, "public.desk", "insert")
	require.Len(t, want, 20)
	last := want[19].offset()
	for _, one := range targets[:5] {
		i.eventually(one.name+" has what was sent", func() bool {
			for _, a := range one.read() {
				if a.offset == last {
					return true
				}
			}
			return false
		})
	}
	i.killedBeforeCommit(state, 4)
	i.start()
	i.reached("circulation", db)
	i.caughtUp(names...)
	i.stop(syscall.SIGTERM) // files are closed
	i.start()
	i.caughtUp(names...)
	events = i.journal("circulation")
	repeats := make(map[string]int)
	for _, one := range targets {
		repeats[one.name] = complete(t, one, events)
	}
	t.Log(fmt.Sprint(repeats))
	for _, one := range []string{"kafka", "redis", "http"} {
		require.GreaterOrEqual(t, repeats[one], 20, "%s got again what was not committed", one)
	}
	require.Zero(t, repeats["nats"], "the server knows the ids")
}

// TestAnotherOutletsTransactionIsOpen: outlets that deliver exactly once share a
// topic of offsets, and behind an open transaction of one nothing can be read. The
// service, killed before it put on record what it had sent, waits for that one's
// end instead of sending again.
func TestAnotherOutletsTransactionIsOpen(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	one := exactTarget(t)
	i.add(one)
	i.resume()
	i.settled("circulation", db)
	i.caughtUp(one.name)

	brokers := one.destination["kafka"].(map[string]any)["brokers"].([]string)
	other, err := kgo.NewClient(kgo.SeedBrokers(brokers...), kgo.TransactionalID("another"), kgo.DefaultProduceTopic("rillmark.offsets"))
	require.NoError(t, err)
	defer other.Close()
	require.NoError(t, other.BeginTransaction())
	require.NoError(t, other.ProduceSync(t.Context(), kgo.StringRecord("{}")).FirstErr())

	state := connect(t, stateServer(t), i.stateDB)
	run(t, state, "BEGIN", "SELECT FROM rillmark.outlet_offset FOR UPDATE")
	run(t, db, "INSERT INTO desk SELECT n, 'sent once' FROM generate_series(1, 20) n")
	i.reached("circulation", db)
	want := ofTable(i.journal("circulation"), "public.desk", "insert")
	i.eventually("all has been sent", func() bool {
		return slices.ContainsFunc(one.read(), func(a arrival) bool { return a.offset == want[19].offset() })
	})
	i.killedBeforeCommit(state, 1)
	i.start()
	waiting := i.outletIs(one.name, "waits for the other's end", func(o outletStatus) bool { return o.Code == "offsets-open" })
	require.Contains(t, waiting.Error, "another outlet's transaction is open in the topic rillmark.offsets")
	require.NoError(t, other.EndTransaction(t.Context(), kgo.TryCommit))
	i.caughtUp(one.name)
	require.Zero(t, complete(t, one, i.journal("circulation")), "nothing is sent twice")
}

// killedBeforeCommit kills the service while outlets wait for their offsets, which
// state has locked: what they wanted to put on record is not.
func (i *instance) killedBeforeCommit(state *pgx.Conn, outlets int) {
	i.t.Helper()
	var waiting int
	admin := connect(i.t, stateServer(i.t), i.stateDB)
	i.eventually("outlets wait to commit", func() bool {
		return admin.QueryRow(i.t.Context(), "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock'").Scan(&waiting) == nil && waiting >= outlets
	})
	i.stop(syscall.SIGKILL)
	// A statement that waits goes on without its client; here it must not.
	run(i.t, admin, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND application_name LIKE 'rillmark%'")
	run(i.t, state, "ROLLBACK")
}
