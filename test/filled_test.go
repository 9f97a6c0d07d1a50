package test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestADefaultThatFillsRows: where the catalogue knows with what a new column has filled the rows
// that were there, its schema event says so, and nobody has to load them: folds, targets of both
// kinds in each of the three ways, forms and rows at an offset have the values. Where it is not
// known, the table is stale.
func TestADefaultThatFillsRows(t *testing.T) {
	t.Parallel()
	columns := []string{"tier text NOT NULL DEFAULT 'gold ''1'''", "n int DEFAULT 5", "big bigint DEFAULT 9007199254740993", "price numeric(8,2) DEFAULT 7.5", "at timestamptz DEFAULT now()", "day date DEFAULT '2026-12-01'",
		"raw bytea DEFAULT '\\x00ff'", "doc jsonb DEFAULT '{\"a\": [1, null]}'", "items int[] DEFAULT '{1,2}'", "words text[] DEFAULT '{\"a,b\",NULL}'", "yes boolean DEFAULT true", "d double precision DEFAULT 0.1", "u uuid DEFAULT '00000000-0000-0000-0000-000000000001'",
		"hidden text DEFAULT 'secret'", "hashed text DEFAULT 'secret'", "none text"}
	configured, _ := scratch(t)
	rules := []map[string]any{{"match": "public.drawn_much", "reload_up_to": 5}, {"match": "public.*", "columns": []map[string]any{{"match": "hidden", "treat": "mask"}, {"match": "hashed", "treat": "hash"}}}}
	i, name := captured(t, configured+"source:\n  refresh_every: 200ms\n", rules, map[string]any{"hash_key": "a key of the test's own, long enough"}, "CREATE TABLE loans (id int PRIMARY KEY, note text)", "INSERT INTO loans SELECT n, 'a' FROM generate_series(1, 20) n",
		"CREATE TABLE drawn (id int PRIMARY KEY)", "INSERT INTO drawn VALUES (1)", "CREATE TABLE drawn_much (id int PRIMARY KEY)", "INSERT INTO drawn_much SELECT generate_series(1, 20)")
	source := sourceServer(t)
	db := connect(t, source, name)
	s := &stage{instance: i, source: postgresSide(t, source, name)}
	targets := []*side{targetOf(t, "postgresql"), targetOf(t, "mariadb")}
	var outlets []string
	for _, to := range targets {
		for _, keep := range []string{"current", "flagged", "versions"} {
			outlets = append(outlets, to.engine+"-"+keep)
			s.keeps(outlets[len(outlets)-1], to, map[string]any{"schema": keep, "keep": keep, "offsets": to.database + "." + keep + "_outlets"}, map[string]any{"tables": []string{"public.loans"}})
		}
	}
	i.caughtUp(outlets...)
	run(t, db, "DELETE FROM loans WHERE id = 20")
	for n, c := range columns {
		run(t, db, "ALTER TABLE loans ADD COLUMN "+c)
		if n%4 == 0 {
			run(t, db, fmt.Sprintf("UPDATE loans SET note = 'touched' WHERE id = %d", n+1))
		}
		if n%5 == 0 {
			i.reached("circulation", db)
		}
	}
	run(t, db, "ALTER TABLE loans ALTER tier DROP DEFAULT", "INSERT INTO loans (id, tier) VALUES (100, 'new')", "ALTER TABLE drawn ADD COLUMN r double precision DEFAULT random()")
	i.eventually("a small table is loaded again", func() bool { return len(ofTable(i.journal("circulation"), "public.drawn", "loaded")) == 2 })
	for alter, says := range map[string]string{
		"ALTER TABLE loans ADD COLUMN tier2 text DEFAULT 'gold', ADD COLUMN hidden2 int": `rows that are there have "gold" in tier2: the schema event says so in filled, and nothing is loaded again`,
		"ALTER TABLE drawn ADD COLUMN r2 double precision DEFAULT random()":              "the table is loaded again, about 1 rows (reload_up_to is 100000)",
		"ALTER TABLE drawn_much ADD COLUMN r double precision DEFAULT random()":          "the table, about 20 rows, is stale until somebody reloads it (reload_up_to is 5)",
	} {
		out, errs, code := i.cli("schema", "impact", "circulation", "--sql", alter)
		require.Zero(t, code, out+errs)
		require.Contains(t, out, says)
	}
	run(t, db, "ALTER TABLE drawn_much ADD COLUMN r double precision DEFAULT random()")
	i.comesTo("public.drawn_much", "stale")
	i.reached("circulation", db)
	// A form comes late, and reads the same events.
	s.keeps("formed", targets[0], map[string]any{"schema": "formed", "offsets": targets[0].database + ".formed_outlets"}, map[string]any{"tables": []string{"public.loans"},
		"rows": []map[string]any{{"match": "public.loans", "columns": []map[string]any{{"match": "tier", "name": "level"}, {"match": "hidden", "treat": "drop"}}}}})
	outlets = append(outlets, "formed")
	i.caughtUp(outlets...)
	state, note := i.table("public.loans")
	require.Equal(t, "following", state, note)
	require.Empty(t, i.outletIs("formed", "runs", func(o outletStatus) bool { return o.Phase == "running" }).Incomplete)
	events := i.journal("circulation")
	require.Len(t, ofTable(events, "public.loans", "void"), 1, "it is loaded once")
	proveJournal(t, events)
	shown := "id note tier n big price at:zoned day raw:bytes doc:json yes u none"
	want := s.source.digest(t, "SELECT "+s.source.list(shown)+" FROM loans")
	for _, to := range targets {
		columns := shown
		if to.engine == "mariadb" {
			columns = strings.ReplaceAll(columns, " yes ", " if(yes,'t','f') ")
		}
		for keep, where := range map[string]string{"current": "", "flagged": " WHERE NOT _deleted", "versions": " WHERE _until = " + to.infinity() + " AND _operation <> 'delete'"} {
			got := to.digest(t, "SELECT "+to.list(columns)+" FROM "+keep+".loans"+where)
			if to.engine == "mariadb" { // whose documents keep their own white space
				for n := range got {
					got[n] = strings.ReplaceAll(got[n], ", ", ",")
				}
			}
			sameRows(t, want, got, "%s, %s", to.engine, keep)
		}
	}
	require.Equal(t, s.source.digest(t, "SELECT id, tier, n FROM loans"), targets[0].digest(t, "SELECT id, level, n FROM formed.loans"))
	hidden := targets[0].digest(t, "SELECT DISTINCT hidden FROM current.loans")
	require.False(t, slices.ContainsFunc(hidden, func(v string) bool { return strings.Contains(v, "secret") }), "%v", hidden)
	for _, e := range events {
		require.NotContains(t, string(e.raw), "secret")
	}
	_, errs, code := i.cli("rows", "circulation", "loans", "--where", "n == 5 && tier == \"gold '1'\"", "--count")
	require.Zero(t, code, errs)
	require.NotContains(t, errs, "not complete")
}
