package test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
)

// intoTables adds an outlet that keeps the source's tables in a database.
func (i *instance) intoTables(name string, c *demo.Cluster, database string, options map[string]any, more ...map[string]any) {
	i.t.Helper()
	i.must(http.MethodPost, "/v1/destinations/"+name, databaseAt(c, database), nil)
	outlet := map[string]any{"source": "circulation", "destination": name, "postgresql": options, "retry": map[string]any{"first_wait": "20ms", "longest_wait": "300ms"}}
	for _, one := range more {
		for key, value := range one {
			outlet[key] = value
		}
	}
	i.must(http.MethodPost, "/v1/outlets/"+name, outlet, nil)
}

func databaseAt(c *demo.Cluster, database string) map[string]any {
	return map[string]any{"kind": "postgresql", "postgresql": map[string]any{"host": "127.0.0.1", "port": c.Port, "database": database, "user": "postgres", "tls": "disable",
		"password": "${file:" + c.PasswordFile() + "}"}}
}

// digest is a table's rows as the server prints them, in one text for each.
func digest(t *testing.T, db *pgx.Conn, query string) []string {
	t.Helper()
	rows, _ := db.Query(t.Context(), "SELECT q::text FROM ("+query+") q ORDER BY 1")
	all, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err, query)
	return all
}

// sameRows holds that both are the same, and shows some that are not.
func sameRows(t *testing.T, want, got []string, what ...any) {
	t.Helper()
	if slices.Equal(want, got) {
		return
	}
	differ := func(some, others []string) (only []string) {
		for _, row := range some {
			if len(only) < 4 && !slices.Contains(others, row) {
				only = append(only, row)
			}
		}
		return only
	}
	require.Fail(t, fmt.Sprintf("%d rows, and %d there; missing there: %q; only there: %q", len(want), len(got), differ(want, got), differ(got, want)), what...)
}

// TestTypesInTables: every type's values are the same there, and types that are not there
// are held as text.
func TestTypesInTables(t *testing.T) {
	t.Parallel()
	// Types whose values go there in binary form, many rows of one type in each batch.
	var packed []string
	var fill []string
	for n, v := range everyType {
		kind, _, _ := strings.Cut(v.kind, "(")
		if slices.Contains([]string{"smallint", "integer", "bigint", "numeric", "boolean", "real", "double precision", "text", "varchar", "char", "uuid", "date", "timestamp", "timestamptz", "bytea", "json", "jsonb"}, kind) {
			packed = append(packed, fmt.Sprintf("c%d %s", n, v.kind))
			fill = append(fill, fmt.Sprintf("INSERT INTO packed (id, c%d) SELECT %d + g, c%[1]d FROM facts, generate_series(1, 250) g WHERE facts.id = 1", n, 1000*n))
		}
	}
	require.Greater(t, len(packed), 20)
	i, name := begin(t, "", append(factsTable(), "CREATE TABLE packed (id bigint PRIMARY KEY, "+strings.Join(packed, ", ")+")")...)
	source := sourceServer(t)
	db := connect(t, source, name)
	into := database(t, source, "postgres")
	i.intoTables("facts", source, into, map[string]any{}, map[string]any{"tables": []string{"facts"}})
	i.intoTables("packed", source, into, map[string]any{}, map[string]any{"tables": []string{"packed"}, "batch": map[string]any{"events": 250}})
	i.resume()
	i.settled("circulation", db)
	run(t, db, fill...)
	run(t, db, "CREATE TEMP TABLE copy AS SELECT * FROM facts", "UPDATE copy SET id = 2", "INSERT INTO facts SELECT * FROM copy", "INSERT INTO facts (id) VALUES (3)", "ALTER TYPE mood ADD VALUE 'high' AFTER 'low'", "UPDATE copy SET id = 4",
		"INSERT INTO facts SELECT * FROM copy", "UPDATE facts SET "+moodColumn()+" = 'high' WHERE id = 4", "INSERT INTO facts (id) SELECT generate_series(10, 200)")
	i.reached("circulation", db)
	i.caughtUp("facts", "packed")
	to := connect(t, source, into)
	for _, conn := range []*pgx.Conn{db, to} {
		run(t, conn, "SET timezone = 'UTC'", "SET search_path = pg_catalog")
	}
	for n, v := range everyType {
		column := fmt.Sprintf("c%d", n)
		want, got := digest(t, db, "SELECT id, "+column+"::text FROM public.facts"), digest(t, to, "SELECT id, "+column+"::text FROM public.facts")
		if v.kind == "json" { // its white space is not in the journal
			want, got = digest(t, db, "SELECT id, "+column+"::jsonb FROM public.facts"), digest(t, to, "SELECT id, "+column+"::jsonb FROM public.facts")
		}
		sameRows(t, want, got, "%s %s", v.kind, v.sql)
	}
	for _, column := range packed {
		name, kind, _ := strings.Cut(column, " ")
		if kind != "json" {
			name += "::text"
		} else {
			name += "::jsonb"
		}
		sameRows(t, digest(t, db, "SELECT id, "+name+" FROM public.packed"), digest(t, to, "SELECT id, "+name+" FROM public.packed"), column)
	}
	require.Equal(t, []string{"(low)", "(high)", "(fine)"}, ordered(t, to, "SELECT enumlabel FROM pg_enum JOIN pg_type ON pg_type.oid = enumtypid WHERE typname = 'mood' ORDER BY enumsortorder"))
}

