package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestMariaDBStatements: where it is wished, the text of a statement is a message ahead of its
// rows, once, through kills; values are left out of it where a rule keeps any back. What a
// statement did to a definition is in the schema event, with the session that ran it.
func TestMariaDBStatements(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	database, db := mariaDatabase(t, m, "CREATE TABLE loans (id int PRIMARY KEY, note varchar(60), branch varchar(10))", "CREATE TABLE patrons (id int PRIMARY KEY, email varchar(60))", "CREATE TABLE left_out (id int PRIMARY KEY)",
		"CREATE TABLE left_gates (id int PRIMARY KEY) ENGINE=MyISAM")
	i := newInstance(t, stateServer(t), "").start()
	for source, rules := range map[string][]map[string]any{
		"open":    {{"match": database + ".loans"}, {"match": database + ".reached"}},
		"private": {{"match": database + ".loans"}, {"match": database + ".patrons", "columns": []map[string]string{{"match": "email", "treat": "mask"}}}, {"match": database + ".reached"}},
		"part":    {{"match": database + ".loans", "filter": "branch == 'north'"}, {"match": database + ".reached"}},
		"without": {{"match": database + ".loans"}, {"match": database + ".reached"}},
	} {
		d := mariaSource(t, m, rules...)
		d["connection"].(map[string]any)["row_statements"] = source != "without"
		i.must(http.MethodPost, "/v1/sources/"+source, d, nil)
		i.must(http.MethodPost, "/v1/sources/"+source+"/resume", nil, nil)
		i.mariaSettled(source, db)
	}
	conn, err := db.Conn(t.Context())
	require.NoError(t, err)
	defer conn.Close() //nolint:errcheck // it goes back to the pool
	var session int
	require.NoError(t, conn.QueryRowContext(t.Context(), "SELECT connection_id()").Scan(&session))
	const many = "INSERT INTO loans SELECT seq, repeat('n', 50), 'north' FROM seq_1001_to_60000"
	for _, one := range []string{
		"INSERT INTO left_out VALUES (1)",
		"BEGIN", "INSERT INTO left_out VALUES (2)", "INSERT INTO loans VALUES (1, 'ada@library.example', 'north'), (2, 'b', 'south')",
		"UPDATE loans SET note = concat(note, ' c') /* of 1234 */ WHERE id < 0x0A", "DELETE FROM loans WHERE id = 77",
		"SAVEPOINT s", "INSERT INTO left_gates VALUES (1)", "UPDATE loans SET note = 'taken back'", "ROLLBACK TO s", // the log has both

		"SET binlog_annotate_row_events = 0", "UPDATE loans SET note = 'said by nobody' WHERE id = 1", "COMMIT", "SET binlog_annotate_row_events = 1",
		`INSERT INTO patrons VALUES (1, 'who\'s there')`,
		"ALTER TABLE loans RENAME COLUMN note TO remark", "ALTER TABLE loans ADD COLUMN due date", "INSERT INTO loans VALUES (3, 'd', 'north', NULL)",
		strings.Replace(many, "'north'", "'north', NULL", 1),
	} {
		_, err := conn.ExecContext(t.Context(), one)
		require.NoError(t, err, one)
		for _, source := range []string{"open", "private", "part", "without"} {
			if strings.HasPrefix(one, "ALTER") { // what is read late has the definition of later statements
				i.mariaReached(source, db)
			}
		}
	}
	for range 4 { // into the transaction of many rows, where it can be
		from := i.next("open")
		i.eventually("the journal grows, or has all", func() bool { return i.next("open") > min(from+1000, 59_000) })
		i.stop(syscall.SIGKILL)
		i.start()
	}
	told := func(source string) (lines []string) {
		i.mariaReached(source, db)
		rows := ""
		for _, e := range i.journal(source) {
			switch {
			case strings.HasSuffix(e.Data.Table, ".reached"), e.Data.Operation == "loaded", e.Data.Operation == "void":
			case e.Data.Operation == "message":
				var said struct{ Prefix, Content string }
				require.NoError(t, json.Unmarshal(e.Data.Message, &said))
				require.Equal(t, "statement", said.Prefix)
				if !strings.Contains(said.Content, "reached") {
					lines, rows = append(lines, said.Content), ""
				}
			case e.Data.Operation == "schema":
				var s struct {
					Statement string
					Session   int
					Renamed   []struct{ From, To string }
				}
				require.NoError(t, json.Unmarshal(e.Data.Schema, &s))
				if s.Statement != "" {
					require.Equal(t, session, s.Session)
					lines, rows = append(lines, strings.TrimSpace(fmt.Sprint(s.Statement, " ", s.Renamed))), ""
				}
			case e.Data.Operation != rows: // the first of several
				rows = e.Data.Operation
				lines = append(lines, rows)
			}
		}
		return lines
	}
	const renamed, due = "ALTER TABLE loans RENAME COLUMN note TO remark [{note remark}]", "ALTER TABLE loans ADD COLUMN due date []"
	large := strings.Replace(many, "'north'", "'north', NULL", 1)
	require.Equal(t, []string{
		"INSERT INTO loans VALUES (1, 'ada@library.example', 'north'), (2, 'b', 'south')", "insert",
		"UPDATE loans SET note = concat(note, ' c') /* of 1234 */ WHERE id < 0x0A", "update",
		renamed, due, "INSERT INTO loans VALUES (3, 'd', 'north', NULL)", "insert", large, "insert",
	}, told("open"))
	bare := func(without ...string) []string {
		return append(without, renamed, due, "INSERT INTO loans VALUES (?, ?, ?, NULL)", "insert", "INSERT INTO loans SELECT seq, repeat(?, ?), ?, NULL FROM seq_1001_to_60000", "insert")
	}
	require.Equal(t, bare("INSERT INTO loans VALUES (?, ?, ?), (?, ?, ?)", "insert", "UPDATE loans SET note = concat(note, ?) WHERE id < ?", "update", "INSERT …", "insert"), told("private"))
	require.Equal(t, bare("INSERT INTO loans VALUES (?, ?, ?), (?, ?, ?)", "insert", "UPDATE loans SET note = concat(note, ?) WHERE id < ?", "update"), told("part"))
	require.Equal(t, []string{"insert", "update", renamed, due, "insert"}, told("without"))
}
