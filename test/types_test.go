package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// everyType has a value of each type that has a rule, with the JSON that the design gives it.
var everyType = []struct{ kind, sql, json string }{
	{"boolean", "true", "true"},
	{"smallint", "-32768", "-32768"},
	{"integer", "2147483647", "2147483647"},
	{"bigint", "9007199254740993", "9007199254740993"},
	{"bigint", "-9223372036854775808", "-9223372036854775808"},
	{"real", "0.1", "0.1"},
	{"double precision", "1e300", "1e+300"},
	{"double precision", "'-Infinity'", `"-Infinity"`},
	{"double precision", "'NaN'", `"NaN"`},
	{"numeric", "12345678901234567890.123456789", `"12345678901234567890.123456789"`},
	{"numeric(8,2)", "0.10", `"0.10"`},
	{"numeric", "'NaN'", `"NaN"`},
	{"text", `E'a "quoted"\n\tline \\ ünïcödé 📚'`, `"a \"quoted\"\n\tline \\ ünïcödé 📚"`},
	{"varchar(10)", "''", `""`},
	{"char(4)", "'ab'", `"ab  "`},
	{"date", "'2026-11-23'", `"2026-11-23"`},
	{"date", "'0044-03-15 BC'", `"0044-03-15 BC"`},
	{"date", "'infinity'", `"infinity"`},
	{"time", "'09:14:07.5'", `"09:14:07.500000"`},
	{"timetz", "'09:14:07+05:30'", `"09:14:07.000000+05:30"`},
	{"timestamp", "'2026-11-23 09:14:07'", `"2026-11-23T09:14:07.000000"`},
	{"timestamp", "'-infinity'", `"-infinity"`},
	{"timestamptz", "'2026-11-23 09:14:07.123456+02'", `"2026-11-23T07:14:07.123456Z"`},
	{"timestamptz", "'12026-01-01 00:00:00+00'", `"12026-01-01 00:00:00+00"`},
	{"interval", "'1 day 02:03:04.5'", `"P1DT2H3M4.5S"`},
	{"uuid", "'A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11'", `"a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11"`},
	{"json", `E'{ "b" : 1,\n "a": 9007199254740993.10 }'`, `{"b":1,"a":9007199254740993.10}`},
	{"jsonb", `'[1, {"x": null}]'`, `[1, {"x": null}]`},
	{"bytea", `'\x00ff10'`, `"AP8Q"`},
	{"mood", "'fine'", `"fine"`},
	{"integer[]", "'{{1,NULL},{3,4}}'", `[[1,null],[3,4]]`},
	{"integer[]", "'[0:1]={7,8}'", `"[0:1]={7,8}"`},
	{"text[]", `ARRAY['a,b', '"', '\', 'NULL', NULL, '']`, `["a,b","\"","\\","NULL",null,""]`},
	{"timestamptz[]", "ARRAY['2026-11-23 09:14:07+00'::timestamptz]", `["2026-11-23T09:14:07.000000Z"]`},
	{"mood[]", "'{fine,low}'", `["fine","low"]`},
	{"price", "4.50", `"4.50"`},
	{"price[]", "'{1.50,2}'", `["1.50","2.00"]`},
	{"bytea[]", `ARRAY['\x00ff'::bytea]`, `["AP8="]`},
	{"jsonb[]", `ARRAY['{"a": 1}'::jsonb]`, `[{"a": 1}]`},
	{"box[]", "'{(1,2),(0,0);(3,4),(0,0)}'", `["(1,2),(0,0)","(3,4),(0,0)"]`},
	{"place", "ROW('Alder Quay', 3)", `"(\"Alder Quay\",3)"`},
	{"place[]", "ARRAY[ROW('Alder Quay', 3)::place]", `["(\"Alder Quay\",3)"]`},
	{"floatrange", "'[0.5,1.5)'", `"[0.5,1.5)"`},
	{"hstore", `'a=>1, "b c"=>NULL'`, `"\"a\"=>\"1\", \"b c\"=>NULL"`},
	{"citext", "'Alder'", `"Alder"`},
	{"ltree", "'shelves.north.a1'", `"shelves.north.a1"`},
	{"aclitem", "'postgres=r/postgres'", `"postgres=r/postgres"`},
	{"bit", "'1'", `"1"`}, {"bit varying(8)", "'0101'", `"0101"`},
	{"box", "'(1,2),(0,0)'", `"(1,2),(0,0)"`}, {"circle", "'<(1,2),3>'", `"<(1,2),3>"`}, {"line", "'{1,2,3}'", `"{1,2,3}"`}, {"lseg", "'[(1,2),(3,4)]'", `"[(1,2),(3,4)]"`},
	{"path", "'((1,2),(3,4))'", `"((1,2),(3,4))"`}, {"point", "'(1,2)'", `"(1,2)"`}, {"polygon", "'((0,0),(1,1),(1,0))'", `"((0,0),(1,1),(1,0))"`},
	{`"char"`, "'x'", `"x"`}, {"name", "'loans'", `"loans"`}, {"refcursor", "'c'", `"c"`},
	{"cid", "'4294967295'", "4294967295"}, {"xid", "'4294967295'", "4294967295"}, {"oid", "4294967295", "4294967295"}, {"xid8", "'18446744073709551615'", `"18446744073709551615"`}, {"tid", "'(1,2)'", `"(1,2)"`},
	{"int2vector", "'1 2'", `"1 2"`}, {"oidvector", "'1 2'", `"1 2"`}, {"int2vector[]", "ARRAY['1 2'::int2vector]", `["1 2"]`},
	{"cidr", "'10.0.0.0/8'", `"10.0.0.0/8"`}, {"inet", "'10.0.0.1/8'", `"10.0.0.1/8"`}, {"macaddr", "'08:00:2b:01:02:03'", `"08:00:2b:01:02:03"`}, {"macaddr8", "'08:00:2b:01:02:03:04:05'", `"08:00:2b:01:02:03:04:05"`},
	{"money", "'1234.5'", `"$1,234.50"`}, {"pg_lsn", "'16/B374D848'", `"16/B374D848"`},
	{"pg_snapshot", "'10:20:10,14'", `"10:20:10,14"`}, {"txid_snapshot", "'10:20:10,14'", `"10:20:10,14"`},
	{"regclass", "'public.staff'", `"public.staff"`}, {"regtype", "'integer'", `"integer"`}, {"regproc", "'pg_catalog.now'", `"now"`}, {"regprocedure", "'pg_catalog.now()'", `"now()"`}, {"regoper", "'pg_catalog.||/'", `"||/"`}, {"regoperator", "'pg_catalog.+(integer,integer)'", `"+(integer,integer)"`},
	{"regrole", "'postgres'", `"postgres"`}, {"regnamespace", "'public'", `"public"`}, {"regcollation", `'"C"'`, `"\"C\""`}, {"regconfig", "'simple'", `"simple"`}, {"regdictionary", "'simple'", `"simple"`},
	{"tsvector", "'a:1 fat:2'", `"'a':1 'fat':2"`}, {"tsquery", "'a & b'", `"'a' & 'b'"`}, {"jsonpath", "'$.a'", `"$.\"a\""`}, {"xml", "'<a>&amp;</a>'", `"<a>&amp;</a>"`},
	{"int4range", "'[1,5)'", `"[1,5)"`}, {"int8range", "'(,5)'", `"(,5)"`}, {"numrange", "'[1.5,2]'", `"[1.5,2]"`}, {"daterange", "'[2026-01-01,infinity)'", `"[2026-01-01,infinity)"`},
	{"tsrange", "'[2026-01-01,2026-01-02)'", `"[\"2026-01-01 00:00:00\",\"2026-01-02 00:00:00\")"`}, {"tstzrange", "'[2026-01-01 00:00+00,)'", `"[\"2026-01-01 00:00:00+00\",)"`},
	{"int4multirange", "'{[1,2),[4,5)}'", `"{[1,2),[4,5)}"`}, {"int8multirange", "'{}'", `"{}"`}, {"nummultirange", "'{[1,2]}'", `"{[1,2]}"`}, {"datemultirange", "'{[2026-01-01,2026-01-02)}'", `"{[2026-01-01,2026-01-02)}"`},
	{"tsmultirange", "'{[2026-01-01,2026-01-02)}'", `"{[\"2026-01-01 00:00:00\",\"2026-01-02 00:00:00\")}"`}, {"tstzmultirange", "'{[2026-01-01 00:00+00,)}'", `"{[\"2026-01-01 00:00:00+00\",)}"`},
	{"numeric", "'Infinity'", `"Infinity"`}, {"numeric", "repeat('9', 2000)::numeric", `"` + strings.Repeat("9", 2000) + `"`},
	{"timestamptz", "'0044-03-15 12:00:00+00 BC'", `"0044-03-15 12:00:00+00 BC"`}, {"timestamp", "'0044-03-15 12:00:00 BC'", `"0044-03-15 12:00:00 BC"`}, {"time", "'24:00'", `"24:00:00.000000"`},
	{"timetz", "'09:14:07.25+05:30:15'", `"09:14:07.25+05:30:15"`}, {"interval", "'-1 year 2 mons -3 days'", `"P-10M-3D"`},
}