// moodColumn is the column of the facts whose type is the enum.
func moodColumn() string {
	return fmt.Sprintf("c%d", slices.IndexFunc(everyType, func(v struct{ kind, sql, json string }) bool { return v.kind == "mood" }))
}

// ordered is a query's rows in its own order.
func ordered(t *testing.T, db *pgx.Conn, query string) []string {
	t.Helper()
	rows, _ := db.Query(t.Context(), "SELECT q::text FROM ("+query+") q")
	all, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err, query)
	return all
}

// TestDefinitionsOfTables: changes of a table's definition are followed at their place, and
// what cannot be is held with the statement.
func TestDefinitionsOfTables(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (loan_id bigint PRIMARY KEY, a integer NOT NULL, b text, gone text NOT NULL, due date)",
		"INSERT INTO loans SELECT i, i, 'b' || i, 'g', NULL FROM generate_series(1, 500) i")
	source := sourceServer(t)
	db := connect(t, source, name)
	into := database(t, source, "postgres")
	i.intoTables("desk", source, into, map[string]any{"schema": "desk", "dropped_columns": "drop"})
	i.intoTables("fixed", source, into, map[string]any{"schema": "fixed", "definitions": "fixed"})
	i.resume()
	i.settled("circulation", db)
	to := connect(t, source, into)
	same := func(what string) {
		t.Helper()
		i.reached("circulation", db)
		i.settled("circulation", db)
		i.caughtUp("desk")
		sameRows(t, digest(t, db, "SELECT * FROM loans"), digest(t, to, "SELECT * FROM desk.loans"), what)
	}
	same("after the load")
	held := func() string {
		return i.outletIs("fixed", "holds", func(o outletStatus) bool { return o.Phase == "failed" && o.Code == "definition-needed" }).Error
	}
	needed := held()
	require.Contains(t, needed, `CREATE TABLE "fixed"."loans"`)
	_, statement, _ := strings.Cut(needed, "`: ")
	run(t, db, "SELECT 1")
	run(t, to, statement)
	i.must(http.MethodPost, "/v1/outlets/fixed/resume", nil, nil)
	i.caughtUp("fixed")

	run(t, db, "ALTER TABLE loans ADD COLUMN c timestamptz DEFAULT '2026-01-01 00:00+00'", "INSERT INTO loans SELECT i, i, 'b', 'g', '2026-01-01', now() FROM generate_series(1001, 1300) i")
	i.reached("circulation", db)
	_, errs, code := i.cli("source", "reload", "circulation", "public.loans") // the log does not say what the column was filled with
	require.Zero(t, code, errs)
	same("a column with a default")
	run(t, db, "ALTER TABLE loans RENAME COLUMN b TO note", "UPDATE loans SET note = note || '!' WHERE loan_id % 3 = 0")
	same("a renamed column")
	run(t, db, "ALTER TABLE loans RENAME COLUMN loan_id TO number", "UPDATE loans SET a = a + 1 WHERE number % 7 = 0", "UPDATE loans SET number = 4000 WHERE number = 400", "DELETE FROM loans WHERE number = 401")
	same("a renamed key")
	run(t, db, "ALTER TABLE loans RENAME COLUMN number TO loan_id", "DELETE FROM loans WHERE loan_id = 403")
	same("its former name")
	run(t, db, "BEGIN", "ALTER TABLE loans RENAME COLUMN note TO x", "ALTER TABLE loans RENAME COLUMN gone TO note", "ALTER TABLE loans RENAME COLUMN x TO gone", "COMMIT", "UPDATE loans SET a = a + 1 WHERE loan_id < 20")
	same("two columns that swap their names")
	run(t, db, "ALTER TABLE loans DROP COLUMN gone", "DELETE FROM loans WHERE loan_id % 5 = 0", "INSERT INTO loans (loan_id, a, note) VALUES (5000, 1, 'n')")
	same("a dropped column")
	run(t, db, "ALTER TABLE loans ALTER COLUMN a TYPE numeric(20,3)", "UPDATE loans SET a = 12345678901234567.125 WHERE loan_id = 2", "ALTER TABLE loans ALTER COLUMN note DROP NOT NULL", "INSERT INTO loans (loan_id, a) VALUES (5001, 1)")
	same("a wider type")
	run(t, db, "TRUNCATE loans", "INSERT INTO loans (loan_id, a) SELECT i, i FROM generate_series(1, 2000) i")
	same("a truncate")
	run(t, db, "ALTER TABLE loans DROP CONSTRAINT loans_pkey, ADD PRIMARY KEY (a)", "UPDATE loans SET loan_id = 1 WHERE a BETWEEN 10 AND 20", "UPDATE loans SET a = -a WHERE a > 1900", "DELETE FROM loans WHERE a = 11")
	same("another key")
	run(t, db, "ALTER TABLE loans ADD COLUMN id serial", "ALTER TABLE loans DROP CONSTRAINT loans_pkey, ADD PRIMARY KEY (id)", "UPDATE loans SET a = 0 WHERE id % 10 = 1")
	i.reached("circulation", db)
	i.caughtUp("desk")
	require.Equal(t, []string{"(2199)"}, ordered(t, to, "SELECT count(*) FROM desk.loans"), "the rows without the new key stay until they come again")
	_, errs, code = i.cli("source", "reload", "circulation", "public.loans")
	require.Zero(t, code, errs)
	i.eventually("the reload is there", func() bool {
		var n int
		return to.QueryRow(t.Context(), "SELECT count(*) FROM desk.loans").Scan(&n) == nil && n == 1999
	})
	same("a key of a new column")
	require.Equal(t, []string{"(id)"}, ordered(t, to, "SELECT attname FROM pg_index JOIN pg_attribute ON attrelid = indrelid AND attnum = indkey[0] WHERE indrelid = 'desk.loans'::regclass AND indisunique"))
	run(t, db, "DELETE FROM loans WHERE loan_id = 1", "ALTER TABLE loans DROP COLUMN id, ADD PRIMARY KEY (loan_id)", "INSERT INTO loans (loan_id, a) VALUES (9000, 1)")
	same("the former key")

	// A reload never shows an empty table, and takes out what is not in the source.
	run(t, to, "INSERT INTO desk.loans (loan_id, a) VALUES (-1, 0)", "DELETE FROM desk.loans WHERE loan_id = 7", "UPDATE desk.loans SET a = 0 WHERE loan_id = 8")
	least := watchLeast(t, source, into, "desk.loans", 1988)
	_, errs, code = i.cli("source", "reload", "circulation", "public.loans")
	require.Zero(t, code, errs)
	i.eventually("the reload is over there, too", func() bool {
		var n int
		return to.QueryRow(t.Context(), "SELECT count(*) FROM desk.loans WHERE loan_id IN (-1, 7)").Scan(&n) == nil && n == 1 && !strings.Contains(fmt.Sprint(ordered(t, to, "SELECT loan_id FROM desk.loans WHERE loan_id = -1")), "-1")
	})
	same("a reload")
	least.end()
	require.Equal(t, []string{"(0)"}, ordered(t, to, "SELECT count(*) FROM pg_class WHERE relname LIKE 'loading%'"), "nothing is left of it")
	require.Contains(t, held(), "ADD COLUMN", "fixed definitions hold with the next statement")
}

