package test

import (
	"fmt"
	"net/http"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/seeded"
)

// TestBothWays keeps tables of two databases equal that both are written to, each row on one of
// them: what comes from the other side is left out there, so that nothing goes round, while the
// service is killed.
func TestBothWays(t *testing.T)            { bothWays(t, "postgresql", "postgresql") }
func TestBothWaysWithMariaDB(t *testing.T) { bothWays(t, "mariadb", "postgresql") }

func bothWays(t *testing.T, one, other string) {
	t.Parallel()
	here, there := targetOf(t, one), targetOf(t, other)
	schemas := map[*side]string{here: "public", there: "far"}
	if one == "mariadb" {
		schemas[here] = here.database
	}
	define := "CREATE TABLE %s.members (member_id bigint PRIMARY KEY, name text, n bigint)"
	here.run(fmt.Sprintf(define, schemas[here]), "INSERT INTO members VALUES (1, 'a', 0), (2, 'b', 0)")
	there.run("CREATE SCHEMA far")
	i := newInstance(t, stateServer(t), killConfig).start()
	origins := map[*side]string{here: "4711", there: "to_" + there.database}
	if one == "postgresql" {
		origins[here] = "to_" + here.database
	}
	follows := func(name string, from, to *side, mode string, options map[string]any) {
		source := from.captured(schemas[from]+".members", mode)
		source["leave_out_origins"] = []string{"to_*", "4711"}
		i.must(http.MethodPost, "/v1/sources/"+name, source, nil)
		_, errs, code := i.cli("source", "resume", name, "--wait")
		require.Zero(t, code, errs)
		i.must(http.MethodPost, "/v1/destinations/"+name, to.at, nil)
		options["schema"], options["origin"] = schemas[to], origins[to]
		if to.engine == "mariadb" {
			options["offsets"] = to.database + ".outlets"
			to.run("GRANT BINLOG REPLAY ON *.* TO keeper")
		}
		i.must(http.MethodPost, "/v1/outlets/"+name, map[string]any{"source": name, "destination": name, to.engine: options, "retry": map[string]any{"first_wait": "20ms", "longest_wait": "300ms"}}, nil)
	}
	follows("out", here, there, "load-and-follow", map[string]any{})
	i.caughtUp("out")
	follows("back", there, here, "follow-only", map[string]any{"present": "keep", "definitions": "fixed"})
	var checks struct {
		Items []struct{ Name, Verdict, Found string }
	}
	i.must(http.MethodPost, "/v1/outlets/back/check", nil, &checks)
	for _, c := range checks.Items {
		require.NotEqual(t, "missing", c.Verdict, "%+v", c)
	}

	var writers sync.WaitGroup
	for n, side := range []*side{here, there} {
		random := seeded.Random(t, uint64(50+n))
		writers.Add(1)
		go func() {
			defer writers.Done()
			table := schemas[side] + ".members"
			for range 150 {
				id := 2*random.IntN(100) + 10 + n // each row is one side's
				for _, sql := range [][]string{{"UPDATE %[1]s SET n = n + 1 WHERE member_id = %[2]d"}, {"DELETE FROM %[1]s WHERE member_id = %[2]d"},
					{"DELETE FROM %[1]s WHERE member_id = %[2]d", "INSERT INTO %[1]s VALUES (%[2]d, 'new', 0)"}}[random.IntN(3)] {
					if _, err := side.rows(t.Context(), fmt.Sprintf(sql, table, id)); err != nil {
						t.Error(err)
					}
				}
			}
		}()
	}
	i.stop(syscall.SIGKILL)
	i.start()
	writers.Wait()
	last := map[*side]int{here: 1000, there: 1001}
	for side, id := range last {
		side.run(fmt.Sprintf("INSERT INTO %s.members VALUES (%d, 'last', 0)", schemas[side], id))
	}
	read := func(s, from *side) []string {
		return s.digest(t, "SELECT member_id, name, n FROM "+schemas[from]+".members")
	}
	i.eventually("both sides have the other's last row", func() bool {
		rows := func(s *side, id int) bool {
			found, err := s.rows(t.Context(), fmt.Sprintf("SELECT name FROM %s.members WHERE member_id = %d", schemas[s], id))
			return err == nil && len(found) == 1
		}
		return rows(here, 1001) && rows(there, 1000)
	})
	require.Greater(t, len(read(here, here)), 50)
	sameRows(t, read(here, here), read(there, there))
	for n, name := range []string{"out", "back"} {
		i.caughtUp(name)
		require.Zero(t, i.letters(name).Dead)
		captured := 0
		for _, e := range i.journal(name) {
			if e.Data.Operation == "schema" || len(e.Data.Key) == 0 || e.Data.Operation == "existing" {
				continue
			}
			var id int
			_, err := fmt.Sscan(string(e.Data.Key["member_id"]), &id)
			require.NoError(t, err)
			require.Equal(t, n, id%2, "what came from the other side is not captured: %s", e.raw)
			captured++
		}
		require.Greater(t, captured, 50)
	}
}

// TestAnOriginInUse: an outlet of another service that has the same name and the same origin waits
// for it, and ends nobody's session.
func TestAnOriginInUse(t *testing.T) {
	t.Parallel()
	to := targetOf(t, "postgresql")
	keeps := func(from *side, schema string) *instance {
		from.run("CREATE TABLE members (member_id bigint PRIMARY KEY)", "INSERT INTO members VALUES (1)")
		captured := schema
		if from.engine == "mariadb" {
			captured = from.database
		}
		i := newInstance(t, stateServer(t), "").start()
		i.must(http.MethodPost, "/v1/sources/members", from.captured(captured+".members", "load-and-follow"), nil)
		_, errs, code := i.cli("source", "resume", "members", "--wait")
		require.Zero(t, code, errs)
		i.must(http.MethodPost, "/v1/destinations/mirror", to.at, nil)
		i.must(http.MethodPost, "/v1/outlets/mirror", map[string]any{"source": "members", "destination": "mirror", "postgresql": map[string]any{"schema": "kept_" + schema, "origin": "mirror"}}, nil)
		return i
	}
	first := keeps(targetOf(t, "postgresql"), "public")
	first.caughtUp("mirror")
	session := to.digest(t, "SELECT pid FROM pg_stat_activity WHERE application_name = 'rillmark outlet mirror'")
	require.Len(t, session, 1)
	second := keeps(targetOf(t, "mariadb"), "maria")
	second.outletIs("mirror", "waits for the origin", func(o outletStatus) bool { return o.Phase == "waiting" && o.Code == "origin-in-use" })
	require.Contains(t, to.digest(t, "SELECT pid FROM pg_stat_activity WHERE application_name = 'rillmark outlet mirror'"), session[0])
	first.must(http.MethodPost, "/v1/outlets/mirror/pause", nil, nil)
	second.caughtUp("mirror")
	require.Equal(t, []string{"1"}, to.digest(t, "SELECT member_id FROM kept_maria.members"))
}
