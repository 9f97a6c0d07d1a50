package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
)

// impactOf is what tests want of what a statement would do.
type impactOf struct {
	Table, Verdict string
	Changes        []string
	Outlets        []struct {
		Outlet, Verdict string
		Findings        []struct{ Verdict, Says string }
		Statements      []string
	}
}

// TestSchemaImpact: what is said of a statement beforehand is what then happens: in the schema
// event's words, at outlets with conditions, with forms of rows, with a schema registry, and in the
// tables of a target.
func TestSchemaImpact(t *testing.T) {
	t.Parallel()
	statements := []struct{ does, then string }{
		{"ADD COLUMN more text", ""},
		{"ADD COLUMN more integer NOT NULL DEFAULT 7", ""},
		{"ADD COLUMN more mood DEFAULT 'worn'", ""},
		{"DROP COLUMN card", ""},
		{"DROP COLUMN branch", ""},
		{"DROP COLUMN note", ""},
		{"DROP COLUMN pin", ""},
		{"DROP COLUMN pin, ADD COLUMN code text", ""},
		{"DROP COLUMN card, ADD COLUMN card text", ""},
		{"RENAME COLUMN branch TO branch_id", ""},
		{"RENAME COLUMN note TO remark", ""},
		{"RENAME COLUMN pin TO code", ""},
		{"RENAME COLUMN card TO \"the Card\"", ""},
		{"ALTER COLUMN branch TYPE bigint", ""},
		{"ALTER COLUMN branch TYPE text", ""},
		{"ALTER COLUMN fee TYPE double precision", ""},
		{"ALTER COLUMN card TYPE varchar(80)", ""},
		{"ALTER COLUMN state TYPE text", ""},
		{"ALTER COLUMN note DROP NOT NULL", ""},
		{"ALTER COLUMN branch SET NOT NULL", ""},
		{"ALTER COLUMN twice DROP EXPRESSION", ""},
		{"ALTER COLUMN card SET DEFAULT 'none'", ""},
		{"DROP CONSTRAINT %[1]s_pkey", "INSERT INTO %[1]s (id, branch, note) VALUES (2, 1, 'two')"},
		{"DROP CONSTRAINT %[1]s_pkey, ADD PRIMARY KEY (id, note)", ""},
		{"ADD CONSTRAINT positive CHECK (id > 0)", ""},
		{"ADD COLUMN more timestamptz DEFAULT now()", ""},
		{"ADD COLUMN more text[]", ""},
		{"ADD COLUMN more integer GENERATED ALWAYS AS (branch + 1) STORED", ""},
		{"DROP COLUMN twice", ""},
		{"RENAME COLUMN id TO number", "UPDATE %[1]s SET number = number"},
		{"ALTER COLUMN card TYPE text", ""},
		{"ALTER COLUMN fee TYPE numeric(10,2)", ""},
		{"ALTER COLUMN state TYPE text USING upper(state::text)", ""},
		{"ALTER COLUMN note SET STORAGE EXTERNAL", ""},
		{"SET (fillfactor = 70)", ""},
		{"RENAME TO %[1]s_now", "UPDATE %[1]s_now SET id = id"},
	}
	setUp := []string{"CREATE TYPE mood AS ENUM ('fine', 'worn')", "CREATE DOMAIN amount AS numeric(8,2)"}
	name := func(n int) string { return fmt.Sprintf("t%d", n) }
	for n := range statements {
		setUp = append(setUp, fmt.Sprintf("CREATE TABLE %s (id bigint PRIMARY KEY, branch integer, note text NOT NULL, fee amount, state mood, pin text, card varchar(40), twice bigint GENERATED ALWAYS AS (id * 2) STORED)", name(n)),
			fmt.Sprintf("INSERT INTO %s VALUES (1, 1, 'one', 2.5, 'fine', '1234', 'card 1')", name(n)))
	}
	configured, address := scratch(t)
	i, at := begin(t, configured+"source:\n  refresh_every: 200ms\n", setUp...)
	source := sourceServer(t)
	db := connect(t, source, at)
	into := database(t, source, "postgres")
	target := connect(t, source, into)
	k := kafkaTarget(t)
	schemas := launch(t, binary, "stand-in", "registry", "--backward", "--listen", "$ADDR")
	i.resume()
	i.settled("circulation", db)
	i.must(http.MethodPost, "/v1/destinations/tables", databaseAt(source, into), nil)
	i.must(http.MethodPost, "/v1/destinations/hub", k.destination, nil)
	i.must(http.MethodPost, "/v1/outlets/tables", map[string]any{"source": "circulation", "destination": "tables"}, nil)
	kinds := []string{"plain", "where", "form", "avro"}
	for n := range statements {
		for _, kind := range kinds {
			d := map[string]any{"source": "circulation", "tables": []string{name(n)}, "from": "now"}
			switch kind {
			case "where":
				d["where"] = map[string]any{name(n): "branch == 1 || fee > 2.0"}
			case "form":
				d["rows"] = []map[string]any{{"match": name(n), "columns": []map[string]any{{"match": "pin", "treat": "drop"}}, "new": []map[string]any{{"name": "both", "is": "note + '!'"}}}}
			case "avro":
				d["destination"], d["topic"], d["format"], d["from"] = "hub", name(n), "avro", "beginning"
				d["avro"] = map[string]any{"framing": "registry", "registry": "http://" + schemas.address}
			}
			i.must(http.MethodPost, fmt.Sprintf("/v1/outlets/%s%d", kind, n), d, nil)
		}
	}
	avro := make([]string, len(statements))
	for n := range statements {
		avro[n] = fmt.Sprintf("avro%d", n)
	}
	i.caughtUp(append(avro, "tables")...)

	said := make([]impactOf, len(statements))
	run(t, target, "CREATE SCHEMA planned")
	for n, s := range statements {
		sql := fmt.Sprintf("ALTER TABLE %s %s", name(n), strings.ReplaceAll(s.does, "%[1]s", name(n)))
		statements[n].does = sql
		i.must(http.MethodPost, "/v1/sources/circulation/impact", map[string]any{"sql": sql}, &said[n])
		run(t, target, fmt.Sprintf("CREATE TABLE planned.%s (LIKE public.%[1]s INCLUDING ALL)", name(n)))
		for _, one := range verdictOf(t, &said[n], "tables").Statements {
			run(t, target, strings.ReplaceAll(one, `"public"."`+name(n)+`"`, `"planned"."`+name(n)+`"`))
		}
	}
	var left int
	tried, err := pgx.Connect(t.Context(), address)
	require.NoError(t, err)
	require.NoError(t, tried.QueryRow(t.Context(), "SELECT count(*) FROM pg_class WHERE relnamespace = 'public'::regnamespace").Scan(&left))
	require.NoError(t, tried.Close(t.Context()))
	require.Zero(t, left, "nothing stays in the scratch database")
	for n, s := range statements {
		then := strings.ReplaceAll(s.then, "%[1]s", name(n))
		if then == "" {
			then = "UPDATE " + name(n) + " SET id = id"
		}
		run(t, db, s.does, then)
	}
	i.reached("circulation", db)
	i.settled("circulation", db)
	i.caughtUp("tables")

	renamed := ofTable(i.journal("circulation"), "public."+name(len(statements)-1)+"_now", "schema")
	require.Len(t, renamed, 1)
	require.NotContains(t, string(renamed[0].Data.Schema), `"definition":null`)
	for n, s := range statements {
		for _, kind := range []string{"plain", "where", "form"} {
			happened, changes := i.became(fmt.Sprintf("%s%d", kind, n))
			found := verdictOf(t, &said[n], fmt.Sprintf("%s%d", kind, n))
			require.Equal(t, happened, found.Verdict, "%s at %s: %v", s.does, kind, found.Findings)
			if kind == "plain" && happened == "differs" {
				require.Equal(t, changes, said[n].Changes, s.does)
			}
		}
		holds := verdictOf(t, &said[n], avro[n]).Verdict == "holds"
		i.outletIs(avro[n], fmt.Sprintf("is held by the registry: %t (%s)", holds, s.does), func(o outletStatus) bool {
			return holds && o.Code == "registry" || !holds && o.Code == "" && o.Behind == 0
		})
		columns := func(schema string) []string {
			return digest(t, target, fmt.Sprintf("SELECT column_name, udt_schema, udt_name, numeric_precision, numeric_scale, character_maximum_length, is_nullable FROM information_schema.columns WHERE table_schema = '%s' AND table_name = '%s'", schema, name(n)))
		}
		require.Equal(t, columns("public"), columns("planned"), "%s in the target: %v", s.does, verdictOf(t, &said[n], "tables").Statements)
	}
	verdicts := make(map[string]int)
	for n := range said {
		for _, o := range said[n].Outlets {
			if slices.Contains(kinds, strings.TrimRight(o.Outlet, "0123456789")) {
				verdicts[o.Verdict]++
			}
		}
	}
	require.Greater(t, verdicts["holds"], 8, "%v", verdicts)
	require.Greater(t, verdicts["differs"], 20, "%v", verdicts)
	require.Positive(t, verdicts["loses"], "%v", verdicts)

	var dropped impactOf
	i.must(http.MethodPost, "/v1/sources/circulation/impact", map[string]any{"sql": "DROP TABLE t0"}, &dropped)
	require.Equal(t, []any{"loses", []string{"the table is gone"}}, []any{dropped.Verdict, dropped.Changes})
	out, errs, code := i.cli("schema", "impact", "circulation", "--sql", "ALTER TABLE t0 RENAME COLUMN branch TO place")
	require.Equal(t, 5, code, errs)
	require.Contains(t, out, "public.t0: branch is now place")
	require.Contains(t, out, "where0: holds\n  its condition on rows no longer fits")
	require.Contains(t, out, `ALTER TABLE "public"."t0" RENAME COLUMN "branch" TO "place"`)
	_, errs, code = i.cli("schema", "impact", "circulation", "--sql", "ALTER TABLE t0 ADD COLUMN x int; DROP TABLE t1")
	require.Equal(t, 3, code)
	require.Contains(t, errs, "cannot insert multiple commands")
	away := databaseAt(source, into)
	away["postgresql"].(map[string]any)["port"] = 1
	i.must(http.MethodPost, "/v1/destinations/away", away, nil)
	i.must(http.MethodPost, "/v1/outlets/away", map[string]any{"source": "circulation", "destination": "away", "tables": []string{"t0"}}, nil)
	var partly impactOf
	i.must(http.MethodPost, "/v1/sources/circulation/impact", map[string]any{"sql": "ALTER TABLE t0 ADD x int"}, &partly)
	require.Contains(t, fmt.Sprint(verdictOf(t, &partly, "away").Findings), "the target could not be asked: the database cannot be reached")
	require.Len(t, verdictOf(t, &partly, "tables").Statements, 1, "other outlets are still checked")
	for sql, told := range map[string]string{
		"ALTER TABLE nothing ADD x int":                       "has no table public.nothing",
		"ALTER TABLE t0 ADD x nope":                           `type "nope" does not exist, at character 22`,
		"TRUNCATE t0":                                         "no ALTER TABLE and no DROP TABLE",
		"ALTER TABLE t0 ADD x int DEFAULT (SELECT 1 FROM t1)": "refuses the statement",
	} {
		require.Contains(t, i.refused(http.MethodPost, "/v1/sources/circulation/impact", map[string]any{"sql": sql}).Detail, told, sql)
	}
}

