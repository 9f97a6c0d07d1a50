package test

import (
	"fmt"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestKilledBetweenSendAndCommit kills the service at exactly that line, for
// every kind at once: the outlets' offsets are locked in the state database until
// all has arrived, and the sessions that wait to move them end with the service.
func TestKilledBetweenSendAndCommit(t *testing.T) {
	i, name := begin(t, "http_inside: true\nsource: {heartbeat_every: 200ms}\n", "CREATE TABLE desk (id bigint PRIMARY KEY, note text)")
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
	var waiting int
	admin := connect(t, stateServer(t), i.stateDB)
	i.eventually("outlets wait to commit", func() bool {
		return admin.QueryRow(t.Context(), "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock'").Scan(&waiting) == nil && waiting >= 4
	})
	i.stop(syscall.SIGKILL)
	// A statement that waits goes on without its client; here it must not.
	run(t, admin, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND application_name LIKE 'rillmark%'")
	run(t, state, "ROLLBACK")
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
