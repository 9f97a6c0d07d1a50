package test

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/seeded"
	"rillmark/internal/service/explaining"
)

// edit changes a stored definition.
func edit(i *instance, kind, name string, change func(d map[string]any)) {
	i.t.Helper()
	var now struct {
		Definition map[string]any
		Version    int
	}
	i.must(http.MethodGet, "/v1/"+kind+"/"+name, nil, &now)
	change(now.Definition)
	code, raw, err := i.call(http.MethodPut, "/v1/"+kind+"/"+name, now.Definition, "If-Match", fmt.Sprintf(`"%d"`, now.Version))
	require.NoError(i.t, err)
	require.Equal(i.t, http.StatusOK, code, "%s", raw)
}

// TestFormsOfRows: new columns have the values that the source itself works out by the same
// expression in SQL; dropped, renamed and hashed ones are what they are said to be; and what
// a preview shows is what is delivered.
func TestFormsOfRows(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (loan_id bigint PRIMARY KEY, branch_id integer, note text, fee numeric(8,2), is_open boolean, due timestamptz, pin text, card text)")
	source := sourceServer(t)
	db := connect(t, source, name)
	random := seeded.Random(t, 79)
	value := func(of ...string) string { return of[random.IntN(len(of))] }
	write := func(n int) {
		for range n {
			id := random.IntN(80)
			c := []any{id, value("NULL", "1", "2", "-3"), value("NULL", "''", "'lent'", "'é'", "repeat('long ', 2000)"), value("NULL", "0", "0.10", "-7.25"), value("NULL", "true", "false"),
				value("NULL", "'2026-11-23 09:00+00'", "'2026-12-31 23:30+00'")}
			switch random.IntN(5) {
			case 0:
				run(t, db, fmt.Sprintf("DELETE FROM loans WHERE loan_id = %d", id))
			case 1:
				run(t, db, fmt.Sprintf("UPDATE loans SET loan_id = %d WHERE loan_id = %d AND NOT EXISTS (SELECT FROM loans WHERE loan_id = %[1]d)", 80+random.IntN(40), id))
			default:
				run(t, db, fmt.Sprintf("INSERT INTO loans VALUES (%d, %s, %s, %s, %s, %s, '1234', 'card %[1]d') ON CONFLICT (loan_id) DO UPDATE SET branch_id = excluded.branch_id, fee = excluded.fee, is_open = excluded.is_open, due = excluded.due", c...))
			}
		}
	}
	write(100)
	formulas := []struct{ is, kind, sql string }{
		{`fee * 3`, "", `fee * 3`},
		{`1 - fee`, "", `1 - fee`},
		{`fee * 1.21`, "", `fee * 1.21`},
		{`decimal(branch_id) / 3`, "decimal(12,4)", `round(branch_id / 3.0, 4)`},
		{`round(fee, 1)`, "decimal", `round(fee, 1)`},
		{`twice(fee)`, "", `fee * 2`},
		{`branch_id * 2 + 1`, "", `branch_id::bigint * 2 + 1`},
		{`note.size()`, "", `length(note)::bigint`},
		{`sha256(note)`, "", `encode(sha256(convert_to(note, 'UTF8')), 'hex')`},
		{`branch_id == null ? "none" : string(branch_id)`, "", `coalesce(branch_id::text, 'none')`},
		{`is_open && fee > 0`, "", `is_open AND fee > 0`},
		{`fee < branch_id`, "", `fee < branch_id`},
		{`due + duration("24h")`, "", `due + interval '24 hours'`},
		{`due.getFullYear("Europe/Berlin")`, "", `extract(year FROM due AT TIME ZONE 'Europe/Berlin')::bigint`},
		{`string(fee) + "!"`, "", `fee::text || '!'`},
		{`double(fee) / 3.0`, "", `fee::float8 / 3`},
		{`{"open": is_open, "at": [branch_id]}`, "", `replace(json_build_object('at', json_build_array(branch_id), 'open', is_open)::text, ' ', '')`},
		{`row["branch_id"]`, "integer", `branch_id::bigint`},
	}
	into := database(t, source, "postgres")
	definition := func() map[string]any {
		forms := []map[string]any{}
		for n, f := range formulas {
			forms = append(forms, map[string]any{"name": fmt.Sprintf("n%d", n), "is": f.is, "type": f.kind})
		}
		return map[string]any{"source": "circulation",
			"functions": []map[string]any{{"name": "twice", "arguments": []map[string]any{{"name": "a", "type": "decimal"}}, "is": "a * 2"}},
			"rows": []map[string]any{{"match": "public.loans", "new": forms, "columns": []map[string]any{
				{"match": "pin", "treat": "drop"}, {"match": "card", "treat": "hash"}, {"match": "branch_id", "name": "branch"}, {"match": "is_*", "treat": "mask"}}}}}
	}
	edit(i, "sources", "circulation", func(d map[string]any) { d["hash_key"] = "a key of the test" })
	i.resume()
	i.settled("circulation", db)
	i.must(http.MethodPost, "/v1/destinations/formed", databaseAt(source, into), nil)
	d := definition()
	d["destination"] = "formed"
	i.must(http.MethodPost, "/v1/outlets/formed", d, nil)
	write(150)
	i.reached("circulation", db)
	i.caughtUp("formed")
	target := connect(t, source, into)
	same := func(what string) {
		t.Helper()
		for n, f := range formulas {
			sameRows(t, digest(t, db, "SELECT loan_id, "+f.sql+" FROM loans"), digest(t, target, fmt.Sprintf("SELECT loan_id, n%d FROM public.loans", n)), "%s: %s", what, f.is)
		}
		sameRows(t, digest(t, db, "SELECT loan_id, branch_id, CASE WHEN is_open IS NOT NULL THEN '***' END, encode(sha256(convert_to('', 'UTF8')), 'hex') FROM loans"),
			digest(t, target, "SELECT loan_id, branch, is_open, encode(sha256(convert_to('', 'UTF8')), 'hex') FROM public.loans"), what)
	}
	same("after changes")
	mac := hmac.New(sha256.New, []byte("a key of the test"))
	mac.Write([]byte("card 200"))
	run(t, db, "INSERT INTO loans (loan_id, pin, card) VALUES (200, '99', 'card 200')")
	i.reached("circulation", db)
	i.caughtUp("formed")
	var hashed string
	require.NoError(t, target.QueryRow(t.Context(), "SELECT card FROM public.loans WHERE loan_id = 200").Scan(&hashed))
	require.Equal(t, hex.EncodeToString(mac.Sum(nil)), hashed)
	var pins int
	require.NoError(t, target.QueryRow(t.Context(), "SELECT count(*) FROM pg_attribute WHERE attrelid = 'public.loans'::regclass AND attname IN ('pin', 'branch_id')").Scan(&pins))
	require.Zero(t, pins)
	require.True(t, i.verified("formed").Equal)
	m := mariaServer(t, nil)
	elsewhere, _ := mariaDatabase(t, m)
	d = definition()
	d["destination"], d["mariadb"] = "elsewhere", map[string]any{"schema": elsewhere}
	i.must(http.MethodPost, "/v1/destinations/elsewhere", mariaAt(t, m), nil)
	i.must(http.MethodPost, "/v1/outlets/elsewhere", d, nil)
	i.caughtUp("elsewhere")
	require.Empty(t, i.verified("elsewhere").Differences, "a database of the other engine")

	// What a preview shows is what a reader gets, with a schema version that can be asked for.
	i.must(http.MethodPost, "/v1/outlets/desk2", definition(), nil)
	events, passed := i.page("desk2", 120)
	require.NotEmpty(t, events)
	var previews struct{ Items []struct{ Body string } }
	i.must(http.MethodPost, "/v1/outlets/desk2/preview?from=1&limit=200", nil, &previews)
	var shown []json.RawMessage
	for _, p := range previews.Items {
		shown = append(shown, json.RawMessage(p.Body))
	}
	require.Equal(t, join(events), join(shown[:len(events)]))
	require.NotContains(t, join(events), `"pin"`)
	first := parseEvent(t, events[len(events)-1])
	version := first.DataSchema[strings.LastIndexByte(first.DataSchema, '/')+1:]
	out, errs, exit := i.cli("schema", "show", version)
	require.Zero(t, exit, errs)
	require.Contains(t, out, "branch")
	require.Positive(t, passed)

	// A new version of the table is followed; one under which a private column may have
	// another name holds the outlet until somebody says what becomes of it.
	run(t, db, "ALTER TABLE loans ADD COLUMN shelf text", "UPDATE loans SET shelf = 'A', fee = coalesce(fee, 1) WHERE loan_id = 200", "ALTER TABLE loans RENAME COLUMN branch_id TO home")
	run(t, db, "INSERT INTO loans (loan_id, home) VALUES (201, 7)")
	i.outletIs("formed", "holds where its expressions no longer fit", func(o outletStatus) bool { return o.Phase == "failed" && o.Code == "form-unfit" })
	var flow explaining.OutletFlow
	i.must(http.MethodGet, "/v1/outlets/formed/flow", nil, &flow)
	require.True(t, flow.Total.Settled, "what it holds before is not counted: %+v", flow.Total)
	for n := range formulas {
		formulas[n].is, formulas[n].sql = strings.ReplaceAll(formulas[n].is, "branch_id", "home"), strings.ReplaceAll(formulas[n].sql, "branch_id", "home")
	}
	edit(i, "outlets", "formed", func(d map[string]any) {
		raw, err := json.Marshal(d["rows"])
		require.NoError(t, err)
		var rows any
		require.NoError(t, json.Unmarshal([]byte(strings.ReplaceAll(string(raw), "branch_id", "home")), &rows))
		d["rows"] = rows
	})
	i.reached("circulation", db)
	i.caughtUp("formed")
	for n, f := range formulas {
		sameRows(t, digest(t, db, "SELECT loan_id, "+f.sql+" FROM loans"), digest(t, target, fmt.Sprintf("SELECT loan_id, n%d FROM public.loans", n)), "after a rename: %s", f.is)
	}
	// So does one that lets no schema events through, and a reader of its own.
	i.must(http.MethodPost, "/v1/outlets/rows", map[string]any{"source": "circulation", "from": "now", "operations": []string{"insert"}, "rows": []map[string]any{{"match": "public.loans", "columns": []map[string]any{{"match": "pin", "treat": "drop"}}}}}, nil)
	run(t, db, "ALTER TABLE loans RENAME COLUMN pin TO secret", "INSERT INTO loans (loan_id, secret) VALUES (202, '98')")
	i.reached("circulation", db)
	code, raw, err := i.call(http.MethodGet, "/v1/outlets/rows/events?limit=100", nil)
	require.NoError(t, err)
	require.Equal(t, http.StatusConflict, code, "%s", raw)
	require.Contains(t, string(raw), `the private column`)
	require.NotContains(t, string(raw), `"98"`)
	held := i.outletIs("formed", "holds before a private column goes out", func(o outletStatus) bool { return o.Phase == "failed" && o.Code == "form-unfit" })
	require.Contains(t, held.Error, `the private column "pin" is gone, and "secret" is new`)
	edit(i, "outlets", "formed", func(d map[string]any) {
		columns := d["rows"].([]any)[0].(map[string]any)
		columns["columns"] = append(columns["columns"].([]any), map[string]any{"match": "secret", "treat": "drop"})
	})
	i.reached("circulation", db)
	i.caughtUp("formed")
	require.True(t, i.verified("formed").Equal)
}