// typesOfOurOwn are what its types need.
var typesOfOurOwn = []string{"CREATE EXTENSION hstore", "CREATE EXTENSION citext", "CREATE EXTENSION ltree", "CREATE TYPE place AS (branch text, shelf integer)", "CREATE TYPE floatrange AS RANGE (subtype = float8)", "CREATE TABLE staff (id integer PRIMARY KEY)",
	"CREATE TYPE mood AS ENUM ('low', 'fine')", "CREATE DOMAIN price AS numeric(6,2)"}

// factsTable has a column of each type, and a row.
func factsTable() []string {
	columns, row := []string{"id integer PRIMARY KEY"}, []string{"1"}
	for n, v := range everyType {
		columns = append(columns, fmt.Sprintf("c%d %s", n, v.kind))
		row = append(row, v.sql)
	}
	return append(slices.Clone(typesOfOurOwn), "CREATE TABLE facts ("+strings.Join(columns, ", ")+")", "INSERT INTO facts VALUES ("+strings.Join(row, ", ")+")")
}

// TestValuesArriveExactly loads and follows a row of every type that has a rule,
// and compares each value with the JSON that the design gives it.
func TestValuesArriveExactly(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", factsTable()...)
	db := connect(t, sourceServer(t), name)
	// Every type that is built in has a value above, but for those that take none
	// (they are of the catalogue's own columns).
	rows, _ := db.Query(t.Context(), `SELECT format_type(oid, NULL) FROM pg_type WHERE typnamespace = 'pg_catalog'::regnamespace AND typtype IN ('b', 'r', 'm')
		AND NOT (typcategory = 'A' AND left(typname, 1) = '_') AND typname NOT IN ('gtsvector', 'pg_brin_bloom_summary', 'pg_brin_minmax_multi_summary', 'pg_dependencies', 'pg_mcv_list', 'pg_ndistinct', 'pg_node_tree')`)
	builtIn, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	var given []string
	for _, v := range everyType {
		var plain string
		require.NoError(t, db.QueryRow(t.Context(), "SELECT format_type($1::text::regtype, NULL)", regexp.MustCompile(`\(.*\)`).ReplaceAllString(v.kind, "")).Scan(&plain))
		given = append(given, plain)
	}
	require.Subset(t, given, builtIn)
	// Settings of the role or the database must not leak into values.
	run(t, db, "ALTER DATABASE "+name+" SET datestyle = 'SQL, DMY'", "ALTER DATABASE "+name+" SET timezone = 'Asia/Tokyo'", "ALTER DATABASE "+name+" SET bytea_output = 'escape'", "ALTER DATABASE "+name+" SET intervalstyle = 'sql_standard'", "ALTER DATABASE "+name+" SET extra_float_digits = 0")
	i.resume()
	i.settled("circulation", db)
	run(t, db, "CREATE TEMP TABLE copy AS SELECT * FROM facts", "UPDATE copy SET id = 2", "INSERT INTO facts SELECT * FROM copy", "INSERT INTO facts (id) VALUES (3)")
	i.reached("circulation", db)
	events := i.journal("circulation")
	for _, e := range ofTable(events, "public.facts", "existing", "insert") {
		if string(e.Data.Key["id"]) == "3" {
			require.Empty(t, e.Data.Omitted)
			for n := range everyType {
				require.Equal(t, "null", string(e.Data.After[fmt.Sprintf("c%d", n)]))
			}
			continue
		}
		for n, v := range everyType {
			got := string(e.Data.After[fmt.Sprintf("c%d", n)])
			if strings.HasPrefix(v.kind, "jsonb") {
				require.JSONEq(t, v.json, got)
				continue
			}
			require.Equal(t, v.json, got, "%s %s, %s", v.kind, v.sql, e.Data.Operation)
		}
	}
	// Each event's schema version can be fetched, in both languages.
	link := events[len(events)-2].DataSchema
	path := strings.TrimPrefix(link, i.address)
	var document struct {
		ID         string `json:"$id"`
		Properties map[string]struct {
			Type any    `json:"type"`
			Rule string `json:"x-rule"`
			Kind string `json:"x-type"`
		}
		Key []string `json:"x-key"`
	}
	i.must(http.MethodGet, path, nil, &document)
	require.Equal(t, link, document.ID)
	require.Equal(t, []string{"id"}, document.Key)
	require.Len(t, document.Properties, len(everyType)+1)
	require.Equal(t, "numeric(8,2)", document.Properties["c10"].Kind)
	require.Equal(t, "decimal", document.Properties["c10"].Rule)
	var avro struct {
		Type   string
		Fields []struct {
			Name string
			Type []any
		}
	}
	i.must(http.MethodGet, path+"?form=avro", nil, &avro)
	require.Equal(t, "record", avro.Type)
	require.Len(t, avro.Fields, len(everyType)+1)
	for column, want := range map[int]string{2: `["null", "int"]`, 3: `["null", "long"]`, 10: `["null", {"type": "bytes", "logicalType": "decimal", "precision": 8, "scale": 2}, "string"]`, 15: `["null", {"type": "int", "logicalType": "date"}, "string"]`,
		22: `["null", {"type": "long", "logicalType": "timestamp-micros"}, "string"]`, 30: `["null", {"type": "array", "items": ["null", "int"]}, "string"]`} {
		got, err := json.Marshal(avro.Fields[column+1].Type)
		require.NoError(t, err)
		require.JSONEq(t, want, string(got), everyType[column].kind)
	}
}

