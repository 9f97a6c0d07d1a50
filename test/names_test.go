package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestColumnsThatAFlatFormatCannotTellApart: names that the metadata has, that
// differ only in case or hold what a format cannot: every format goes on, no two
// columns of one name, and the service lives.
func TestColumnsThatAFlatFormatCannotTellApart(t *testing.T) {
	t.Parallel()
	odd := `CREATE TABLE odd (id integer PRIMARY KEY, "_offset" text, "_operation" text, "_inexact" text, "Name" text, name text, "a,b" text, "e` + "\n" + `mail" text, "x-y" text, x_y text, zebra text, apple text)`
	i, name := begin(t, "source: {heartbeat_every: 1h}\n", odd)
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	for _, format := range []string{"parquet", "avro"} {
		i.add(target{name: format, destination: map[string]any{"kind": "file", "file": map[string]any{"directory": format}},
			outlet: map[string]any{"format": format, "operations": []string{"insert"}, "file": map[string]any{"rotate_every": "1s"}}})
	}
	i.must(http.MethodPost, "/v1/outlets/rows", map[string]any{"source": "circulation", "format": "row", "operations": []string{"insert"}}, nil)
	run(t, db, "INSERT INTO odd VALUES (1, 'o', 'p', 'i', 'N', 'n', 'c', 'm', '-', '_', 'z', 'a')")
	i.reached("circulation", db)
	i.caughtUp("parquet", "avro")
	values := map[string]int{"o": 1, "p": 1, "i": 1, "N": 1, "n": 1, "c": 1, "m": 1, "-": 1, "_": 1, "z": 1, "a": 1}
	check := func(format string, row map[string]any) {
		t.Helper()
		found := make(map[string]int)
		for column, v := range row {
			if s, is := v.(string); is && s != "insert" && column != "_offset" && column != "_table" {
				found[s]++
			}
		}
		require.Equal(t, values, found, "%s: each value is there once, under a name of its own: %v", format, row)
		require.Equal(t, "insert", row["_operation"], format)
		require.Equal(t, "N", row["Name"], format)
		require.Equal(t, "_", row["x_y"], format)
	}
	for _, format := range []string{"parquet", "avro"} {
		files := manifest(t, filepath.Join(i.folder, "files", format), format)
		rows := npmReader(t, format, files)
		require.Len(t, rows, 1)
		check(format, rows[0])
		raw, err := os.ReadFile(files[0])
		require.NoError(t, err)
		// The schema stands at the end of a Parquet file, at an Avro file's beginning.
		at := func(column string) int { return strings.LastIndex(string(raw[max(0, len(raw)-4000):]), column) }
		if format == "avro" {
			at = func(column string) int { return strings.Index(string(raw), `"name":"`+column+`"`) }
		}
		require.Less(t, at("zebra"), at("apple"), "%s: columns stand as the table has them", format)
		require.Less(t, at("apple"), at("_operation"), "%s: then the metadata", format)
	}
	events, _ := i.page("rows", 10)
	require.Len(t, events, 1)
	var row map[string]any
	require.NoError(t, json.Unmarshal(events[0], &row))
	check("row", row)
	_, errs, code := i.cli("source", "show", "circulation")
	require.Zero(t, code, errs)
}