// TestImpactOfTypes: what is said of a change of a type is what then happens to each table that has
// it, by itself, in an array, in a domain or in a type of several parts; other tables are left alone.
func TestImpactOfTypes(t *testing.T) {
	t.Parallel()
	configured, _ := scratch(t)
	var setUp []string
	statements := []string{"ALTER TYPE mood%d ADD VALUE 'lost'", "ALTER TYPE mood%d RENAME VALUE 'worn' TO 'used'", "ALTER TYPE mood%d RENAME TO temper%[1]d", "ALTER DOMAIN state%d ADD CHECK (VALUE <> 'fine')",
		"DROP DOMAIN state%d CASCADE", "DROP TYPE mood%d CASCADE", "ALTER TYPE pair%d RENAME ATTRIBUTE how TO kind"}
	columns := []string{"mood%d", "mood%d[]", "state%d", "pair%d"}
	name := func(n, column int) string { return fmt.Sprintf("t%d_%d", n, column) }
	for n := range statements {
		setUp = append(setUp, fmt.Sprintf("CREATE TYPE mood%d AS ENUM ('fine', 'worn')", n), fmt.Sprintf("CREATE DOMAIN state%d AS mood%[1]d", n), fmt.Sprintf("CREATE TYPE pair%d AS (at date, how varchar(8))", n))
		for column, of := range columns {
			setUp = append(setUp, fmt.Sprintf("CREATE TABLE %s (id bigint PRIMARY KEY, a text, b "+of+")", name(n, column), n), fmt.Sprintf("INSERT INTO %s VALUES (1, 'one')", name(n, column)))
		}
	}
	i, at := begin(t, configured+"source:\n  refresh_every: 200ms\n", setUp...)
	db := connect(t, sourceServer(t), at)
	i.resume()
	i.settled("circulation", db)
	for n := range statements {
		for column := range columns {
			i.must(http.MethodPost, fmt.Sprintf("/v1/outlets/o%d-%d", n, column), map[string]any{"source": "circulation", "tables": []string{name(n, column)}, "from": "now", "where": map[string]any{name(n, column): "b != null || id > 0"}}, nil)
		}
	}
	type several struct {
		impactOf
		Also []impactOf
	}
	said := make(map[string]impactOf)
	for n, statement := range statements {
		var report several
		i.must(http.MethodPost, "/v1/sources/circulation/impact", map[string]any{"sql": fmt.Sprintf(statement, n)}, &report)
		for _, one := range append(report.Also, report.impactOf) {
			require.Contains(t, one.Table, fmt.Sprintf("public.t%d_", n))
			said[one.Table] = one
		}
	}
	for n, statement := range statements {
		run(t, db, fmt.Sprintf(statement, n))
		for column := range columns {
			run(t, db, "UPDATE "+name(n, column)+" SET a = 'two'")
		}
	}
	i.reached("circulation", db)
	i.settled("circulation", db)
	touched := 0
	for n, statement := range statements {
		for column := range columns {
			happened, changes := i.became(fmt.Sprintf("o%d-%d", n, column))
			found, looked := said["public."+name(n, column)]
			if !looked {
				require.Equal(t, "unaffected", happened, "%s: %s", statement, columns[column])
				continue
			}
			touched++
			require.Equal(t, happened, verdictOf(t, &found, fmt.Sprintf("o%d-%d", n, column)).Verdict, "%s: %s: %+v", statement, columns[column], found)
			if happened == "differs" {
				require.Equal(t, changes, found.Changes, "%s: %s", statement, columns[column])
			}
		}
	}
	require.Greater(t, touched, 12)
	out, errs, code := i.cli("schema", "impact", "circulation", "--sql", "DROP TYPE pair0 CASCADE")
	require.Equal(t, 5, code, errs)
	require.Contains(t, out, "public.t0_3: dropped b")
	require.Contains(t, i.refused(http.MethodPost, "/v1/sources/circulation/impact", map[string]any{"sql": "ALTER TYPE nothing ADD VALUE 'x'"}).Detail, "has a column of the type public.nothing")
}

