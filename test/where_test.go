package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"rillmark/internal/seeded"
)

// TestWhere keeps tables of rows that conditions choose: they are those that the source itself
// chooses by the same condition in SQL, whatever was inserted, changed and deleted.
func TestWhere(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (loan_id bigint PRIMARY KEY, branch_id integer, other_branch integer, note text, fee numeric, is_open boolean, tags jsonb, due timestamptz)", "ALTER TABLE loans REPLICA IDENTITY FULL",
		"CREATE TABLE plain (plain_id bigint PRIMARY KEY, n integer)")
	source := sourceServer(t)
	db := connect(t, source, name)
	random := seeded.Random(t, 77)
	value := func(of ...string) string { return of[random.IntN(len(of))] }
	columns := func() []string {
		return []string{value("NULL", "1", "2", "3"), value("NULL", "1", "2", "3"), value("NULL", "''", "'lent'", "'é'", "repeat('long ', 2000)"), value("NULL", "0", "0.10", "7.25", "7", "0.1000000000000000055", "'NaN'", "'Infinity'", "'-Infinity'"), value("NULL", "true", "false"),
			value("NULL", `'{"a": [1]}'`, `'{"a": []}'`), value("NULL", "'2026-11-23 09:00+00'", "'2027-01-01 00:00+00'")}
	}
	write := func(n int) {
		for range n {
			c := columns()
			id := random.IntN(120)
			switch random.IntN(4) {
			case 0:
				run(t, db, fmt.Sprintf("INSERT INTO loans VALUES (%d, %s, %s, %s, %s, %s, %s, %s) ON CONFLICT DO NOTHING", id, c[0], c[1], c[2], c[3], c[4], c[5], c[6]))
			case 1:
				run(t, db, fmt.Sprintf("DELETE FROM loans WHERE loan_id = %d", id))
			case 2:
				run(t, db, fmt.Sprintf("UPDATE loans SET loan_id = %d WHERE loan_id = %d AND NOT EXISTS (SELECT FROM loans WHERE loan_id = %[1]d)", 120+random.IntN(50), id))
			default:
				run(t, db, fmt.Sprintf("UPDATE loans SET branch_id = %s, note = CASE WHEN %d %% 2 = 0 THEN note ELSE %s END, fee = %s, is_open = %s, due = %s WHERE loan_id = %d", c[0], id, c[2], c[3], c[4], c[6], id))
			}
		}
	}
	write(200)
	run(t, db, "INSERT INTO plain SELECT n, n FROM generate_series(1, 20) n")
	conditions := []struct{ cel, sql string }{
		{`branch_id == 3`, `branch_id = 3`},
		{`branch_id != other_branch`, `branch_id IS DISTINCT FROM other_branch`},
		{`branch_id < other_branch || note == "lent"`, `branch_id < other_branch OR note = 'lent'`},
		{`!(branch_id > 1) && is_open == true`, `NOT (branch_id > 1) AND is_open`},
		{`branch_id in [1, 2] && note != null`, `branch_id IN (1, 2) AND note IS NOT NULL`},
		{`fee > 0.1 && fee != 7`, `fee > 0.1 AND fee <> 7`},
		{`fee in [0.1, 7] || math.abs(loan_id - 60) < 5 && fee > branch_id`, `fee IN (0.1, 7) OR abs(loan_id - 60) < 5 AND fee > branch_id`},
		{`note.startsWith("long") || tags.a.size() > 0`, `note LIKE 'long%' OR jsonb_array_length(tags->'a') > 0`},
		{`due > timestamp("2026-12-01T00:00:00Z")`, `due > '2026-12-01 00:00+00'`},
	}
	into := database(t, source, "postgres")
	i.resume()
	i.settled("circulation", db)
	for n, c := range conditions {
		i.intoTables(fmt.Sprintf("c%d", n), source, into, map[string]any{"schema": fmt.Sprintf("c%d", n), "offsets": fmt.Sprintf("c%d.outlets", n)}, map[string]any{"where": map[string]string{"loans": c.cel}, "batch": map[string]any{"events": []int{40, 40, 40, 40, 40, 40, 1, 40, 40}[n]}})
	}
	i.must(http.MethodPost, "/v1/outlets/crossing", map[string]any{"source": "circulation", "tables": []string{"loans"}, "where": map[string]string{"loans": `before.branch_id != after.branch_id && "branch_id" in changed`}}, nil)
	write(600)
	i.reached("circulation", db)
	to := connect(t, source, into)
	for n, c := range conditions {
		outlet := fmt.Sprintf("c%d", n)
		i.caughtUp(outlet)
		want := digest(t, db, "SELECT * FROM loans WHERE "+c.sql)
		require.NotEmpty(t, want, c.sql)
		sameRows(t, want, digest(t, to, "SELECT * FROM "+outlet+".loans"), c.cel)
		require.Len(t, digest(t, to, "SELECT * FROM "+outlet+".plain"), 20, "a table without a condition comes whole")
		require.Zero(t, i.letters(outlet).Dead)
		v := i.verified(outlet)
		require.True(t, v.Equal, "%s: %+v %+v", c.cel, v.Tables, v.Differences)
	}
	moved, _ := i.page("crossing", 1000)
	require.NotEmpty(t, moved)
	for _, raw := range moved {
		var e event
		require.NoError(t, json.Unmarshal(raw, &e))
		if e.Data.Operation == "update" {
			require.Contains(t, e.Data.Changed, "branch_id", "a condition on the event chooses by it")
		}
	}
	run(t, to, "INSERT INTO c0.loans (loan_id, branch_id) VALUES (-1, 3)", "DELETE FROM c0.loans WHERE loan_id = (SELECT min(loan_id) FROM c0.loans WHERE loan_id > 0)")
	v := i.verified("c0")
	require.Len(t, v.Differences, 2)
	require.True(t, i.verified("c0", "--fix").Equal)

	// Why one event went out, and another did not.
	from := i.next("circulation")
	run(t, db, "INSERT INTO loans (loan_id, branch_id) VALUES (800, 3)", "UPDATE loans SET branch_id = 1 WHERE loan_id = 800", "UPDATE loans SET note = 'x' WHERE loan_id = 800")
	i.reached("circulation", db)
	i.caughtUp("c0")
	for n, says := range [][]string{{"tables      passes", "branch_id == 3: it holds for the row (branch_id 3)", "message ", "delivered   it was delivered"},
		{"it holds for the row before, and does not hold for the row after (branch_id 3 → 1)", "it is a delete", "delivered "},
		{"where       stops", "it does not hold for the row before, and does not hold for the row after (branch_id 1)", "kept back   it is kept back"}} {
		out, errs, code := i.cli("why", "c0", fmt.Sprint(from+int64(n)))
		require.Zero(t, code, errs)
		for _, text := range says {
			require.Contains(t, out, text)
		}
	}
	_, _, refused := i.cli("why", "c0", "99999999")
	require.NotZero(t, refused)

	// What is refused is kept as it went out: a row that enters is an insert.
	run(t, to, "ALTER TABLE c0.loans ADD CHECK (note IS DISTINCT FROM 'poison')")
	run(t, db, "INSERT INTO loans (loan_id, branch_id, note) VALUES (801, 1, 'poison')", "UPDATE loans SET branch_id = 3 WHERE loan_id = 801")
	i.reached("circulation", db)
	i.caughtUp("c0")
	letters := i.letters("c0")
	require.Len(t, letters.Items, 1)
	require.Equal(t, "insert", letters.Items[0].Operation)
	why, _, _ := i.cli("why", "c0", fmt.Sprint(letters.Items[0].Offset))
	require.Contains(t, why, "dead        it is a dead letter")
	run(t, to, "ALTER TABLE c0.loans DROP CONSTRAINT loans_note_check")
	_, errs, code := i.cli("dead-letter", "retry", "c0", "--all")
	require.Zero(t, code, errs)
	i.eventually("it is there", func() bool {
		n := 0
		return to.QueryRow(t.Context(), "SELECT count(*) FROM c0.loans WHERE loan_id = 801").Scan(&n) == nil && n == 1
	})

	// What cannot be used is refused where it is written, with its place.
	p := i.refused(http.MethodPost, "/v1/outlets/wrong", map[string]any{"source": "circulation", "where": map[string]string{"loans": "brnach_id == 3"}})
	require.Contains(t, p.Detail, "(branch_id?)")
	// A preview counts what each part of a definition keeps back.
	var preview struct {
		Looked   int64 `json:"looked_at"`
		Items    []json.RawMessage
		KeptBack []struct {
			By     string
			Events int64
		} `json:"kept_back"`
	}
	i.must(http.MethodPost, "/v1/outlets/preview/preview?limit=200", map[string]any{"source": "circulation", "tables": []string{"plain"}, "operations": []string{"existing"}, "where": map[string]string{"plain": "n <= 5"}}, &preview)
	kept := make(map[string]int64)
	for _, k := range preview.KeptBack {
		kept[k.By] = k.Events
	}
	require.Len(t, preview.Items, 5)
	require.Equal(t, int64(15), kept["n <= 5"])
	require.Equal(t, preview.Looked, 5+15+kept["operations"])
	require.Positive(t, kept["operations"])
	_, errs, code = i.cli("outlet", "add", "wrong", "--source", "circulation", "--where", `loans=branch_id ==`)
	require.NotZero(t, code)
	require.Contains(t, errs, "line 1, column")
	_, errs, code = i.cli("outlet", "add", "flagged", "--source", "circulation", "--where", `loans=note == "a, b" && branch_id == 3`, "--where", "plain=n < 5")
	require.Zero(t, code, errs)
	out, _, _ := i.cli("outlet", "show", "flagged")
	require.Contains(t, out, `note == "a, b" && branch_id == 3`)

	// A column that a condition names is dropped: the outlet holds until the condition is changed.
	run(t, db, "ALTER TABLE loans DROP COLUMN is_open", "INSERT INTO loans (loan_id, branch_id) VALUES (900, 1)")
	require.Contains(t, i.outletIs("c3", "holds", func(o outletStatus) bool { return o.Phase == "failed" }).Error, "is_open")
	_, errs, code = i.cli("outlet", "edit", "c3", "--set", "where.loans=branch_id == 1")
	require.Zero(t, code, errs)
	i.must(http.MethodPost, "/v1/outlets/c3/resume", nil, nil)
	i.reached("circulation", db)
	i.caughtUp("c3")
	require.Len(t, digest(t, to, "SELECT * FROM c3.loans WHERE loan_id = 900"), 1)

	page := browser(t, i.address+"/outlets/flagged/definition")
	holds(t, page, "the conditions stand in the form", `document.body.innerText.includes("Only rows for which") && [...document.querySelectorAll("textarea, input")].some((f) => f.value.includes('note == "a, b"'))`)
	accessible(t, page, "conditions in a definition")
	require.NoError(t, chromedp.Do(page, chromedp.WaitVisible(css("form"))))
}

