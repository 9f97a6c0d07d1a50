package test

import (
	"fmt"
	"net/http"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestRowsThatEnterAnOutlet: the log leaves large values out of updates that do not touch them,
// and a database has never got the rows that a condition kept out until then. They are read
// from the source for that outlet, whichever way it keeps its rows.
func TestRowsThatEnterAnOutlet(t *testing.T) {
	t.Parallel()
	source := sourceServer(t)
	i, name := begin(t, "source:\n  chunk_bytes: 65536\n", "CREATE FUNCTION u(text) RETURNS uuid LANGUAGE sql AS $$ SELECT overlay(overlay(md5($1) PLACING '4' FROM 13) PLACING '8' FROM 17)::uuid $$", // MariaDB takes no others
		"CREATE TABLE essays (essay_id uuid PRIMARY KEY, shown boolean, body text, visits integer)", "ALTER TABLE essays ALTER body SET STORAGE EXTERNAL",
		"INSERT INTO essays SELECT u(n::text), n > 700, repeat(md5(n::text), 100), 0 FROM generate_series(1, 800) n")
	db := connect(t, source, name)
	i.resume()
	i.settled("circulation", db)
	from := postgresSide(t, source, name)
	targets := map[string]*side{"postgresql": targetOf(t, "postgresql"), "mariadb": targetOf(t, "mariadb")}
	s := &stage{instance: i}
	var outlets []string
	for engine, to := range targets {
		i.must(http.MethodPost, "/v1/destinations/"+engine, to.at, nil)
		for _, keep := range []string{"current", "flagged", "versions"} {
			outlet := engine + "-" + keep
			i.must(http.MethodPost, "/v1/outlets/"+outlet, map[string]any{"source": "circulation", "destination": engine, "tables": []string{"public.essays"}, "where": map[string]string{"public.essays": "shown"},
				engine: map[string]any{"schema": "kept_" + keep, "keep": keep, "offsets": to.database + "." + keep + "_outlets"}}, nil)
			outlets = append(outlets, outlet)
		}
	}
	s.caughtUp(outlets...)
	same := func(what string) {
		t.Helper()
		i.reached("circulation", db)
		want := from.digest(t, "SELECT essay_id, md5(body), visits FROM essays WHERE shown")
		slices.Sort(want)
		for engine, to := range targets {
			for keep, where := range map[string]string{"current": "", "flagged": " WHERE NOT _deleted", "versions": " WHERE _until = '" + map[string]string{"postgresql": "infinity", "mariadb": "9999-12-31 23:59:59.999999"}[engine] + "' AND _operation <> 'delete'"} {
				var have []string
				i.eventually(what+": "+engine+" has its rows, "+keep, func() bool {
					have = to.digest(t, "SELECT essay_id, md5(body), visits FROM kept_"+keep+".essays"+where)
					slices.Sort(have)
					return slices.Equal(want, have)
				}, func() string { return fmt.Sprint(len(want), " rows, and there ", len(have), lacking(want, have)) })
			}
		}
		for _, outlet := range outlets {
			require.Zero(t, i.letters(outlet).Dead, outlet)
		}
	}
	same("loaded")
	run(t, db, "UPDATE essays SET shown = true WHERE essay_id = u('1')")
	same("one by itself")
	run(t, db, "UPDATE essays SET shown = true, visits = 1 WHERE essay_id IN (SELECT u(n::text) FROM generate_series(2, 600) n)",
		"UPDATE essays SET essay_id = u('other'), shown = true WHERE essay_id = u('650')", "UPDATE essays SET visits = 7 WHERE essay_id = u('other')",
		"UPDATE essays SET essay_id = u('moved') WHERE essay_id = u('1')", "DELETE FROM essays WHERE essay_id = u('3')")
	same("many, and under other keys")
	// A row that leaves and comes back, in one transaction and in two.
	run(t, db, "BEGIN; UPDATE essays SET shown = false WHERE essay_id = u('5'); UPDATE essays SET shown = true, visits = 5 WHERE essay_id = u('5'); COMMIT",
		"UPDATE essays SET shown = false, body = repeat('other', 1000) WHERE essay_id = u('6')", "UPDATE essays SET shown = true WHERE essay_id = u('6')",
		"BEGIN; UPDATE essays SET shown = false WHERE essay_id = u('7'); UPDATE essays SET body = repeat('else', 1000) WHERE essay_id = u('7'); UPDATE essays SET shown = true, visits = 7 WHERE essay_id = u('7'); COMMIT")
	same("away and back")
	i.must(http.MethodPost, "/v1/sources/circulation/pause", nil, nil)
	run(t, db, "UPDATE essays SET shown = true, visits = 2 WHERE essay_id = u('690')", "UPDATE essays SET visits = 3 WHERE shown", "DELETE FROM essays WHERE essay_id = u('4')")
	i.resume()
	same("behind")
}

// lacking are the first of some lines that are not among others.
func lacking(want, have []string) []string {
	rest := slices.DeleteFunc(slices.Clone(want), func(line string) bool { return slices.Contains(have, line) })
	return rest[:min(len(rest), 5)]
}
