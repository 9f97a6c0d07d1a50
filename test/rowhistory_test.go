package test

import (
	"encoding/json"
	"net/http"
	"strconv"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"rillmark/internal/service/reading"
)

// TestHistoryOfARow: every version of a row, through changed keys and over lives.
func TestHistoryOfARow(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (loan_id bigint PRIMARY KEY, note text)", "ALTER TABLE loans REPLICA IDENTITY FULL", "CREATE TABLE pairs (a integer, b text, n integer, PRIMARY KEY (a, b))", "CREATE TABLE bag (n integer)",
		"INSERT INTO loans SELECT n, 'loaded' FROM generate_series(1, 50) n")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	noise := func() { run(t, db, "UPDATE loans SET note = note || '.' WHERE loan_id BETWEEN 21 AND 50") }
	run(t, db, "UPDATE loans SET note = 'first' WHERE loan_id = 7")
	noise()
	run(t, db, "UPDATE loans SET loan_id = 107 WHERE loan_id = 7", "UPDATE loans SET note = 'second' WHERE loan_id = 107")
	noise()
	run(t, db, "INSERT INTO loans VALUES (7, 'another row')", "UPDATE loans SET loan_id = 207, note = 'third' WHERE loan_id = 107", "DELETE FROM loans WHERE loan_id = 207", "INSERT INTO loans VALUES (207, 'again')", "DELETE FROM loans WHERE loan_id = 7",
		"INSERT INTO pairs VALUES (1, 'x=y', 1), (1, 'z', 2)", "UPDATE pairs SET n = 5 WHERE b = 'x=y'", "TRUNCATE pairs", "INSERT INTO pairs VALUES (1, 'x=y', 9)", "INSERT INTO bag VALUES (1)")
	i.reached("circulation", db)
	history := func(table string, args ...string) (h reading.RowHistory, said []string) {
		t.Helper()
		out, errs, code := i.cli(append([]string{"history", "circulation", table, "--json"}, args...)...)
		require.Zero(t, code, errs)
		require.NoError(t, json.Unmarshal([]byte(out), &h), out)
		last := int64(0)
		for _, raw := range h.Events {
			var e event
			require.NoError(t, json.Unmarshal(raw, &e))
			word := e.Data.Operation
			if e.Data.Rekeyed != nil {
				word += " rekeyed"
			}
			if note := e.Data.After["note"]; note != nil {
				word += " " + string(note)
			}
			said = append(said, word)
			offset, err := strconv.ParseInt(e.Sequence, 10, 64)
			require.NoError(t, err)
			require.Greater(t, offset, last, "oldest first")
			last = offset
		}
		return h, said
	}
	life := []string{"existing \"loaded\"", "update \"first\"", "delete rekeyed", "insert rekeyed \"first\"", "update \"second\"", "delete rekeyed", "insert rekeyed \"third\"", "delete"}
	_, said := history("loans", "107")
	require.Equal(t, life, said, "back and on, through all of its keys")
	_, said = history("loans", "7")
	require.Equal(t, append(append([]string{}, life[:5]...), "insert \"another row\"", life[5], life[6], life[7], "delete"), said, "two rows had that key: both are there")
	_, said = history("loans", "207")
	require.Equal(t, append(append([]string{}, life...), "insert \"again\""), said, "two lives under one key")
	h, said := history("loans", "107", "--limit", "2")
	require.True(t, h.More)
	require.Equal(t, life[6:], said)
	_, said = history("pairs", "a=1", "b=x=y")
	require.Equal(t, []string{"insert", "update", "truncate", "insert"}, said)
	h, said = history("loans", "9999")
	require.Empty(t, said)
	require.False(t, h.More)
	out, _, code := i.cli("history", "circulation", "loans", "107")
	require.Zero(t, code)
	require.Contains(t, out, "note  loaded → first")
	require.Contains(t, out, "its key becomes loan_id 207")
	for args, told := range map[[2]string]string{{"pairs", "1"}: "the key of public.pairs is a, b", {"bag", "1"}: "public.bag has no key", {"nothing", "1"}: "has no table"} {
		_, errs, code := i.cli("history", "circulation", args[0], args[1])
		require.NotZero(t, code)
		require.Contains(t, errs, told)
	}
	i.refused(http.MethodGet, "/v1/sources/circulation/tables/public.loans/history", nil)
	i.refused(http.MethodGet, "/v1/sources/circulation/tables/public.loans/history?key=loan_id=1&key=loan_id=2", nil)

	page := browser(t, i.address+"/sources/circulation/tables/public.loans/history?key=loan_id%3D107")
	holds(t, page, "all versions", `document.querySelectorAll("[role=option]").length === 8`)
	require.NoError(t, chromedp.Do(page, chromedp.Click(css("[role=option]:nth-child(4)"))))
	holds(t, page, "one is opened", `document.querySelectorAll(".change-detail").length === 1`)
	accessible(t, page, "the history of a row")
}