// scratch makes an empty database to try statements in. It gives the part of a configuration
// that names it, and its address.
func scratch(t *testing.T) (configured, address string) {
	t.Helper()
	address = stateServer(t).Address(database(t, stateServer(t), "postgres"))
	return "scratch:\n  postgresql: \"" + address + "\"\n", address
}

func verdictOf(t *testing.T, of *impactOf, outlet string) (found struct {
	Outlet, Verdict string
	Findings        []struct{ Verdict, Says string }
	Statements      []string
}) {
	t.Helper()
	for _, o := range of.Outlets {
		if o.Outlet == outlet {
			return o
		}
	}
	require.Fail(t, "nothing is said of "+outlet)
	return found
}

// became reads what a pull outlet gives, and says what a schema change has made of it.
func (i *instance) became(outlet string) (verdict string, changes []string) {
	i.t.Helper()
	verdict = "unaffected"
	for {
		code, raw, err := i.call(http.MethodGet, "/v1/outlets/"+outlet+"/events?limit=1000", nil)
		require.NoError(i.t, err)
		if code != http.StatusOK {
			require.Contains(i.t, string(raw), "-unfit", outlet)
			return "holds", changes
		}
		var page struct {
			Events []struct {
				Data struct {
					Operation string
					Schema    *struct {
						Definition, Previous json.RawMessage
						Renamed              []change.Rename
					}
				}
			}
			Passed int64
		}
		require.NoError(i.t, json.Unmarshal(raw, &page))
		if len(page.Events) == 0 {
			return verdict, changes
		}
		for _, e := range page.Events {
			if e.Data.Operation != "schema" {
				continue
			}
			now, err := change.ParseSchema(e.Data.Schema.Definition)
			if string(e.Data.Schema.Definition) == "null" || err != nil {
				verdict = "loses"
				continue
			}
			verdict = "differs"
			if before, err := change.ParseSchema(e.Data.Schema.Previous); err == nil {
				changes = change.Changes(before, now, e.Data.Schema.Renamed)
			}
		}
		i.must(http.MethodPost, "/v1/outlets/"+outlet+"/commit", map[string]any{"committed": page.Passed}, nil)
	}
}