// TestFormsThatFail: a row for which a new column cannot be computed is a dead letter with
// its values, which goes out once the expression is mended, and nothing that is written
// wrong is stored.
func TestFormsThatFail(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (loan_id bigint PRIMARY KEY, days integer, note text)", "ALTER TABLE loans ALTER note SET STORAGE EXTERNAL")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	i.add(fileTarget(t, i))
	form := func(is string) []map[string]any {
		return []map[string]any{{"match": "*.loans", "new": []map[string]any{{"name": "rate", "is": is, "type": "decimal(6,2)"}, {"name": "safe", "is": "100 / days", "fails": "null"}, {"name": "both", "is": "note + string(days)"}}}}
	}
	edit(i, "outlets", "archive", func(d map[string]any) { d["rows"] = form("decimal(100) / days") })
	run(t, db, "INSERT INTO loans VALUES (1, 3, 'a'), (2, 0, 'b'), (3, NULL, 'c'), (4, 4, repeat('x', 9000))", "UPDATE loans SET days = 5 WHERE loan_id = 2", "UPDATE loans SET days = 6 WHERE loan_id = 4")
	i.reached("circulation", db)
	i.outletIs("archive", "has dead letters", func(o outletStatus) bool { return o.Dead == 2 })
	out, _, _ := i.cli("dead-letter", "list", "archive")
	require.Contains(t, out, `the new column "rate" cannot be computed: 100 / 0: division by zero (days 0)`)
	require.Contains(t, out, `the log does not have "note"`)
	rows := func() map[string]string {
		came := make(map[string]string)
		for _, e := range i.files("archive") {
			if e.Data.Table == "public.loans" && e.Data.After != nil {
				came[e.Data.Operation+string(e.Data.Key["loan_id"])] = fmt.Sprintf("%s %s", e.Data.After["rate"], e.Data.After["safe"])
			}
		}
		return came
	}
	require.Equal(t, map[string]string{"insert1": `"33.33" 33`, "insert3": "null null", "insert4": `"25.00" 25`}, rows(), "what comes after a dead letter of its row waits")
	edit(i, "outlets", "archive", func(d map[string]any) { d["rows"] = form("days == 0 ? decimal(0) : decimal(100) / days") })
	_, errs, code := i.cli("dead-letter", "retry", "archive", "--error", "division")
	require.Zero(t, code, errs)
	i.eventually("the letter has gone out in its new form", func() bool { return rows()["insert2"] == `"0.00" null` && rows()["update2"] == `"20.00" 20` })

	for at, one := range map[string]struct{ rows, functions any }{
		`rows[0].new[0].is`:         {rows: form("dyas + 1")},
		`undeclared reference`:      {rows: form("dyas + 1")},
		`(days?)`:                   {rows: form("dyas + 1")},
		`line 2, column 1`:          {rows: form("days ==\n")},
		`two columns are called`:    {rows: []map[string]any{{"match": "*", "columns": []map[string]any{{"match": "days", "name": "note"}}}}},
		`belongs to the key`:        {rows: []map[string]any{{"match": "*", "columns": []map[string]any{{"match": "loan*", "treat": "mask"}}}}},
		`has no hash_key`:           {rows: []map[string]any{{"match": "*", "columns": []map[string]any{{"match": "note", "treat": "hash"}}}}},
		`a column \"nots\" (note?)`: {rows: []map[string]any{{"match": "*", "columns": []map[string]any{{"match": "nots", "treat": "drop"}}}}},
		`goes with one column`:      {rows: []map[string]any{{"match": "*", "columns": []map[string]any{{"match": "n*", "name": "x"}}}}},
		`unknown type "money"`:      {rows: []map[string]any{{"match": "*", "new": []map[string]any{{"name": "x", "is": "1", "type": "money"}}}}},
		`write string(…)`:           {rows: []map[string]any{{"match": "*", "new": []map[string]any{{"name": "x", "is": "days", "type": "text"}}}}},
		`give it a type`:            {rows: []map[string]any{{"match": "*", "new": []map[string]any{{"name": "x", "is": "row.days"}}}}},
		`may take too long`:         {rows: []map[string]any{{"match": "*", "new": []map[string]any{{"name": "x", "is": "note.split('').all(a, note.split('').all(b, note.split('').all(c, a + b == c)))"}}}}},
		`functions[1]`:              {functions: []map[string]any{{"name": "f", "is": "1"}, {"name": "g", "is": "h()"}}},
		`no matching overload`:      {functions: []map[string]any{{"name": "f", "arguments": []map[string]any{{"name": "a", "type": "text"}}, "is": "a * 2"}}},
		`is a function size`:        {functions: []map[string]any{{"name": "size", "is": "1"}}},
		`undeclared reference to`:   {functions: []map[string]any{{"name": "f", "is": "f()"}}},
	} {
		d := map[string]any{"source": "circulation"}
		if one.rows != nil {
			d["rows"] = one.rows
		}
		if one.functions != nil {
			d["functions"] = one.functions
		}
		code, raw, err := i.call(http.MethodPost, "/v1/outlets/wrong", d)
		require.NoError(t, err)
		require.Equal(t, http.StatusUnprocessableEntity, code, "%s: %s", at, raw)
		var text struct {
			Errors []struct{ Message, Location string }
		}
		require.NoError(t, json.Unmarshal(raw, &text))
		require.Contains(t, fmt.Sprint(text.Errors)+string(raw), at)
	}
}

