package test

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestMariaDBAddsUpRows: two MariaDB servers add up the rows that they are compared by, and no
// difference of any type of column hides in the sums.
func TestMariaDBAddsUpRows(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	kinds := [][3]string{ // type, a value, another one
		{"int unsigned zerofill", "7", "70"}, {"bigint", "-9223372036854775808", "9223372036854775807"}, {"decimal(12,3)", "1.250", "1.251"}, {"float", "16777216", "16777218"}, {"double", "0e0", "2.3e-308"}, {"double", "0.1", "0.10000000000000002"},
		{"bit(9)", "b'0'", "b'100000000'"}, {"year", "2026", "2027"}, {"date", "'2026-11-27'", "'0000-00-00'"}, {"time(6)", "'-10:00:00'", "'-10:00:00.000001'"}, {"datetime(6)", "'2026-11-27 10:00:00'", "'2026-11-27 10:00:00.000001'"}, {"timestamp(3)", "'2026-11-27 10:00:00'", "'2026-11-27 10:00:00.001'"},
		{"char(5)", "'a'", "'A'"}, {"varchar(20)", "'a'", "'a '"}, {"varchar(20) CHARACTER SET latin1", "'é'", "'e'"}, {"varchar(20) CHARACTER SET utf8mb3", "'é'", "'É'"}, {"text", "''", "NULL"}, {"longtext", "repeat('x', 100000)", "concat(repeat('x', 99999), 'y')"},
		{"varbinary(9)", "x'00'", "x'0000'"}, {"blob", "x'FF'", "x'FE'"}, {"binary(3)", "x'0102'", "x'010203'"}, {"enum('a', 'b')", "'a'", "'b'"}, {"uuid", "'00000000-0000-0000-0000-000000000001'", "'00000000-0000-0000-0000-000000000010'"},
		{"inet4", "'10.0.0.1'", "'10.0.0.2'"}, {"inet6", "'::1'", "'::2'"}, {"point", "POINT(1, 2)", "POINT(1, 3)"}, {"int", "NULL", "0"}, {"varchar(5)", "NULL", "''"},
	}
	tables := []string{"CREATE TABLE shifted (id int PRIMARY KEY, v varchar(20), w varchar(20))", "INSERT INTO shifted VALUES (1, 'left|', 'right')", "CREATE TABLE emptied (id int PRIMARY KEY, v varchar(20), w varchar(20))", "INSERT INTO emptied VALUES (1, '', NULL)",
		"CREATE TABLE swapped (id int PRIMARY KEY, v varchar(20))", "INSERT INTO swapped VALUES (2, 'two'), (3, 'six')", "CREATE TABLE moved (id int PRIMARY KEY, v int, w int)", "INSERT INTO moved VALUES (4, 1, 23)",
		"CREATE TABLE far (id int PRIMARY KEY, v varchar(20))", "INSERT INTO far SELECT seq, 'lent' FROM seq_1_to_120000", "CREATE TABLE documents (id int PRIMARY KEY, body json)", `INSERT INTO documents VALUES (1, '{"a":  1}')`,
		"CREATE TABLE older (id int PRIMARY KEY, name varchar(9) CHARACTER SET latin2)", "INSERT INTO older VALUES (1, 'é')"}
	planted := []string{"UPDATE shifted SET v = 'left', w = '|right'", "UPDATE emptied SET v = NULL, w = ''", "UPDATE swapped SET v = IF(id = 2, 'six', 'two')", "UPDATE moved SET v = 12, w = 3", "DELETE FROM far WHERE id = 120000", "UPDATE far SET v = 'changed' WHERE id = 50000", "INSERT INTO far VALUES (-1, ''), (700000, '')"}
	want := map[string]bool{"shifted different 1 v w": true, "emptied different 1 v w": true, "swapped different 2 v": true, "swapped different 3 v": true, "moved different 4 v w": true, "far missing 120000 ": true, "far different 50000 v": true, "far extra -1 ": true, "far extra 700000 ": true}
	added := []string{"shifted", "emptied", "swapped", "moved", "far"}
	for n, k := range kinds { // a table each: what differs in one hides in no other's sum
		added = append(added, fmt.Sprintf("k%d", n))
		tables = append(tables, fmt.Sprintf("CREATE TABLE k%d (id int PRIMARY KEY, v %s NULL) CHARACTER SET utf8mb4", n, k[0]), fmt.Sprintf("INSERT INTO k%d VALUES (1, %s), (2, %[2]s), (3, %[2]s)", n, k[1]))
		planted = append(planted, fmt.Sprintf("UPDATE k%d SET v = %s WHERE id = 2", n, k[2]))
		want[fmt.Sprintf("k%d different 2 v", n)] = true
	}
	i, name, db := mariaFollowed(t, m, "", tables...)
	i.must(http.MethodPost, "/v1/destinations/there", mariaAt(t, m), nil)
	i.must(http.MethodPost, "/v1/outlets/there", map[string]any{"source": "catalogue", "destination": "there", "mariadb": map[string]any{"schema": name + "_there"}}, nil)
	i.mariaReached("catalogue", db)
	i.caughtUp("there")
	root := mariaConnect(t, m, name+"_there")
	mariaRun(t, root, "SET GLOBAL log_output = 'TABLE'", "SET GLOBAL general_log = ON")
	require.True(t, i.verified("there").Equal)
	asked := func(table, what string) (times int) {
		require.NoError(t, root.QueryRowContext(t.Context(), "SELECT count(*) FROM mysql.general_log WHERE argument LIKE ? AND argument LIKE ? AND argument NOT LIKE '%general_log%'", "SELECT%`"+table+"`%", what).Scan(&times))
		return times
	}
	for _, table := range added {
		require.Positive(t, asked(table, "%CRC32C%"), "%s is added up", table)
		require.Zero(t, asked(table, "% LIMIT 1000%"), "no row of %s is read", table)
	}
	for _, table := range []string{"documents", "older"} {
		require.Zero(t, asked(table, "%CRC32C%"), "values of %s may be the same in another form", table)
	}
	mariaRun(t, root, "SET GLOBAL general_log = OFF", "SET sql_mode = ''")
	mariaRun(t, root, planted...)
	found := make(map[string]bool)
	for _, d := range i.verified("there").Differences {
		var names []string
		for _, c := range d.Columns {
			names = append(names, c.Name)
		}
		slices.Sort(names)
		_, table, _ := strings.Cut(d.Table, ".")
		found[fmt.Sprintf("%s %s %s %s", table, d.Kind, d.Key["id"], strings.Join(names, " "))] = true
	}
	require.Equal(t, want, found)
	require.True(t, i.verified("there", "--fix").Equal)
	require.True(t, i.verified("there").Equal)
}