// keptInDesk keeps an instance's tables in the schema desk of another server, where statements
// were run before.
func keptInDesk(t *testing.T, i *instance, name string, before ...string) (*pgx.Conn, *stage, *side) {
	t.Helper()
	db := connect(t, sourceServer(t), name)
	to := targetOf(t, "postgresql")
	to.run(before...)
	s := &stage{instance: i, source: postgresSide(t, sourceServer(t), name)}
	s.keeps("desk", to, map[string]any{"schema": "desk"})
	i.resume()
	i.settled("circulation", db)
	return db, s, to
}

// TestRowsThatAreRenewed: many rows that change are taken out and put in again, which is faster,
// but not where somebody would notice: a trigger that acts for replicas, too, and whoever
// decodes the database's log, see them updated.
func TestRowsThatAreRenewed(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (loan_id bigint PRIMARY KEY, note text, n integer UNIQUE DEFERRABLE)", "INSERT INTO loans SELECT i, 'a', i FROM generate_series(1, 3000) i",
		"CREATE TABLE cards (card varchar(5) PRIMARY KEY)", "INSERT INTO cards SELECT i::text FROM generate_series(100, 500) i", "INSERT INTO cards VALUES ('abc'), ('abcde')")
	db, s, to := keptInDesk(t, i, name, "CREATE SCHEMA desk", "CREATE TABLE desk.cards (card varchar(3) PRIMARY KEY)")
	same := func(what string) {
		t.Helper()
		i.reached("circulation", db)
		i.caughtUp("desk")
		sameRows(t, s.source.digest(t, "SELECT loan_id, note, n FROM loans"), to.digest(t, "SELECT loan_id, note, n FROM desk.loans"), what)
	}
	same("the load")
	before := to.digest(t, "SELECT ctid FROM desk.loans WHERE loan_id = 7")
	run(t, db, "UPDATE loans SET note = 'b', n = 3001 - n WHERE loan_id NOT IN (7, 2994)") // values change places
	same("many rows that change")
	require.Equal(t, before, to.digest(t, "SELECT ctid FROM desk.loans WHERE loan_id = 7"))
	i.eventually("the server's statistics say that rows were taken out", func() bool {
		return to.digest(t, "SELECT n_tup_del > 1000 FROM pg_stat_user_tables WHERE relid = 'desk.loans'::regclass")[0] == "t"
	})
	to.run("CREATE TABLE desk.seen (what text)", "CREATE FUNCTION desk.see() RETURNS trigger LANGUAGE plpgsql AS $$BEGIN INSERT INTO desk.seen VALUES (TG_OP); RETURN NULL; END$$",
		"CREATE TRIGGER see AFTER INSERT OR UPDATE OR DELETE ON desk.loans FOR EACH ROW EXECUTE FUNCTION desk.see()", "ALTER TABLE desk.loans ENABLE ALWAYS TRIGGER see")
	run(t, db, "UPDATE loans SET note = 'c'")
	same("rows under a trigger")
	require.Equal(t, []string{"UPDATE|3000"}, to.digest(t, "SELECT what, count(*) FROM desk.seen GROUP BY 1"))
	to.run("DROP TRIGGER see ON desk.loans", "SELECT pg_create_logical_replication_slot('watcher', 'test_decoding')")
	run(t, db, "UPDATE loans SET note = 'd' WHERE loan_id > 1000", "DELETE FROM loans WHERE loan_id <= 1000")
	same("rows that somebody decodes")
	i.eventually("the log says how, once it is flushed", func() bool {
		return slices.Equal([]string{"DELETE|1000", "UPDATE|2000"}, to.digest(t, "SELECT substring(data FROM 'table desk.loans: ([A-Z]+)') AS what, count(*) FROM pg_logical_slot_peek_changes('watcher', NULL, NULL) WHERE data LIKE 'table desk.loans:%' GROUP BY 1 ORDER BY 1"))
	})
	to.run("SELECT pg_drop_replication_slot('watcher')")
	// A key that is too long for the table is no other row's.
	require.EqualValues(t, 1, s.letters("desk").Dead)
	_, errs, code := i.cli("dead-letter", "discard", "desk", "--all")
	require.Zero(t, code, errs)
	run(t, db, "DELETE FROM cards WHERE card <> 'abc'")
	same("rows that go")
	require.Equal(t, []string{"abc"}, to.digest(t, "SELECT card FROM desk.cards"))
}