// TestSharedForms: outlets use a form by its name, go on with its next version, keep it from being
// removed, and none is left with a form that does not fit its tables.
func TestSharedForms(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE patrons (patron_id bigint PRIMARY KEY, name text, email text)", "CREATE TABLE loans (loan_id bigint PRIMARY KEY, days integer)", "INSERT INTO patrons VALUES (1, 'Ada Kaya', 'a@example')", "INSERT INTO loans VALUES (1, 7)")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	file := i.folder + "/readers.yaml"
	store := func(text string, command ...string) (string, int) {
		t.Helper()
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, errs, code := i.cli(append(command, "--file", file)...)
		return errs, code
	}
	form := `rows:
  - match: public.patrons
    columns: [{match: email, treat: mask}]
    new: [{name: initials, is: initials(name)}]
functions:
  - {name: initials, arguments: [{name: full, type: text}], is: 'full.split(" ").map(w, w.substring(0, 1)).join("")'}
`
	// Before it is stored it is seen what it does, to whatever destination, stored or not.
	require.NoError(t, os.WriteFile(file, []byte(form), 0o600))
	out, errs, code := i.cli("form", "preview", "--file", file, "--source", "circulation", "--from", "1")
	require.Zero(t, code, errs)
	require.Contains(t, out, `"initials":"AK"`)
	require.NotContains(t, out, "a@example")
	_, errs, code = i.cli("form", "preview", "readers", "--source", "circulation")
	require.Equal(t, 3, code)
	require.Contains(t, errs, `"readers"`)
	_, errs, code = i.cli("form", "preview", "--file", file)
	require.Equal(t, 2, code)
	require.Contains(t, errs, "--source")
	draft := i.folder + "/draft.yaml"
	require.NoError(t, os.WriteFile(draft, []byte("source: circulation\ntopic: \"{table}\"\nformat: row\n"+form), 0o600))
	require.NoError(t, os.WriteFile(i.folder+"/hub.yaml", []byte("kind: kafka\nkafka: {brokers: [\"127.0.0.1:1\"]}\n"), 0o600))
	out, errs, code = i.cli("outlet", "preview", "draft", "--file", draft, "--destination-file", i.folder+"/hub.yaml", "--from", "1", "--limit", "20")
	require.Zero(t, code, errs)
	require.Contains(t, out, `"initials":"AK"`)
	require.Contains(t, out, "patrons", "the topic that a broker would have it under")
	require.NoError(t, os.WriteFile(i.folder+"/hub.yaml", []byte("kind: nothing\n"), 0o600))
	_, errs, code = i.cli("outlet", "preview", "draft", "--file", draft, "--destination-file", i.folder+"/hub.yaml")
	require.Equal(t, 3, code)
	require.Contains(t, errs, "hub.yaml:1:7: kind: expected value to be one of")
	require.NoError(t, os.WriteFile(i.folder+"/hub.yaml", []byte("kind: kafka\nkafka: {brokers: [nowhere]}\n"), 0o600))
	_, errs, code = i.cli("outlet", "preview", "draft", "--file", draft, "--destination-file", i.folder+"/hub.yaml")
	require.Equal(t, 3, code)
	require.Contains(t, errs, "hub.yaml:2:19: kafka.brokers[0]: ")
	require.NoError(t, os.WriteFile(i.folder+"/hub.yaml", []byte("kind: kafka\nkafka: {brokers: [\"127.0.0.1:1\"]}\n"), 0o600))
	require.NoError(t, os.WriteFile(draft, []byte("source: circulation\ntopic: \"{table\"\n"), 0o600))
	_, errs, code = i.cli("outlet", "preview", "draft", "--file", draft, "--destination-file", i.folder+"/hub.yaml")
	require.Equal(t, 3, code)
	require.Contains(t, errs, "draft.yaml:2:8: topic: ")
	status, raw, err := i.call(http.MethodPost, "/v1/preview", map[string]any{"outlet": map[string]any{"source": "circulation", "topic": "{table"}})
	require.NoError(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, string(raw), `"location":"body.outlet.topic"`)
	errs, code = store(form, "form", "add", "readers")
	require.Zero(t, code, errs)
	errs, code = store("rows: [{match: public.patrons, new: [{name: x, is: nothing(name)}]}]", "form", "add", "wrong")
	require.Equal(t, 3, code)
	require.Contains(t, errs, "rows[0].new[0].is")
	_, errs, code = i.cli("outlet", "add", "none", "--source", "circulation", "--forms", "nobody")
	require.Equal(t, 3, code)
	require.Contains(t, errs, `there is no form "nobody"`)

	// One uses it as it is, the other has rows of its own, which decide first, and calls its functions.
	i.must(http.MethodPost, "/v1/outlets/plain", map[string]any{"source": "circulation", "forms": []string{"readers"}, "operations": []string{"existing", "insert"}, "format": "row"}, nil)
	i.must(http.MethodPost, "/v1/outlets/own", map[string]any{"source": "circulation", "forms": []string{"readers"}, "operations": []string{"existing", "insert"}, "format": "row",
		"rows": []map[string]any{{"match": "public.patrons", "columns": []map[string]any{{"match": "email", "treat": "drop"}}, "new": []map[string]any{{"name": "mark", "is": `initials(name) + "!"`}}}}}, nil)
	read := func(outlet string) string {
		events, _ := i.page(outlet, 100)
		return join(events)
	}
	require.Contains(t, read("plain"), `"name":"Ada Kaya","email":"***","initials":"AK"`)
	require.Contains(t, read("own"), `"name":"Ada Kaya","mark":"AK!"`)
	require.NotContains(t, read("own"), "email")
	out, errs, code = i.cli("form", "show", "readers")
	require.Zero(t, code, errs)
	require.Contains(t, out, "own, plain")
	_, errs, code = i.cli("form", "remove", "readers")
	require.Equal(t, 3, code)
	require.Contains(t, errs, "in use by an outlet")

	// What a delivering outlet writes is in the new form from the next event on; what does not fit
	// its tables is refused, and says where.
	i.must(http.MethodPost, "/v1/destinations/archive", map[string]any{"kind": "file", "file": map[string]string{"directory": "archive"}}, nil)
	i.must(http.MethodPost, "/v1/outlets/archive", map[string]any{"source": "circulation", "destination": "archive", "forms": []string{"readers"}, "format": "row"}, nil)
	i.caughtUp("archive")
	out, _, _ = i.cli("form", "show", "readers", "--yaml")
	version := "version: 1"
	require.Contains(t, out, version)
	errs, code = store(strings.Replace(form, "match: email", "match: e_mail", 1), "form", "edit", "readers", "--version", "1")
	require.Equal(t, 3, code)
	require.Contains(t, errs, "outlet archive, which uses the form")
	require.Contains(t, errs, "forms: readers: rows[0].columns[0].match")
	errs, code = store(strings.Replace(form, "treat: mask", "treat: drop", 1), "form", "edit", "readers", "--version", "1")
	require.Zero(t, code, errs)
	errs, code = store(form, "form", "edit", "readers", "--version", "1")
	require.Equal(t, 3, code)
	require.Contains(t, errs, "somebody else has changed")
	run(t, db, "INSERT INTO patrons VALUES (2, 'Jo Tran', 'j@example')")
	i.reached("circulation", db)
	i.caughtUp("archive")
	written := rowsOf(t, i, "archive")
	require.Contains(t, written, `"email":"***"`)
	require.Contains(t, written, `"name":"Jo Tran","initials":"JT"`)
	require.NotContains(t, written, "j@example")
	for _, outlet := range []string{"plain", "own", "archive"} {
		i.must(http.MethodDelete, "/v1/outlets/"+outlet, nil, nil)
	}
	_, errs, code = i.cli("form", "remove", "readers")
	require.Zero(t, code, errs)
}