// TestTablesWhoseNamesLookAlike: names with dots, line feeds and slashes belong to
// one table each, in rules, events and files, and no private column escapes.
func TestTablesWhoseNamesLookAlike(t *testing.T) {
	t.Parallel()
	i, name := captured(t, "", []map[string]any{{"match": `a."b.c"`, "columns": []map[string]any{{"match": "e*mail", "treat": "mask"}}}, {"match": "*.*", "columns": []map[string]any{{"match": "*mail", "treat": "drop"}}}}, nil,
		`CREATE SCHEMA a`, `CREATE SCHEMA "a.b"`,
		`CREATE TABLE a."b.c" (id integer PRIMARY KEY, "e`+"\n"+`mail" text)`, `CREATE TABLE "a.b".c (id integer PRIMARY KEY, note text)`,
		`CREATE TABLE "x/y" (id integer PRIMARY KEY)`, `CREATE TABLE x_y (id integer PRIMARY KEY)`,
		`CREATE TABLE "line`+"\n"+`feed" (id integer PRIMARY KEY, "e`+"\n"+`mail" text)`,
		`INSERT INTO a."b.c" VALUES (1, 'early@secret.example')`, `INSERT INTO "a.b".c VALUES (1, 'early')`)
	db := connect(t, sourceServer(t), name)
	i.add(target{name: "archive", destination: map[string]any{"kind": "file", "file": map[string]any{"directory": "archive"}},
		outlet: map[string]any{"file": map[string]any{"name": "{table}/{outlet}.{run}.{first}"}}})
	run(t, db, `INSERT INTO a."b.c" VALUES (2, 'late@secret.example')`, `INSERT INTO "a.b".c VALUES (2, 'late')`, `INSERT INTO "x/y" VALUES (1)`, `INSERT INTO x_y VALUES (2)`,
		`INSERT INTO "line`+"\n"+`feed" VALUES (1, 'feed@secret.example')`)
	i.reached("circulation", db)
	events := i.journal("circulation")
	for table, want := range map[string]int{`a."b.c"`: 2, `"a.b".c`: 2, "public.x/y": 1, "public.x_y": 1, `public."line\nfeed"`: 1} {
		require.Len(t, ofTable(events, table, "existing", "insert"), want, table)
		var page struct{ Events []json.RawMessage }
		i.must(http.MethodGet, "/v1/sources/circulation/events?operation=insert&table="+strings.NewReplacer(`"`, "%22", `\`, "%5C", "/", "%2F").Replace(table), nil, &page)
		require.Len(t, page.Events, 1, "a pattern of that name chooses that table alone: %s", table)
	}
	i.caughtUp("archive")
	folders, err := os.ReadDir(filepath.Join(i.folder, "files", "archive"))
	require.NoError(t, err)
	seen := 0
	for _, f := range folders {
		if !f.IsDir() || strings.HasPrefix(f.Name(), "archive.") {
			continue
		}
		tables := make(map[string]bool)
		for _, e := range i.files(filepath.Join("archive", f.Name())) {
			tables[e.Data.Table] = true
		}
		require.Len(t, tables, 1, "%s: a file has the events of one table", f.Name())
		seen++
	}
	require.GreaterOrEqual(t, seen, 5)
	for _, e := range events {
		require.NotContains(t, string(e.raw), "secret.example")
	}
	for _, s := range i.status().Sources {
		for _, one := range s.Tables {
			require.Equal(t, "following", one.State, "%s: %s", one.Name, one.Note)
		}
	}
	// A rename of the one is not taken for the other.
	run(t, db, `UPDATE "a.b".c SET note = 'later' WHERE id = 2`)
	i.reached("circulation", db)
	changed := ofTable(i.journal("circulation"), `"a.b".c`, "update")
	require.Len(t, changed, 1)
	require.Equal(t, `"later"`, string(changed[0].Data.After["note"]))
}

// TestDocumentsThatAreNestedDeep: a document that PostgreSQL took goes through
// capture, journal, pages, leases, files, the client and a trial, however deep it is.
func TestDocumentsThatAreNestedDeep(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE deep (id integer PRIMARY KEY, doc json, docb jsonb, list json[])")
	db := connect(t, sourceServer(t), name)
	run(t, db, "SET max_stack_depth = '6MB'")
	i.add(fileTarget(t, i))
	i.must(http.MethodPost, "/v1/outlets/desk", map[string]any{"source": "circulation", "operations": []string{"insert", "existing"}}, nil)
	i.must(http.MethodPost, "/v1/outlets/shared", map[string]any{"source": "circulation", "operations": []string{"insert", "existing"}}, nil)
	const insert = "INSERT INTO deep SELECT %d, repeat('[ ', 12000)::text || repeat('] ', 12000), (repeat('{\"a\":', 6000) || 1 || repeat('}', 6000))::jsonb, ARRAY[(repeat('[', 11000) || repeat(']', 11000))::json]"
	cast := strings.Replace(insert, "::text || repeat('] ', 12000)", " || repeat('] ', 12000)", 1)
	cast = strings.Replace(cast, "repeat('[ ', 12000) || repeat('] ', 12000)", "(repeat('[ ', 12000) || repeat('] ', 12000))::json", 1)
	run(t, db, fmt.Sprintf(cast, 1))
	i.resume()
	i.settled("circulation", db)
	run(t, db, fmt.Sprintf(cast, 2), "INSERT INTO deep VALUES (3, '1', '1', NULL)")
	i.reached("circulation", db)
	flat := strings.Repeat("[", 12000) + strings.Repeat("]", 12000)
	status, raw, err := i.call(http.MethodGet, "/v1/outlets/desk/events?limit=10", nil)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, status)
	require.Equal(t, 2, strings.Count(string(raw), `"doc":`+flat+`,"docb":{"a":`), "both come whole, without the spaces between their parts")
	require.Regexp(t, `"passed":\d+,"committed":0}\s*$`, string(raw[len(raw)-60:]))
	status, raw, err = i.call(http.MethodPost, "/v1/outlets/shared/leases", map[string]any{"reader": "r"})
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, status)
	require.Contains(t, string(raw), `"doc":`+flat)
	require.Regexp(t, `"lease":"[0-9a-f]{32}"`, string(raw[len(raw)-200:]))
	out, errs, code := i.cli("read", "desk", "--json", "--commit")
	require.Zero(t, code, errs)
	require.Equal(t, 3, strings.Count(out, "\n"), "one event a line")
	out, errs, code = i.cli("read", "desk", "--from", "1")
	require.Zero(t, code, errs)
	require.Contains(t, out, "nested too deep to be shown in a line")
	i.caughtUp("archive")
	lines, err := filepath.Glob(filepath.Join(i.folder, "files", "archive", "*.ndjson*"))
	require.NoError(t, err)
	file, err := os.ReadFile(lines[0])
	require.NoError(t, err)
	require.Equal(t, 2, strings.Count(string(file), `"doc":`+flat))
	require.Empty(t, i.letters("archive").Items)
}