// TestRowsThatGoByTheirNumbers: rows whose keys are whole numbers are taken out by their first
// and last, or by all of them, in small tables and in large ones: those, and no others.
func TestRowsThatGoByTheirNumbers(t *testing.T) {
	t.Parallel()
	const ends = "(-9223372036854775808, -9223372036854775807, 9223372036854775806, 9223372036854775807)"
	i, name := begin(t, "",
		"CREATE TABLE few (id smallint PRIMARY KEY, note text)", "INSERT INTO few SELECT i, 'a' FROM generate_series(-32768, 32767, 8) i",
		"CREATE TABLE middle (id integer PRIMARY KEY, note text)", "INSERT INTO middle SELECT i, 'a' FROM generate_series(-4000, 4000) i",
		"CREATE TABLE far (id bigint PRIMARY KEY, note text)", "INSERT INTO far SELECT i, 'a' FROM generate_series(-1000, 1000) i", "INSERT INTO far SELECT unnest('{"+ends[1:len(ends)-1]+"}'::bigint[]), 'a'",
		"CREATE TABLE large (id bigint PRIMARY KEY, note text)", "INSERT INTO large SELECT i, repeat(md5(i::text), 50) FROM generate_series(1, 45000) i")
	db, s, to := keptInDesk(t, i, name)
	same := func(what string) {
		t.Helper()
		i.reached("circulation", db)
		i.caughtUp("desk")
		for _, table := range []string{"few", "middle", "far", "large"} {
			sameRows(t, s.source.digest(t, "SELECT id, md5(note) FROM "+table), to.digest(t, "SELECT id, md5(note) FROM desk."+table), what+": "+table)
		}
	}
	same("the load")
	require.Equal(t, []string{"t"}, to.digest(t, "SELECT pg_relation_size('desk.large') > 64 << 20"))
	for _, condition := range []string{"id BETWEEN -3000 AND 3000", "id NOT BETWEEN -3500 AND 3500", "id % 3 = 0"} {
		for _, table := range []string{"few", "middle", "far", "large"} {
			run(t, db, "UPDATE "+table+" SET note = note || 'b' WHERE "+condition, "DELETE FROM "+table+" WHERE id % 2 = 0 AND "+condition)
		}
		same(condition)
	}
	run(t, db, "DELETE FROM large WHERE id > 20000")
	same("half of them")
}

