package test

import (
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestMariaDBRules: rules mean what they mean on the other engine: treatments, filters,
// images, keys, updates that touch nothing captured; and a statement's text is kept out
// where a value that is private may stand in it.
func TestMariaDBRules(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	database, db := mariaDatabase(t, m,
		"CREATE TABLE patrons (id int PRIMARY KEY, name varchar(40), email varchar(80), pin varchar(10), born date)",
		"CREATE TABLE loans (id int PRIMARY KEY, branch varchar(10), note varchar(20), seen int)",
		"CREATE TABLE visits (day date, branch varchar(10), n int)",
		"CREATE TABLE small (id int PRIMARY KEY, v varchar(20))",
		"INSERT INTO patrons VALUES (1, 'Ada', 'ada@library.example', '1234', '1990-01-01'), (2, 'Bo', NULL, '9', NULL)",
		"INSERT INTO loans VALUES (1, 'north', 'a', 0), (2, 'south', 'b', 0)",
		"INSERT INTO visits VALUES ('2026-01-01', 'north', 5)", "INSERT INTO small VALUES (1, 'x')")
	i := newInstance(t, stateServer(t), "").start()
	d := mariaSource(t, m,
		map[string]any{"match": database + ".patrons", "columns": []map[string]string{{"match": "email", "treat": "hash"}, {"match": "pin", "treat": "mask"}, {"match": "born", "treat": "drop"}}},
		map[string]any{"match": database + ".loans", "filter": "branch == 'north'", "image": "after", "skip_untouched": true, "columns": []map[string]string{{"match": "seen", "treat": "drop"}}},
		map[string]any{"match": database + ".visits", "key": []string{"day", "branch"}},
		map[string]any{"match": database + ".small", "image": "key"},
		map[string]any{"match": database + ".reached"})
	d["hash_key"], d["largest_value"] = "only for a test", 1<<20
	i.must(http.MethodPost, "/v1/sources/catalogue", d, nil)
	i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
	i.mariaSettled("catalogue", db)
	mariaRun(t, db, "INSERT INTO patrons VALUES (3, 'Cy', 'ada@library.example', '77', '1991-01-01')", "UPDATE patrons SET born = '1992-02-02' WHERE id = 1",
		"UPDATE loans SET seen = 1", "UPDATE loans SET branch = 'north' WHERE id = 2", "UPDATE loans SET branch = 'east' WHERE id = 1", "UPDATE loans SET note = 'c' WHERE id = 2", "INSERT INTO loans VALUES (3, 'west', 'd', 0)",
		"UPDATE visits SET n = 6", "UPDATE visits SET branch = 'south'", "UPDATE small SET v = 'y'",
		"ALTER TABLE patrons ADD COLUMN card bigint NULL COMMENT 'as 1234'", "ALTER TABLE small ADD COLUMN w int NULL")
	i.mariaReached("catalogue", db)
	var got []string
	for _, e := range i.journal("catalogue") {
		name := strings.TrimPrefix(e.Data.Table, database+".")
		if name == "reached" || e.Data.Operation == "void" || e.Data.Operation == "loaded" {
			continue
		}
		line := name + " " + e.Data.Operation
		for _, image := range []map[string]string{texts(e.Data.Before), texts(e.Data.After)} {
			line += " |"
			for _, column := range []string{"id", "name", "email", "pin", "born", "branch", "note", "seen", "n", "v"} {
				if v, there := image[column]; there {
					line += " " + v
				}
			}
		}
		if e.Data.Operation == "schema" {
			var s struct{ Statement string }
			require.NoError(t, jsonOf(e.Data.Schema, &s))
			line = name + " schema " + s.Statement
		}
		got = append(got, line)
	}
	hashed := ""
	for _, line := range got {
		if strings.HasPrefix(line, "patrons existing | | 1 ") {
			hashed = strings.Fields(line)[6]
		}
	}
	require.Len(t, strings.Trim(hashed, `"`), 64)
	for _, want := range []string{
		`patrons existing | | 1 "Ada" ` + hashed + ` "***"`, `patrons existing | | 2 "Bo" null "***"`, `patrons insert | | 3 "Cy" ` + hashed + ` "***"`, `patrons update | 1 "Ada" ` + hashed + ` "***" | 1 "Ada" ` + hashed + ` "***"`,
		`loans existing | | 1 "north" "a"`, `loans insert | | 2 "north" "b"`, `loans delete | 1 |`, `loans update | | 2 "north" "c"`,
		`visits existing | | "north" 5`, `visits update | "north" 5 | "north" 6`, `visits delete | "north" 6 |`, `visits insert | | "south" 6`,
		`small existing | | 1`, `small update | | 1`, "patrons schema ALTER TABLE",
	} {
		require.Contains(t, got, want)
	}
	all := strings.Join(got, "\n")
	for _, never := range []string{"library.example", "1990", "1234", "west", "east"} {
		require.NotContains(t, all, never)
	}
	loans := slices.DeleteFunc(slices.Clone(got), func(line string) bool {
		return !strings.HasPrefix(line, "loans ") || strings.HasPrefix(line, "loans schema")
	})
	require.Len(t, loans, 4, "what stays outside of the filter, or touches nothing that is captured, brings nothing")
}

// TestMariaDBStatementFormat: rows that are logged as a statement make the tables that it
// names stale, and so does a value that is too large.
func TestMariaDBStatementFormat(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, map[string]string{"max-allowed-packet": "64M"})
	i, database, db := mariaFollowed(t, m, "", "CREATE TABLE a (id int PRIMARY KEY, v longtext)", "CREATE TABLE b (id int PRIMARY KEY)", "INSERT INTO a VALUES (1, 'x')")
	state := func(table string) (string, string) {
		for _, s := range i.status().Sources[0].Tables {
			if s.Name == database+"."+table {
				return s.State, string(s.Cause)
			}
		}
		return "", ""
	}
	mariaRun(t, db, "SET STATEMENT binlog_format = 'STATEMENT' FOR UPDATE a SET v = 'y'")
	i.eventually("the table is stale", func() bool {
		was, cause := state("a")
		return was == "stale" && cause == "unlogged"
	})
	other, _ := state("b")
	require.Equal(t, "following", other)
	i.must(http.MethodPost, "/v1/sources/catalogue/tables/"+database+".a/reload", nil, nil)
	i.mariaSettled("catalogue", db)
	proveJournal(t, i.journal("catalogue")).mariaEquals(t, db, database, "a")
	mariaRun(t, db, "INSERT INTO a VALUES (2, repeat('x', 17 * 1024 * 1024))")
	i.eventually("the table is stale", func() bool {
		was, cause := state("a")
		return was == "stale" && cause == "value-too-large"
	})
	events := i.journal("catalogue")
	last := events[len(events)-1]
	require.Equal(t, "insert", last.Data.Operation)
	require.NotContains(t, last.Data.After, "v", "an omitted value is absent")
}
