package test

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// rowsAt are a table's rows as the service works them out, by their keys, each value in its
// normal form.
func (i *instance) rowsAt(table, at string, keys []string, args ...string) map[string]map[string]string {
	i.t.Helper()
	out, errs, code := i.cli(append([]string{"rows", "circulation", table, "--at", at}, args...)...)
	require.Zero(i.t, code, errs)
	found := make(map[string]map[string]string)
	for line := range strings.Lines(out) {
		var row map[string]json.RawMessage
		require.NoError(i.t, json.Unmarshal([]byte(line), &row), line)
		var nulls []string
		json.Unmarshal(row["_json_null"], &nulls) //nolint:errcheck // there are none
		delete(row, "_json_null")
		for _, name := range nulls {
			row[name] = json.RawMessage(`"the document null"`)
		}
		key, texts := make(map[string]json.RawMessage), make(map[string]string)
		for name, v := range row {
			texts[name] = normal(v)
		}
		for _, name := range keys {
			key[name] = row[name]
		}
		found[keyText(key)] = texts
	}
	require.Contains(i.t, errs, fmt.Sprintf("%s rows of public.%s as of offset", commas(len(found)), table))
	return found
}

func commas(n int) string {
	text := fmt.Sprint(n)
	if len(text) > 3 {
		return text[:len(text)-3] + "," + text[len(text)-3:]
	}
	return text
}

// TestRowsAsTheyWere copies tables at some moments under writers, and has the service work
// out what they were then.
func TestRowsAsTheyWere(t *testing.T) {
	t.Parallel()
	source, copies := sourceServer(t), 1500
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	fillWorkload(t, db, copies)
	run(t, db, "CREATE SCHEMA kept")
	dropSlotAtEnd(t, source)
	i := newInstance(t, stateServer(t), killConfig).start()
	i.must(http.MethodPost, "/v1/sources/circulation", sourceDefinition(source, name), nil)
	i.resume()
	i.settled("circulation", db)
	w := startWriters(t, source, name, 3, copies)
	tables := map[string][]string{"copies": {"copy_id"}, "loans": {"copy_id", "patron_id"}, "shelves": {"mark"}}
	const moments = 4
	for n := range moments {
		i.progresses(300)
		if n == 2 {
			i.stop(syscall.SIGKILL)
			i.start()
		}
		// While nobody may write, the tables are copied and a message marks the moment.
		statements := []string{"BEGIN", "LOCK TABLE copies, loans, shelves IN SHARE MODE"}
		for table := range tables {
			statements = append(statements, fmt.Sprintf("CREATE TABLE kept.%s_%d (LIKE public.%[1]s INCLUDING ALL)", table, n), fmt.Sprintf("INSERT INTO kept.%s_%d SELECT * FROM public.%[1]s", table, n))
		}
		statements = append(statements, fmt.Sprintf("SELECT pg_logical_emit_message(true, 'moment', '%d')", n), "COMMIT")
		for attempt := 0; ; attempt++ {
			_, err := db.Exec(context.Background(), strings.Join(statements, "; "))
			if err == nil {
				break
			}
			require.Less(t, attempt, 20, err)
			db.Exec(context.Background(), "ROLLBACK") //nolint:errcheck // a deadlock with a writer has ended it
		}
	}
	i.progresses(300)
	w.end()
	i.settled("circulation", db)
	i.reached("circulation", db)
	at := make(map[string]string)
	for _, e := range i.journal("circulation") {
		if e.Data.Operation == "message" && strings.Contains(string(e.Data.Message), `"moment"`) {
			var said struct{ Content json.RawMessage }
			require.NoError(t, json.Unmarshal(e.Data.Message, &said))
			at[strings.Trim(string(said.Content), `"`)] = strings.TrimLeft(e.Sequence, "0")
		}
	}
	require.Len(t, at, moments)
	for n := range moments {
		for table, keys := range tables {
			require.Equal(t, selectAll(t, db, fmt.Sprintf("kept.%s_%d", table, n)), i.rowsAt(table, at[fmt.Sprint(n)], keys), "%s at moment %d", table, n)
		}
	}
	chosen := i.cliRows("copies", at["1"], "copy_id <= 20 && price > 0.0")
	want := len(digest(t, db, "SELECT copy_id FROM kept.copies_1 WHERE copy_id <= 20 AND price > 0"))
	require.Equal(t, want, chosen)
	file := filepath.Join(t.TempDir(), "copies.csv")
	_, errs, code := i.cli("rows", "circulation", "copies", "--at", at["3"], "--format", "csv", "--to", file)
	require.Zero(t, code, errs)
	opened, err := os.Open(file)
	require.NoError(t, err)
	defer opened.Close() //nolint:errcheck // it was only read
	records, err := csv.NewReader(opened).ReadAll()
	require.NoError(t, err)
	require.Len(t, records, 1+len(digest(t, db, "SELECT copy_id FROM kept.copies_3")))
	require.Equal(t, "copy_id", records[0][0])
	// A reader that is not ours finds the same rows in a Parquet file.
	columnar := filepath.Join(t.TempDir(), "copies.parquet")
	_, errs, code = i.cli("rows", "circulation", "copies", "--at", at["3"], "--format", "parquet", "--to", columnar)
	require.Zero(t, code, errs)
	rows := npmReader(t, "parquet", []string{columnar})
	require.Len(t, rows, len(records)-1)
	prices := make(map[string]string)
	for _, record := range records[1:] {
		prices[record[0]] = record[slices.Index(records[0], "price")]
	}
	for _, row := range rows {
		want, err := strconv.ParseFloat(prices[fmt.Sprint(row["copy_id"])], 64)
		require.NoError(t, err)
		price, err := strconv.ParseFloat(fmt.Sprint(row["price"]), 64)
		require.NoError(t, err)
		require.InDelta(t, want, price, 1e-9, "that reader makes doubles of decimals")
		require.NotContains(t, row, "_operation")
	}
	_, errs, code = i.cli("rows", "circulation", "copies", "--format", "parquet")
	require.NotZero(t, code)
	require.Contains(t, errs, "give --to FILE")
	_, errs, code = i.cli("rows", "circulation", "copies", "--at", at["3"], "--to", file)
	require.NotZero(t, code)
	require.Contains(t, errs, "is there already")
	for args, told := range map[[2]string]string{{"copies", "99999999"}: "outside", {"nothing", "now"}: "no event of a table", {"copies", "0"}: "no event of a table", {"copies", "yesterday"}: "no place"} {
		_, errs, code := i.cli("rows", "circulation", args[0], "--at", args[1])
		require.NotZero(t, code, args)
		require.Contains(t, errs, told)
	}
	_, errs, code = i.cli("rows", "circulation", "copies", "--where", "prise > 1.0")
	require.NotZero(t, code)
	require.Contains(t, errs, "(price?)")
	i.refused(http.MethodGet, "/v1/sources/circulation/tables/public.copies/rows?format=xml", nil)
}