// watchLeast holds that a table never has fewer rows.
func watchLeast(t *testing.T, c *demo.Cluster, database, table string, least int64) *sums {
	ctx, cancel := context.WithCancel(context.Background())
	s := &sums{stop: cancel}
	conn := connect(t, c, database)
	s.done.Add(1)
	go func() {
		defer s.done.Done()
		for ctx.Err() == nil {
			var n int64
			err := conn.QueryRow(ctx, "SELECT count(*) FROM "+table).Scan(&n)
			if err == nil && n < least {
				t.Errorf("%s shows %d rows only", table, n)
				return
			}
			if err != nil && !errors.Is(err, context.Canceled) {
				t.Errorf("reading %s: %v", table, err)
				return
			}
		}
	}()
	t.Cleanup(s.end)
	return s
}

// TestTablesThatRefuse: rows that a table does not take, rows without a key, tables that are
// filled or somebody else's, a database that was brought back from a backup, and what the
// check says.
func TestTablesThatRefuse(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable, "CREATE TABLE slips (note text)", "ALTER TABLE slips REPLICA IDENTITY FULL", "CREATE TABLE fines (fine_id integer PRIMARY KEY, amount bigint, code integer UNIQUE DEFERRABLE)")
	source := sourceServer(t)
	db := connect(t, source, name)
	into := database(t, source, "postgres")
	to := connect(t, source, into)
	run(t, to, "CREATE TABLE desk (id bigint PRIMARY KEY, note varchar(8) CHECK (note <> 'poison'), seen timestamptz DEFAULT now())", "INSERT INTO desk VALUES (900, 'old')", "CREATE TABLE fines (fine_id integer PRIMARY KEY, amount bigint, code integer UNIQUE, seen text DEFAULT 'no')")
	i.intoTables("desk", source, into, map[string]any{"schema": "public"}, map[string]any{"tables": []string{"desk", "fines"}})
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO desk VALUES (1, 'one')")
	require.Contains(t, i.outletIs("desk", "holds", func(o outletStatus) bool { return o.Phase == "failed" }).Error, "has rows that the outlet did not write")
	_, errs, code := i.cli("outlet", "edit", "desk", "--set", "postgresql.present=keep")
	require.Zero(t, code, errs)
	_, errs, code = i.cli("outlet", "resume", "desk")
	require.Zero(t, code, errs)
	// One row is refused, and those of its key wait; all others arrive, with the transaction.
	run(t, db, "BEGIN", "INSERT INTO desk SELECT n, 'good' FROM generate_series(10, 300) n", "INSERT INTO desk VALUES (400, 'poison')", "UPDATE desk SET note = 'fine' WHERE id = 400", "UPDATE desk SET note = 'much too long' WHERE id = 20", "COMMIT")
	i.reached("circulation", db)
	i.caughtUp("desk")
	l := i.letters("desk")
	require.EqualValues(t, 2, l.Dead, "%+v", l)
	require.EqualValues(t, 1, l.Behind)
	require.Contains(t, l.Items[0].Error, "public.desk refuses the row")
	require.Equal(t, []string{"(293)"}, ordered(t, to, "SELECT count(*) FROM desk"), "the old row and all but the refused one")
	run(t, to, "ALTER TABLE desk DROP CONSTRAINT desk_note_check", "ALTER TABLE desk ALTER COLUMN note TYPE text")
	_, errs, code = i.cli("dead-letter", "retry", "desk", "--all")
	require.Zero(t, code, errs)
	i.eventually("there are no dead letters any more", func() bool { l := i.letters("desk"); return l.Dead+l.Behind == 0 })
	require.Equal(t, []string{"(20,\"much too long\")", "(400,fine)"}, ordered(t, to, "SELECT id, note FROM desk WHERE id IN (20, 400) ORDER BY id"))
	// Values that are unique at the end of a transaction, and not within it.
	run(t, db, "INSERT INTO fines SELECT n, n, n FROM generate_series(1, 300) n", "UPDATE fines SET code = 301 - code")
	i.reached("circulation", db)
	i.caughtUp("desk")
	fines := "SELECT fine_id, amount, code FROM fines"
	sameRows(t, digest(t, db, fines), digest(t, to, fines))

	run(t, to, "UPDATE fines SET seen = 'yes' WHERE fine_id > 290")
	run(t, db, "UPDATE fines SET code = 3 - code WHERE fine_id IN (299, 300)") // of two rows, too
	i.reached("circulation", db)
	i.caughtUp("desk")
	require.Zero(t, i.letters("desk").Dead)
	sameRows(t, digest(t, db, fines), digest(t, to, fines))
	require.Equal(t, []string{"(10)"}, ordered(t, to, "SELECT count(*) FROM fines WHERE seen = 'yes'"), "a column of the table's own keeps its values")

	// The database is brought back from a backup: what it lacks comes again.
	run(t, to, "CREATE TABLE kept AS SELECT * FROM rillmark.outlets", "CREATE TABLE kept_desk AS SELECT * FROM desk")
	run(t, db, "INSERT INTO desk VALUES (500, 'later')", "DELETE FROM desk WHERE id = 30")
	i.reached("circulation", db)
	i.caughtUp("desk")
	i.must(http.MethodPost, "/v1/outlets/desk/pause", nil, nil)
	i.eventually("it has paused", func() bool {
		n := 0
		return to.QueryRow(t.Context(), "SELECT count(*) FROM pg_stat_activity WHERE application_name = 'rillmark outlet desk'").Scan(&n) == nil && n == 0
	})
	i.outletIs("desk", "is paused", func(o outletStatus) bool { return o.Phase == "paused" })
	run(t, to, "DELETE FROM desk", "INSERT INTO desk SELECT * FROM kept_desk", "UPDATE rillmark.outlets o SET \"offset\" = k.\"offset\" FROM kept k WHERE o.token = k.token")
	i.must(http.MethodPost, "/v1/outlets/desk/resume", nil, nil)
	i.eventually("what was lost is there again", func() bool {
		n := 0
		return to.QueryRow(t.Context(), "SELECT count(*) FROM desk WHERE id IN (30, 500)").Scan(&n) == nil && n == 1
	})

	// Triggers and foreign keys act where the outlet says so; one that is deferrable is
	// looked at when a transaction is complete.
	run(t, to, "CREATE SCHEMA acting", "CREATE TABLE acting.fines (fine_id integer PRIMARY KEY, amount bigint, code integer)", "CREATE TABLE acting.desk (id bigint PRIMARY KEY REFERENCES acting.fines (fine_id) DEFERRABLE, note text)",
		"CREATE FUNCTION acting.stamp() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.note = NEW.note || ' seen'; RETURN NEW; END $$", "CREATE TRIGGER stamp BEFORE INSERT ON acting.desk FOR EACH ROW EXECUTE FUNCTION acting.stamp()")
	i.intoTables("acting", source, into, map[string]any{"schema": "acting", "triggers": "fire"}, map[string]any{"tables": []string{"desk", "fines"}, "from": "now"})
	run(t, db, "BEGIN", "INSERT INTO desk VALUES (7001, 'first')", "INSERT INTO fines VALUES (7001, 1, NULL)", "COMMIT")
	i.reached("circulation", db)
	i.caughtUp("acting")
	require.Equal(t, []string{`(7001,"first seen")`}, digest(t, to, "SELECT * FROM acting.desk"))

	// The table is gone; after a rewind it is made anew.
	run(t, to, "DROP TABLE fines")
	run(t, db, "UPDATE fines SET amount = 0 WHERE fine_id = 1")
	i.must(http.MethodPost, "/v1/outlets/desk/pause", nil, nil)
	i.must(http.MethodPost, "/v1/outlets/desk/resume", nil, nil)
	require.Contains(t, i.outletIs("desk", "holds", func(o outletStatus) bool { return o.Phase == "failed" }).Error, `"public"."fines" is gone`)
	i.must(http.MethodPost, "/v1/outlets/desk/rewind", map[string]any{"to": "beginning"}, nil)
	i.must(http.MethodPost, "/v1/outlets/desk/resume", nil, nil)
	i.reached("circulation", db)
	i.caughtUp("desk")
	sameRows(t, digest(t, db, fines), digest(t, to, fines))
	_, errs, code = i.cli("outlet", "edit", "desk", "--set", "postgresql.keep=versions")
	require.Zero(t, code, errs)
	run(t, db, "INSERT INTO desk VALUES (600, 'n')")
	require.Contains(t, i.outletIs("desk", "holds", func(o outletStatus) bool { return o.Phase == "failed" }).Error, "are kept as current, and the outlet now says versions")
	_, errs, code = i.cli("outlet", "edit", "desk", "--set", "postgresql.keep=current")
	require.Zero(t, code, errs)

	// Two outlets into one table; a row without a key that changes.
	i.intoTables("second", source, into, map[string]any{"schema": "public"}, map[string]any{"tables": []string{"desk"}})
	require.Contains(t, i.outletIs("second", "holds", func(o outletStatus) bool { return o.Phase == "failed" }).Error, "the outlet desk writes")
	i.intoTables("slips", source, into, map[string]any{}, map[string]any{"tables": []string{"slips"}})
	run(t, db, "INSERT INTO slips VALUES ('a'), ('b')")
	i.reached("circulation", db)
	i.caughtUp("slips")
	require.Len(t, digest(t, to, "SELECT * FROM slips"), 2)
	// What one table cannot take holds that table alone; a load, or somebody's word, leads on.
	heldAt := func() int64 {
		o := i.outletIs("slips", "holds the table", func(o outletStatus) bool { return len(o.Incomplete) == 1 && o.Incomplete[0].Code == "no-key" })
		require.Equal(t, "running", o.Phase)
		require.Contains(t, o.Incomplete[0].Fix, "`rillmark outlet load slips --tables public.slips`")
		return o.Incomplete[0].Offset
	}
	run(t, db, "DELETE FROM slips WHERE note = 'a'")
	heldAt()
	out, _, code := i.cli("outlet", "list")
	require.Zero(t, code)
	require.Regexp(t, `slips +incomplete `, out)
	require.Contains(t, out, "outlet slips: public.slips is not as the source has it: public.slips has no key")
	run(t, db, "INSERT INTO slips VALUES ('c')")
	_, errs, code = i.cli("outlet", "load", "slips", "--tables", "public.slips", "--wait")
	require.Zero(t, code, errs)
	i.reached("circulation", db)
	i.caughtUp("slips")
	require.Equal(t, []string{"(b)", "(c)"}, digest(t, to, "SELECT * FROM slips"))
	i.outletIs("slips", "is in order", func(o outletStatus) bool { return len(o.Incomplete) == 0 })
	run(t, db, "DELETE FROM slips WHERE note = 'b'", "INSERT INTO slips VALUES ('d')")
	at := heldAt()
	i.stop(syscall.SIGKILL) // it is on record where the offset is
	i.start()
	require.Equal(t, at, heldAt())
	_, errs, code = i.cli("outlet", "pause", "slips")
	require.Zero(t, code, errs)
	_, errs, code = i.cli("outlet", "resume", "slips", "--let-pass", fmt.Sprint(at))
	require.Zero(t, code, errs)
	i.outletIs("slips", "says what it lacks", func(o outletStatus) bool {
		return len(o.Incomplete) == 1 && o.Incomplete[0].Code == "values-missing" && o.Phase == "running"
	})
	run(t, db, "INSERT INTO slips VALUES ('e')")
	i.reached("circulation", db)
	i.caughtUp("slips")
	require.Equal(t, []string{"(b)", "(c)", "(e)"}, digest(t, to, "SELECT * FROM slips"), "what was passed over is not there")

	// Definitions that cannot be.
	status, raw, err := i.call(http.MethodPost, "/v1/outlets/other", map[string]any{"source": "circulation", "destination": "desk", "format": "data"})
	require.NoError(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, string(raw), "does not take data")
	for _, one := range []struct{ options, says string }{{`{"keep": "all"}`, "keep"}, {`{"table": "{tabel}"}`, "{schema} and {table}"}, {`{"offsets": "outlets"}`, "schema.table"}} {
		status, raw, err := i.call(http.MethodPost, "/v1/outlets/other", `{"source": "circulation", "destination": "desk", "postgresql": `+one.options+`}`)
		require.NoError(t, err)
		require.Equal(t, http.StatusUnprocessableEntity, status, "%s", raw)
		require.Contains(t, string(raw), one.says)
	}
	run(t, to, "CREATE ROLE "+into+"_bare LOGIN PASSWORD 'geheim'")
	t.Cleanup(func() { to.Exec(context.Background(), "DROP ROLE "+into+"_bare") }) //nolint:errcheck // the server goes as well
	out, _, code = i.cli("destination", "check", "bare", "--kind", "postgresql", "--host", "127.0.0.1", "--port", fmt.Sprint(source.Port), "--database-name", into, "--user", into+"_bare", "--password", "geheim")
	require.NotZero(t, code)
	for _, says := range []string{`the user may not write "rillmark"."outlets"`, "GRANT SELECT, INSERT, UPDATE", "GRANT CREATE ON DATABASE", "session_replication_role"} {
		require.Contains(t, out, says)
	}
	_, errs, code = i.cli("destination", "check", "bare", "--kind", "postgresql", "--host", "127.0.0.1", "--port", fmt.Sprint(source.Port), "--database-name", into, "--user", into+"_bare", "--password", "wrong")
	require.NotZero(t, code)
	require.NotContains(t, errs, "wrong")
}

