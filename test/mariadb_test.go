package test

import (
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
	"rillmark/internal/testserver"
)

// mariaSettings keep a test's server quick: what a kill of the process needs holds without
// waiting for the disk. A statement that waits for a table's lock fails at last, where the
// server's own setting has it wait for a day.
var mariaSettings = map[string]string{"innodb-flush-log-at-trx-commit": "2", "sync-binlog": "0", "max-connections": "120", "lock-wait-timeout": "600"}

// mariaServer is a MariaDB server of the test's own, with a login for captures.
func mariaServer(t *testing.T, settings map[string]string) *demo.MariaDB {
	t.Helper()
	all := make(map[string]string)
	for _, from := range []map[string]string{mariaSettings, settings} {
		for name, value := range from {
			all[name] = value
		}
	}
	m := &demo.MariaDB{Folder: filepath.Join(shared.folder, fmt.Sprintf("maria-%d", databases.Add(1))), Port: testserver.FreePort(), Settings: all}
	require.NoError(t, mkdir(m.Folder))
	t.Cleanup(func() { os.RemoveAll(m.Folder) }) //nolint:errcheck // a hundred of them would fill a disk
	require.NoError(t, m.Start(context.Background()))
	t.Cleanup(m.Stop)
	require.NoError(t, m.Login(t.Context(), "capture", "REPLICATION SLAVE, BINLOG MONITOR, REPLICATION MASTER ADMIN ON *.*", "SELECT, LOCK TABLES, REFERENCES ON *.*"))
	return m
}

func mariaConnect(t *testing.T, m *demo.MariaDB, database string) *sql.DB {
	t.Helper()
	db, err := m.Connect(t.Context(), database)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() }) //nolint:errcheck // nothing is open on it
	return db
}

func mariaRun(t *testing.T, db *sql.DB, statements ...string) {
	t.Helper()
	for _, s := range statements {
		_, err := db.ExecContext(t.Context(), s)
		require.NoError(t, err, s)
	}
}

// mariaDatabase makes a database of the test's own and a pool of sessions in it.
func mariaDatabase(t *testing.T, m *demo.MariaDB, statements ...string) (string, *sql.DB) {
	t.Helper()
	name := fmt.Sprintf("test_%d_%d", os.Getpid(), databases.Add(1))
	mariaRun(t, mariaConnect(t, m, ""), "CREATE DATABASE "+name+" CHARACTER SET utf8mb4")
	db := mariaConnect(t, m, name)
	mariaRun(t, db, statements...)
	return name, db
}

func mariaSource(t *testing.T, m *demo.MariaDB, rules ...map[string]any) map[string]any {
	t.Helper()
	password, err := m.Password()
	require.NoError(t, err)
	return map[string]any{"engine": "mariadb", "connection": map[string]any{"host": "127.0.0.1", "port": m.Port, "user": "capture", "password": password}, "tables": rules}
}

// mariaReached waits until all that is committed on a server is in the source's journal.
func (i *instance) mariaReached(source string, db *sql.DB) {
	i.t.Helper()
	mariaRun(i.t, db, "CREATE TABLE IF NOT EXISTS reached (n bigint PRIMARY KEY)")
	n, from := databases.Add(1), i.next(source)
	mariaRun(i.t, db, fmt.Sprintf("INSERT INTO reached VALUES (%d)", n))
	key := fmt.Sprintf(`"n":%d}`, n)
	i.eventually("the journal has reached the end of the log", func() bool {
		for {
			code, raw, err := i.call(http.MethodGet, fmt.Sprintf("/v1/sources/%s/events?from=%d&limit=1000", source, from), nil)
			var page struct {
				Events []json.RawMessage
				Passed int64
			}
			if err != nil || code != http.StatusOK || json.Unmarshal(raw, &page) != nil {
				return false
			}
			for _, e := range page.Events {
				if strings.Contains(string(e), key) && strings.Contains(string(e), ".reached") {
					return true
				}
			}
			if len(page.Events) == 0 {
				return false
			}
			from = page.Passed + 1
		}
	})
}

// mariaSettled also waits until every table has been loaded.
func (i *instance) mariaSettled(source string, db *sql.DB) {
	i.t.Helper()
	i.eventually("every table is loaded", func() bool {
		for _, s := range i.status().Sources {
			if s.Name != source || s.Phase != "running" {
				continue
			}
			for _, table := range s.Tables {
				if table.State != "following" && table.State != "gone" && table.State != "stale" {
					return false
				}
			}
			return len(s.Tables) > 0
		}
		return false
	})
	i.mariaReached(source, db)
}