// rowsOf is all that an outlet has written into files.
func rowsOf(t *testing.T, i *instance, directory string) string {
	t.Helper()
	names, err := filepath.Glob(filepath.Join(i.folder, "files", directory, "*.ndjson*"))
	require.NoError(t, err)
	var all strings.Builder
	for _, name := range names {
		text, err := os.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			return rowsOf(t, i, directory) // it has its final name meanwhile
		}
		require.NoError(t, err)
		all.Write(text)
	}
	return all.String()
}

// TestHashKeyChanges: what is hashed from then on has the new key, without a restart.
func TestHashKeyChanges(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE patrons (patron_id bigint PRIMARY KEY, card text)")
	db := connect(t, sourceServer(t), name)
	keyed := func(key string) {
		edit(i, "sources", "circulation", func(d map[string]any) { d["hash_key"] = key })
	}
	keyed("the first key")
	i.resume()
	i.settled("circulation", db)
	i.must(http.MethodPost, "/v1/destinations/archive", map[string]any{"kind": "file", "file": map[string]string{"directory": "archive"}}, nil)
	i.must(http.MethodPost, "/v1/outlets/archive", map[string]any{"source": "circulation", "destination": "archive", "operations": []string{"insert"},
		"rows": []map[string]any{{"match": "public.patrons", "columns": []map[string]any{{"match": "card", "treat": "hash"}}}}}, nil)
	var want []string
	for n, key := range []string{"the first key", "another key"} {
		keyed(key)
		run(t, db, fmt.Sprintf("INSERT INTO patrons VALUES (%d, 'card 1')", n))
		i.reached("circulation", db)
		i.caughtUp("archive")
		mac := hmac.New(sha256.New, []byte(key))
		mac.Write([]byte("card 1"))
		want = append(want, `"`+hex.EncodeToString(mac.Sum(nil))+`"`)
	}
	var cards []string
	for _, e := range i.files("archive") {
		cards = append(cards, string(e.Data.After["card"]))
	}
	require.Equal(t, want, cards)
}