// TestHalvesThatPassAlone changes keys so that an outlet's condition lets one event of the two
// through: it names the other key in no way of reading it, and with both each names the other.
func TestHalvesThatPassAlone(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE copies (copy_id bigint PRIMARY KEY, note text)", "INSERT INTO copies VALUES (1, 'a'), (12, 'b'), (3, 'c')")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	definition := map[string]any{"source": "circulation", "tables": []string{"copies"}, "where": map[string]string{"copies": "copy_id < 10"}, "operations": []string{"insert", "delete"}}
	i.must(http.MethodPost, "/v1/outlets/low", definition, nil)
	from := i.next("circulation")
	run(t, db, "UPDATE copies SET copy_id = 11 WHERE copy_id = 1", "UPDATE copies SET copy_id = 2 WHERE copy_id = 12", "UPDATE copies SET copy_id = 4 WHERE copy_id = 3")
	i.reached("circulation", db)
	said := func(raw json.RawMessage) string {
		var e struct {
			Data struct {
				Operation    string
				Key, Rekeyed map[string]int
			}
		}
		require.NoError(t, json.Unmarshal(raw, &e))
		text := fmt.Sprint(e.Data.Operation, " ", e.Data.Key["copy_id"])
		if e.Data.Rekeyed != nil {
			text += fmt.Sprint(" with ", e.Data.Rekeyed["copy_id"])
		}
		return text
	}
	all := func(events []json.RawMessage) (texts []string) {
		for _, raw := range events {
			texts = append(texts, said(raw))
		}
		return texts
	}
	want := []string{"delete 1", "insert 2", "delete 3 with 4", "insert 4 with 3"}
	// One event a page: whoever commits what a page has passed misses none.
	var paged []json.RawMessage
	for committed := int64(-1); len(paged) < len(want); {
		events, passed := i.page("low", 1)
		require.NotEmpty(t, events)
		require.Greater(t, passed, committed)
		paged, committed = append(paged, events...), passed
		i.must(http.MethodPost, "/v1/outlets/low/commit", map[string]any{"committed": passed}, nil)
	}
	require.Equal(t, want, all(paged))
	// A part of the journal that ends between two halves has the first one, which names no other key.
	for _, end := range []int64{1, 5} {
		var page struct {
			Events []json.RawMessage
			Passed int64
		}
		i.must(http.MethodGet, fmt.Sprintf("/v1/outlets/low/events?from=%d&until=%d", from, from+end), nil, &page)
		require.Equal(t, map[int64][]string{1: {"delete 1"}, 5: {"delete 1", "insert 2", "delete 3"}}[end], all(page.Events))
		require.Equal(t, from+end-1, page.Passed)
	}
	var preview struct{ Items []struct{ Body string } }
	i.must(http.MethodPost, fmt.Sprintf("/v1/outlets/low/preview?from=%d", from), nil, &preview)
	var previewed []json.RawMessage
	for _, m := range preview.Items {
		previewed = append(previewed, json.RawMessage(m.Body))
	}
	require.Equal(t, want, all(previewed))
	for n, says := range map[int64]string{0: "delete 1", 3: "insert 2", 4: "delete 3 with 4", 5: "insert 4 with 3"} {
		var why struct{ Messages []struct{ Body string } }
		i.must(http.MethodGet, fmt.Sprintf("/v1/outlets/low/why?offset=%d", from+n), nil, &why)
		require.Len(t, why.Messages, 1)
		require.Equal(t, says, said(json.RawMessage(why.Messages[0].Body)))
	}
}