// mariaColumn is a column as the server describes it.
type mariaColumn struct {
	name, kind string
	key        bool
}

func mariaColumns(t *testing.T, db *sql.DB, table string) []mariaColumn {
	t.Helper()
	rows, err := db.QueryContext(t.Context(), "SELECT column_name, data_type, column_key = 'PRI', coalesce((SELECT 1 FROM information_schema.check_constraints k WHERE k.constraint_schema = c.table_schema AND k.table_name = c.table_name AND k.constraint_name = c.column_name AND k.check_clause LIKE 'json%'), 0) FROM information_schema.columns c WHERE table_schema = database() AND table_name = ? ORDER BY ordinal_position", table)
	require.NoError(t, err)
	defer rows.Close() //nolint:errcheck // its error is Err's
	var all []mariaColumn
	for rows.Next() {
		var c mariaColumn
		var json bool
		require.NoError(t, rows.Scan(&c.name, &c.kind, &c.key, &json))
		if json {
			c.kind = "json"
		}
		all = append(all, c)
	}
	require.NoError(t, rows.Err())
	return all
}

// mariaJSON is a value as the design writes it, made of what the server itself shows.
func mariaJSON(c mariaColumn, v []byte) string {
	text := string(v)
	switch {
	case v == nil:
		return "null"
	case strings.HasSuffix(c.kind, "int"), c.kind == "year":
		return strings.TrimLeft(text[:len(text)-1], "0") + text[len(text)-1:]
	case c.kind == "float", c.kind == "double":
		return text
	case c.kind == "json":
		return normal(v)
	case strings.HasSuffix(c.kind, "blob"), strings.HasSuffix(c.kind, "binary"):
		text = base64.StdEncoding.EncodeToString(v)
	case c.kind == "datetime", c.kind == "timestamp":
		if text = sixDecimals(text); text[5:7] == "00" || text[8:10] == "00" {
			break // no date: as the server writes it
		}
		text = strings.Replace(text, " ", "T", 1)
		if c.kind == "timestamp" {
			text += "Z"
		}
	case c.kind == "time":
		text = sixDecimals(text)
	}
	raw, _ := json.Marshal(text)
	return normal(raw)
}

func sixDecimals(text string) string {
	whole, behind, _ := strings.Cut(text, ".")
	return whole + "." + (behind + "000000")[:6]
}

// mariaEquals compares a folded table with what the server has now.
func (f *fold) mariaEquals(t *testing.T, db *sql.DB, database, table string) {
	t.Helper()
	name := database + "." + table
	columns := mariaColumns(t, db, table)
	names := make([]string, len(columns))
	for n, c := range columns {
		names[n] = "`" + c.name + "`"
	}
	conn, err := db.Conn(t.Context())
	require.NoError(t, err)
	defer conn.Close() //nolint:errcheck // it goes back to the pool
	_, err = conn.ExecContext(t.Context(), "SET time_zone = '+00:00'")
	require.NoError(t, err)
	rows, err := conn.QueryContext(t.Context(), "SELECT "+strings.Join(names, ", ")+" FROM `"+table+"`") //nolint:gosec // the test's own names
	require.NoError(t, err)
	defer rows.Close() //nolint:errcheck // its error is Err's
	want := make(map[string]map[string]string)
	for rows.Next() {
		raw := make([]sql.RawBytes, len(columns))
		into := make([]any, len(columns))
		for n := range raw {
			into[n] = &raw[n]
		}
		require.NoError(t, rows.Scan(into...))
		key, texts := make(map[string]json.RawMessage), make(map[string]string)
		for n, c := range columns {
			texts[c.name] = mariaJSON(c, raw[n])
			if c.key {
				key[c.name] = json.RawMessage(texts[c.name])
			}
		}
		want[keyText(key)] = texts
	}
	require.NoError(t, rows.Err())
	got := make(map[string]map[string]string)
	for key, row := range f.tables[name] {
		got[key] = make(map[string]string)
		for name, v := range row {
			got[key][name] = normal(v)
		}
	}
	require.Equal(t, len(want), len(got), "rows of %s", name)
	for key, row := range want {
		require.Equal(t, row, got[key], "%s %s", name, key)
	}
}