// TestDatabasesOfOtherEncodings: the server converts what it can, and of SQL_ASCII nothing:
// what is no UTF-8 there is named, by load and by log, and the source goes on.
func TestDatabasesOfOtherEncodings(t *testing.T) {
	t.Parallel()
	source := ownServer(t, sourceSettings)
	admin := connect(t, source, "postgres")
	i := newInstance(t, stateServer(t), "").start()
	for name, encoding := range map[string]string{"plain": "SQL_ASCII", "latin": "LATIN1"} {
		run(t, admin, "CREATE DATABASE "+name+" ENCODING '"+encoding+"' TEMPLATE template0 LC_COLLATE 'C' LC_CTYPE 'C'")
		db := connect(t, source, name)
		run(t, db, "SET client_encoding = '"+encoding+"'", "CREATE TABLE loans (id integer PRIMARY KEY, note text, tags text[], doc jsonb)", `INSERT INTO loans VALUES (1, E'caf\xe9', ARRAY[E'th\xe9'], '{"a": 1}')`)
		i.must(http.MethodPost, "/v1/sources/"+name, sourceDefinition(source, name), nil)
		i.must(http.MethodPost, "/v1/sources/"+name+"/resume", nil, nil)
		i.settled(name, db)
		run(t, db, `INSERT INTO loans VALUES (2, E'caf\xe9', ARRAY[E'th\xe9'], '{"a": 1}')`, `UPDATE loans SET doc = '{"a": 2}' WHERE id = 1`)
		i.reached(name, db)
		events := i.journal(name)
		proveJournal(t, events)
		want := map[string]string{"SQL_ASCII": "\"caf\uFFFD\" [\"th\uFFFD\"]", "LATIN1": `"café" ["thé"]`}[encoding]
		for _, operation := range []string{"existing", "insert", "update"} {
			found := ofTable(events, "public.loans", operation)
			require.Len(t, found, 1, operation)
			require.Equal(t, want, string(found[0].Data.After["note"])+" "+string(found[0].Data.After["tags"]), "%s, %s", encoding, operation)
		}
	}
	log, err := os.ReadFile(i.logFile())
	require.NoError(t, err)
	require.Equal(t, 2, strings.Count(string(log), "subject=source/plain event=undecodable-text"), "once for each column")
	require.Equal(t, 2, strings.Count(string(log), "event=undecodable-text"))
}