// TestSchemaImpactMariaDB is the same for statements that cannot be rolled back: a scratch server
// has nothing left of them.
func TestSchemaImpactMariaDB(t *testing.T) {
	t.Parallel()
	statements := []string{
		"ALTER TABLE %s ADD COLUMN more text",
		"ALTER TABLE %s ADD COLUMN more int NOT NULL DEFAULT 7",
		"ALTER TABLE %s DROP COLUMN card",
		"ALTER TABLE %s DROP COLUMN branch",
		"ALTER TABLE %s RENAME COLUMN branch TO branch_id",
		"ALTER TABLE %s CHANGE note remark varchar(80) NOT NULL",
		"ALTER TABLE %s MODIFY branch varchar(20)",
		"ALTER TABLE %s MODIFY branch bigint",
		"ALTER TABLE %s MODIFY state enum('fine', 'worn', 'lost')",
		"ALTER TABLE %s DROP PRIMARY KEY, ADD PRIMARY KEY (id, note)",
		"ALTER TABLE %s COMMENT 'the same rows'",
		"ALTER TABLE %s ADD INDEX (branch)",
		"ALTER TABLE %s ADD UNIQUE (note)",
		"ALTER TABLE %s ADD COLUMN more int AS (branch + 1) VIRTUAL",
		"ALTER TABLE %s MODIFY note varchar(80) NOT NULL",
		"ALTER TABLE %s MODIFY fee decimal(10,3)",
		"ALTER TABLE %s ALTER card SET DEFAULT 'none'",
		"ALTER TABLE %s RENAME COLUMN id TO number",
		"ALTER TABLE %s ADD SYSTEM VERSIONING",
		"RENAME TABLE %[1]s TO %[1]s_now",
	}
	m, tries := mariaServer(t, nil), mariaServer(t, map[string]string{"innodb-buffer-pool-size": "8M"})
	name := func(n int) string { return fmt.Sprintf("t%d", n) }
	setUp := []string{"CREATE TABLE branches (id int PRIMARY KEY)", "INSERT INTO branches VALUES (1)"}
	for n := range statements {
		setUp = append(setUp, fmt.Sprintf("CREATE TABLE %s (id bigint PRIMARY KEY, branch int, note varchar(40) NOT NULL, fee decimal(8,2), state enum('fine', 'worn'), card varchar(40) CHECK (card <> ''))", name(n)),
			fmt.Sprintf("INSERT INTO %s VALUES (1, 1, 'one', 2.5, 'fine', 'card 1')", name(n)))
	}
	setUp = append(setUp, "ALTER TABLE t0 ADD CONSTRAINT a FOREIGN KEY (branch) REFERENCES branches (id), ADD CONSTRAINT b FOREIGN KEY (branch) REFERENCES branches (id) ON DELETE CASCADE")
	database, db := mariaDatabase(t, m, setUp...)
	require.NoError(t, tries.Login(t.Context(), "scratch", "CREATE, DROP, ALTER, INDEX, REFERENCES, INSERT, SELECT ON *.*"))
	password, err := tries.Password()
	require.NoError(t, err)
	i := newInstance(t, stateServer(t), fmt.Sprintf("scratch:\n  mariadb: mariadb://scratch:%s@127.0.0.1:%d\n", password, tries.Port)).start()
	i.must(http.MethodPost, "/v1/sources/catalogue", mariaSource(t, m, map[string]any{"match": database + ".*"}), nil)
	i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
	i.mariaSettled("catalogue", db)
	for n := range statements {
		table := database + "." + name(n)
		i.must(http.MethodPost, "/v1/outlets/plain"+fmt.Sprint(n), map[string]any{"source": "catalogue", "tables": []string{table}, "from": "now"}, nil)
		i.must(http.MethodPost, "/v1/outlets/where"+fmt.Sprint(n), map[string]any{"source": "catalogue", "tables": []string{table}, "from": "now", "where": map[string]any{table: "branch == 1 && note != 'x'"}}, nil)
	}
	said := make([]impactOf, len(statements))
	for n, s := range statements {
		statements[n] = fmt.Sprintf(s, name(n))
		i.must(http.MethodPost, "/v1/sources/catalogue/impact", map[string]any{"sql": statements[n] + ";"}, &said[n])
		require.Equal(t, database+"."+name(n), said[n].Table)
	}
	var left int
	require.NoError(t, mariaConnect(t, tries, "").QueryRowContext(t.Context(), "SELECT count(*) FROM information_schema.schemata WHERE schema_name = ?", database).Scan(&left))
	require.Zero(t, left, "nothing stays on the scratch server")
	for n, s := range statements {
		mariaRun(t, db, s)
		if n < len(statements)-1 {
			mariaRun(t, db, fmt.Sprintf("UPDATE %s SET fee = fee + 1", name(n)))
		}
	}
	i.mariaReached("catalogue", db)
	for n, s := range statements {
		for _, kind := range []string{"plain", "where"} {
			happened, changes := i.became(fmt.Sprintf("%s%d", kind, n))
			found := verdictOf(t, &said[n], fmt.Sprintf("%s%d", kind, n))
			require.Equal(t, happened, found.Verdict, "%s at %s: %v", s, kind, found.Findings)
			if kind == "plain" && happened == "differs" {
				require.Equal(t, changes, said[n].Changes, s)
			}
		}
	}
	for sql, told := range map[string]string{
		"ALTER TABLE nothing ADD x int":     "no captured table",
		"ALTER TABLE t1 ADD x nope":         "refuses the statement",
		"ALTER TABLE t1 ADD x int; DROP t2": "refuses the statement",
		"DROP TABLE t1, t2":                 "several tables",
		"TRUNCATE t1":                       "no ALTER TABLE",
		"CREATE TABLE t99 (id int)":         "no ALTER TABLE",
	} {
		require.Contains(t, i.refused(http.MethodPost, "/v1/sources/catalogue/impact", map[string]any{"sql": sql}).Detail, told, sql)
	}
	mariaRun(t, mariaConnect(t, tries, ""), "CREATE DATABASE "+database)
	require.Contains(t, i.refused(http.MethodPost, "/v1/sources/catalogue/impact", map[string]any{"sql": "ALTER TABLE t1 ADD x int"}).Detail, "has a database "+database+" of its own")
}