// tablesTarget keeps every version of each row: what arrived is what is there.
func tablesTarget(t *testing.T, engine string) target {
	to := targetOf(t, engine)
	return target{name: "tables-" + engine, destination: to.at, outlet: map[string]any{engine: map[string]any{"keep": "versions", "schema": to.database}}, exact: true,
		away: to.kill, back: func() { require.NoError(t, to.back()) },
		read: func() (all []arrival) {
			for table, key := range map[string]string{"copies": "copy_id", "loans": "copy_id, patron_id", "shelves": "mark", "desk": "id"} {
				if to.digest(t, "SELECT count(*) FROM information_schema.tables WHERE table_schema = '"+to.database+"' AND table_name = '"+table+"'")[0] == "0" {
					continue // nothing has come yet
				}
				rows, err := to.rows(t.Context(), "SELECT _offset, concat_ws('.', "+key+") FROM "+to.database+"."+table+" ORDER BY _offset")
				require.NoError(t, err)
				for _, row := range rows {
					var offset int64
					text, key, _ := strings.Cut(row, "|")
					fmt.Sscan(text, &offset) //nolint:errcheck // it is a number
					all = append(all, arrival{id: fmt.Sprintf("circulation/1/%d", offset), offset: offset, row: table + key})
				}
			}
			return all
		}}
}