// TestMariaDBValues: each type × its edge values, through the load and through the log, are
// what the server's own SELECT gives.
func TestMariaDBValues(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	var definitions, fill []string
	n := 0
	type cell struct{ kind, literal, want string }
	var cells []cell
	add := func(kind string, pairs ...string) {
		for at := 0; at < len(pairs); at += 2 {
			n++
			definitions = append(definitions, fmt.Sprintf("v%d %s NULL DEFAULT NULL", n, kind))
			fill = append(fill, pairs[at])
			cells = append(cells, cell{kind, pairs[at], pairs[at+1]})
		}
	}
	for bits, name := range map[int]string{8: "tinyint", 16: "smallint", 24: "mediumint", 32: "int", 64: "bigint"} {
		top := uint64(1) << (bits - 1)
		add(name, fmt.Sprint("-", top), fmt.Sprint("-", top), fmt.Sprint(top-1), fmt.Sprint(top-1), "0", "0", "-1", "-1", "NULL", "null")
		add(name+" unsigned", fmt.Sprint(top), fmt.Sprint(top), fmt.Sprint(top*2-1), fmt.Sprint(top*2-1))
		add(name+" unsigned zerofill", "7", "7")
	}
	add("decimal(65,30)", strings.Repeat("9", 35)+"."+strings.Repeat("9", 30), `"`+strings.Repeat("9", 35)+"."+strings.Repeat("9", 30)+`"`,
		"-0.000000000000000000000000000001", `"-0.000000000000000000000000000001"`, "0", `"0.000000000000000000000000000000"`)
	add("decimal(10,0)", "-1234567890", `"-1234567890"`, "0", `"0"`)
	add("decimal(3,3)", "0.5", `"0.500"`, "-0.001", `"-0.001"`)
	add("decimal(11,2) unsigned zerofill", "7.5", `"7.50"`)
	add("decimal(20,9)", "12345678901.987654321", `"12345678901.987654321"`, "-10000000000.000000001", `"-10000000000.000000001"`)
	add("float", "3.14159274101257324", "3.1415927", "1e38", "1e+38", "-1.17549435e-38", "-1.1754944e-38", "16777216", "16777216", "0", "0")
	add("double", "0.1", "0.1", "1.7976931348623157e308", "1.7976931348623157e+308", "4.9e-324", "5e-324", "123456789.123456789", "123456789.12345679")
	add("bit(1)", "b'1'", "1", "b'0'", "0")
	add("bit(9)", "b'100000001'", "257")
	add("bit(64)", "0xFFFFFFFFFFFFFFFF", "18446744073709551615")
	add("year", "1901", "1901", "2155", "2155", "0", "0")
	add("year(2)", "1", "2001", "69", "2069", "99", "1999")
	add("date", "'1000-01-01'", `"1000-01-01"`, "'9999-12-31'", `"9999-12-31"`, "'0000-00-00'", `"0000-00-00"`, "'2024-02-00'", `"2024-02-00"`)
	add("time", "'-838:59:59'", `"-838:59:59.000000"`, "'00:00:00'", `"00:00:00.000000"`, "'23:59:59'", `"23:59:59.000000"`)
	add("time(3)", "'-00:00:00.001'", `"-00:00:00.001000"`, "'838:59:59.999'", `"838:59:59.999000"`)
	add("time(6)", "'-12:34:56.789012'", `"-12:34:56.789012"`, "'-01:00:00.000000'", `"-01:00:00.000000"`)
	add("time(1)", "'-00:00:01.5'", `"-00:00:01.500000"`)
	add("datetime", "'1000-01-01 00:00:00'", `"1000-01-01T00:00:00.000000"`, "'0000-00-00 00:00:00'", `"0000-00-00 00:00:00.000000"`, "'9999-12-31 23:59:59'", `"9999-12-31T23:59:59.000000"`)
	add("datetime(6)", "'2024-05-06 07:08:09.123456'", `"2024-05-06T07:08:09.123456"`)
	add("datetime(2)", "'2024-05-06 07:08:09.12'", `"2024-05-06T07:08:09.120000"`)
	add("timestamp", "'1970-01-01 00:00:01'", `"1970-01-01T00:00:01.000000Z"`, "'2038-01-19 03:14:07'", `"2038-01-19T03:14:07.000000Z"`, "'0000-00-00 00:00:00'", `"0000-00-00 00:00:00.000000"`)
	add("timestamp(5)", "'2024-10-27 01:30:00.12345'", `"2024-10-27T01:30:00.123450Z"`)
	add("char(10)", "'a  '", `"a"`, "''", `""`, "'Ünï'", `"Ünï"`)
	add("varchar(300)", "'a  '", `"a  "`, "'\"quoted\" \\\\ \\n'", `"\"quoted\" \\ \n"`, "'😀'", `"😀"`)
	add("varchar(20) character set latin1", "'Ünï €'", `"Ünï €"`)
	add("varchar(20) character set cp1251", "'Книга'", `"Книга"`)
	add("varchar(20) character set sjis", "'本とカナ'", `"本とカナ"`)
	add("varchar(20) character set gbk", "'图书馆'", `"图书馆"`)
	add("varchar(20) character set big5", "'圖書館'", `"圖書館"`)
	add("varchar(20) character set ujis", "'本とカナ'", `"本とカナ"`)
	add("varchar(20) character set euckr", "'도서관'", `"도서관"`)
	add("varchar(20) character set utf16", "'a😀'", `"a😀"`)
	add("varchar(20) character set utf16le", "'a😀'", `"a😀"`)
	add("varchar(20) character set utf32", "'a😀'", `"a😀"`)
	add("varchar(20) character set ucs2", "'aÜ'", `"aÜ"`)
	add("char(20) character set koi8r", "'Книга'", `"Книга"`)
	add("tinytext", "'x'", `"x"`)
	add("text character set latin2", "'Łódź'", `"Łódź"`)
	add("longtext", "repeat('long ', 20000)", `"`+strings.Repeat("long ", 20000)+`"`)
	add("text compressed", "repeat('press ', 1000)", `"`+strings.Repeat("press ", 1000)+`"`, "'short'", `"short"`)
	add("varchar(500) compressed", "repeat('v', 400)", `"`+strings.Repeat("v", 400)+`"`)
	add("binary(4)", "x'0100'", `"AQAAAA=="`)
	add("varbinary(300)", "x'00FF0000'", `"AP8AAA=="`, "''", `""`)
	add("blob", "x'DEADBEEF'", `"3q2+7w=="`)
	add("enum('x','y''z','')", "'x'", `"x"`, "'y''z'", `"y'z"`)
	add(`enum('nul\0','b')`, `'nul\0'`, `"nul\u0000"`, "'b'", `"b"`)
	add("enum('Łódź','b') character set latin2", "'Łódź'", `"Łódź"`)
	// Labels that are no text in their character set, as the server itself shows them.
	add("enum('a', x'F9FE', 'b?') character set big5", "2", `"?"`, "'b?'", `"b?"`, "1", `"a"`)
	add("set('a', x'F9FE') character set big5", "3", `"a,?"`)
	add("set('a','b','c','d','e','f','g','h','i')", "'a,i'", `"a,i"`, "''", `""`)
	add("json", `'{"n": 18446744073709551615, "t": [1, null, "x"]}'`, `{"n":18446744073709551615,"t":[1,null,"x"]}`, "'null'", "null", "'\"text\"'", `"text"`)
	add("uuid", "'123e4567-e89b-12d3-a456-426655440000'", `"123e4567-e89b-12d3-a456-426655440000"`, "'00000000-0000-0000-0000-000000000000'", `"00000000-0000-0000-0000-000000000000"`, "'019390a2-5a7b-7cde-8f01-23456789ab00'", `"019390a2-5a7b-7cde-8f01-23456789ab00"`)
	add("inet4", "'10.0.0.0'", `"10.0.0.0"`, "'255.255.255.255'", `"255.255.255.255"`)
	add("inet6", "'::'", `"::"`, "'2001:db8::1'", `"2001:db8::1"`, "'::ffff:1.2.3.4'", `"::ffff:1.2.3.4"`, "'::1'", `"::1"`, "'fe80::'", `"fe80::"`)
	add("point", "ST_GeomFromText('POINT(1 2)')", `"AQEAAAAAAAAAAADwPwAAAAAAAABA"`)
	add("geometry", "ST_GeomFromText('POINT(1 2)', 4326)", `"AQEAACDmEAAAAAAAAAAA8D8AAAAAAAAAQA=="`)
	add("int invisible", "5", "5")
	database, _ := mariaDatabase(t, m, "SET GLOBAL innodb_strict_mode = 0", "SET GLOBAL sql_mode = 'NO_AUTO_VALUE_ON_ZERO'")
	mariaRun(t, mariaConnect(t, m, ""), "SET GLOBAL time_zone = '+00:00'")
	db := mariaConnect(t, m, database) // its sessions have that mode and zone
	mariaRun(t, db, "CREATE TABLE kinds (id int PRIMARY KEY, "+strings.Join(definitions, ", ")+", doubled int AS (id * 2) VIRTUAL, kept int AS (id * 3) STORED) ROW_FORMAT=DYNAMIC")
	insert := func(id int) string {
		names := make([]string, len(fill))
		for i := range fill {
			names[i] = fmt.Sprintf("v%d", i+1)
		}
		return fmt.Sprintf("INSERT INTO kinds (id, %s) VALUES (%d, %s)", strings.Join(names, ", "), id, strings.Join(fill, ", "))
	}
	mariaRun(t, db, insert(1))
	i := newInstance(t, stateServer(t), "").start()
	i.must(http.MethodPost, "/v1/sources/catalogue", mariaSource(t, m, map[string]any{"match": database + ".*"}), nil)
	i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
	i.mariaSettled("catalogue", db)
	mariaRun(t, db, insert(2), "UPDATE kinds SET id = 3 WHERE id = 2", "SET GLOBAL log_bin_compress = 1", "SET GLOBAL log_bin_compress_min_len = 10")
	db = mariaConnect(t, m, database)
	mariaRun(t, db, insert(4))
	i.mariaReached("catalogue", db)
	seen := 0
	var schemas []string
	for _, e := range i.journal("catalogue") {
		if e.Data.Table != database+".kinds" {
			continue
		}
		if e.Data.Operation == "schema" {
			schemas = append(schemas, string(e.Data.Schema))
		}
		if e.Data.After == nil {
			continue
		}
		seen++
		for n, c := range cells {
			got := string(e.Data.After[fmt.Sprintf("v%d", n+1)])
			if c.kind == "json" {
				got = normal(e.Data.After[fmt.Sprintf("v%d", n+1)])
				c.want = normal(json.RawMessage(c.want))
			}
			require.Equal(t, c.want, got, "%s of %s, %s", c.literal[:min(60, len(c.literal))], c.kind, e.Data.Operation)
		}
		require.Equal(t, map[string][2]string{"1": {"2", "3"}, "2": {"4", "6"}, "3": {"6", "9"}, "4": {"8", "12"}}[string(e.Data.After["id"])], [2]string{string(e.Data.After["doubled"]), string(e.Data.After["kept"])})
	}
	require.Equal(t, 4, seen)
	require.Len(t, schemas, 1, "the load and the log agree on the columns")
	// In tables of another database each is the same, too.
	kept := &stage{instance: i}
	var all []string
	for n, c := range cells {
		if len(c.want) < 1000 { // so that many come in one batch
			all = append(all, fmt.Sprintf("v%d", n+1))
		}
	}
	mariaRun(t, db, fmt.Sprintf("INSERT INTO kinds (id, %s) SELECT seq, %[1]s FROM kinds, seq_10_to_240 WHERE id = 1", strings.Join(all, ", "))) // many rows go another way than few
	i.mariaReached("catalogue", db)
	i.must(http.MethodPost, "/v1/destinations/mirror", mariaAt(t, m), nil)
	i.must(http.MethodPost, "/v1/outlets/mirror", map[string]any{"source": "catalogue", "destination": "mirror", "tables": []string{database + ".kinds"}, "mariadb": map[string]any{"schema": database + "_mirror"}}, nil)
	kept.caughtUp("mirror")
	require.Zero(t, i.letters("mirror").Dead, "%+v", i.letters("mirror"))
	to := mariaSide(t, m, database)
	for n, c := range cells {
		column := fmt.Sprintf("id, v%d", n+1)
		if c.kind == "json" { // its white space is not in the journal
			column = fmt.Sprintf("id, json_compact(v%d)", n+1)
		}
		sameRows(t, to.digest(t, "SELECT "+column+" FROM kinds"), to.digest(t, "SELECT "+column+" FROM "+database+"_mirror.kinds"), "%s of %s", c.literal[:min(60, len(c.literal))], c.kind)
	}
	require.Equal(t, []string{"1"}, to.digest(t, "SELECT variable_value > 0 FROM information_schema.global_status WHERE variable_name = 'COM_LOAD'"))
	sameRows(t, to.digest(t, "SELECT id, doubled, kept FROM kinds"), to.digest(t, "SELECT id, doubled, kept FROM "+database+"_mirror.kinds"))
}

// texts are an image's values as JSON texts.
func texts(image map[string]json.RawMessage) map[string]string {
	all := make(map[string]string)
	for name, v := range image {
		all[name] = string(v)
	}
	return all
}

func jsonOf(raw json.RawMessage, into any) error { return json.Unmarshal(raw, into) }