// cliRows counts the rows that a condition chooses.
func (i *instance) cliRows(table, at, where string) int {
	i.t.Helper()
	out, errs, code := i.cli("rows", "circulation", table, "--at", at, "--where", where)
	require.Zero(i.t, code, errs)
	return strings.Count(out, "\n")
}

// TestRowsOfATableThatWasNeverLoaded: what the journal has of it is shown, and said to be a part.
func TestRowsOfATableThatWasNeverLoaded(t *testing.T) {
	t.Parallel()
	i, name := captured(t, "", []map[string]any{{"match": "public.*"}}, map[string]any{"mode": "follow-only"}, "CREATE TABLE seen (id int PRIMARY KEY, note text)", "INSERT INTO seen SELECT n, 'before' FROM generate_series(1, 50) n")
	db := connect(t, sourceServer(t), name)
	run(t, db, "INSERT INTO seen VALUES (100, 'new')", "UPDATE seen SET note = 'changed' WHERE id = 7")
	i.reached("circulation", db)
	out, errs, code := i.cli("rows", "circulation", "seen")
	require.Zero(t, code, errs)
	require.Equal(t, 2, strings.Count(out, "\n"))
	require.Contains(t, errs, "not complete: the journal has no load of this table")
	out, errs, code = i.cli("rows", "circulation", "seen", "--count", "--json")
	require.Zero(t, code, errs)
	var said struct {
		Rows     int
		Complete bool
		Note     string
	}
	require.NoError(t, json.Unmarshal([]byte(out), &said), out)
	require.Equal(t, 2, said.Rows)
	require.False(t, said.Complete)
	require.Contains(t, said.Note, "rillmark source reload circulation public.seen")
}
