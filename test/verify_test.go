package test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"syscall"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
	"rillmark/internal/seeded"
	"rillmark/internal/service/comparing"
)

// verified compares an outlet's tables, and holds that the exit code says what was found.
func (i *instance) verified(outlet string, args ...string) comparing.Verification {
	i.t.Helper()
	out, errs, code := i.cli(append([]string{"verify", outlet, "--json"}, args...)...)
	var v comparing.Verification
	require.NoError(i.t, json.Unmarshal([]byte(out), &v), "%s%s", out, errs)
	want := 0
	if !v.Equal {
		want = 5
	}
	require.Equal(i.t, want, code, errs)
	return v
}

// statusOf is an outlet's status as it is answered.
func (i *instance) statusOf(outlet string) json.RawMessage {
	i.t.Helper()
	var st struct{ Outlets []json.RawMessage }
	i.must(http.MethodGet, "/v1/status", nil, &st)
	for _, one := range st.Outlets {
		var o outletStatus
		require.NoError(i.t, json.Unmarshal(one, &o))
		if o.Name == outlet {
			return one
		}
	}
	return nil
}

// calmWriter changes the tables some hundred times a second.
func calmWriter(t *testing.T, c *demo.Cluster, database string, copies int) *writers {
	ctx, cancel := context.WithCancel(context.Background())
	w := &writers{stop: cancel}
	random := seeded.Random(t, 5)
	conn := connect(t, c, database)
	w.done.Add(1)
	go func() {
		defer w.done.Done()
		for ctx.Err() == nil {
			writeOne(ctx, conn, random, copies)                 //nolint:errcheck // two rows may want one key
			conn.Exec(ctx, "SELECT pg_sleep(0.002 * random())") //nolint:errcheck // it ends with the test
		}
	}()
	t.Cleanup(w.end)
	return w
}

// TestVerify finds each planted difference, while writers change both sides, and nothing
// else.
func TestVerify(t *testing.T) {
	t.Parallel()
	source, copies := sourceServer(t), 3000
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	fillWorkload(t, db, copies)
	run(t, db, `CREATE TABLE facts (id integer PRIMARY KEY, note text, at timestamptz, price numeric(10,3), ratio double precision, body jsonb, raw bytea, code varchar(20))`,
		`INSERT INTO facts SELECT i, 'note ' || i, '2026-11-23 09:00+00', i, 0, '{"a": 1}', '\x00', '' FROM generate_series(1, 3000) i`,
		`CREATE TABLE words (word text PRIMARY KEY, n integer)`, `INSERT INTO words SELECT w || i, i FROM generate_series(1, 500) i, unnest(ARRAY['a', 'B', 'é', '_', 'Z']) w`,
		`CREATE TABLE people (id integer PRIMARY KEY, name text, card text)`, `INSERT INTO people SELECT i, 'Patron ' || i, 'card ' || i FROM generate_series(1, 50) i`,
		`CREATE TABLE bag (note text)`, `INSERT INTO bag VALUES ('a')`)
	dropSlotAtEnd(t, source)
	admin := connect(t, source, "postgres")
	into := database(t, source, "postgres") + "_sorted"
	run(t, admin, "CREATE DATABASE "+into+" TEMPLATE template0 LOCALE_PROVIDER icu ICU_LOCALE 'en-US'")
	i := newInstance(t, stateServer(t), "source: {heartbeat_every: 200ms}\n").start()
	definition := sourceDefinition(source, name)
	definition["tables"] = []map[string]any{{"match": "public.people", "columns": []map[string]string{{"match": "name", "treat": "mask"}, {"match": "card", "treat": "hash"}}, "filter": "id <= 40"}, {"match": "public.*"}}
	definition["hash_key"] = "made-up-hash-key"
	status, raw, err := i.call(http.MethodPost, "/v1/sources/circulation", definition)
	require.NoError(t, err)
	require.Less(t, status, 300, "%s", raw)
	i.intoTables("copy", source, into, map[string]any{})
	i.intoTables("past", source, into, map[string]any{"schema": "past", "keep": "versions"}, map[string]any{"tables": []string{"copies", "words"}})
	i.resume()
	i.settled("circulation", db)
	i.caughtUp("copy", "past")
	w := calmWriter(t, source, name, copies)
	defer w.end()
	for _, outlet := range []string{"copy", "past"} {
		v := i.verified(outlet)
		for _, table := range v.Tables {
			if table.Table == "public.bag" {
				require.Contains(t, table.Skipped, "no key")
				continue
			}
			require.True(t, table.Equal(), "%+v %+v", table, v.Differences)
			require.Positive(t, table.Rows)
		}
	}
	to := connect(t, source, into)
	// Each statement makes one difference, of a kind and in a row that its comment names.
	planted := []string{
		"DELETE FROM facts WHERE id = 11 -- missing 11", "INSERT INTO facts (id) VALUES (-5) -- extra -5", "INSERT INTO facts (id) VALUES (99999) -- extra 99999", "INSERT INTO facts (id) VALUES (0) -- extra 0",
		"UPDATE facts SET note = 'other' WHERE id = 12 -- different 12", "UPDATE facts SET note = NULL WHERE id = 13 -- different 13", "UPDATE facts SET note = note || ' ' WHERE id = 14 -- different 14", "UPDATE facts SET note = '' WHERE id = 15 -- different 15",
		"UPDATE facts SET at = at + interval '1 microsecond' WHERE id = 16 -- different 16", "UPDATE facts SET at = 'infinity' WHERE id = 17 -- different 17", "UPDATE facts SET price = price + 0.001 WHERE id = 18 -- different 18", "UPDATE facts SET price = NULL WHERE id = 19 -- different 19",
		"UPDATE facts SET ratio = '-0' WHERE id = 20 -- different 20", "UPDATE facts SET ratio = 'NaN' WHERE id = 21 -- different 21", "UPDATE facts SET ratio = 5e-324 WHERE id = 22 -- different 22", "UPDATE facts SET body = '{\"a\": 1.0}' WHERE id = 23 -- different 23",
		"UPDATE facts SET body = 'null' WHERE id = 24 -- different 24", "UPDATE facts SET body = NULL WHERE id = 25 -- different 25", "UPDATE facts SET raw = '' WHERE id = 26 -- different 26", "UPDATE facts SET raw = '\\x0000' WHERE id = 27 -- different 27",
		"UPDATE facts SET code = NULL WHERE id = 28 -- different 28", "UPDATE facts SET code = 'É' WHERE id = 29 -- different 29", "UPDATE facts SET id = 30000 WHERE id = 30 -- missing 30, extra 30000", "DELETE FROM facts WHERE id = 3000 -- missing 3000", "DELETE FROM facts WHERE id = 1 -- missing 1",
		"DELETE FROM words WHERE word = 'é77' -- missing é77", "INSERT INTO words VALUES ('É77', 1) -- extra É77", "INSERT INTO words VALUES ('', 1) -- extra ", "UPDATE words SET n = -n WHERE word = '_5' -- different _5",
		"UPDATE people SET name = 'Patron 3' WHERE id = 3 -- different 3", "UPDATE people SET card = 'card 4' WHERE id = 4 -- different 4", "INSERT INTO people VALUES (45, '***', 'x') -- extra 45",
	}
	want := make(map[string]bool)
	for _, statement := range planted {
		sql, says, _ := strings.Cut(statement, " -- ")
		run(t, to, sql)
		table := strings.Fields(strings.NewReplacer("DELETE FROM ", "", "INSERT INTO ", "", "UPDATE ", "").Replace(sql))[0]
		for _, one := range strings.Split(says, ", ") {
			want["public."+table+" "+one] = true
		}
	}
	run(t, to, "DELETE FROM past.words WHERE word = 'a1'")
	found := make(map[string]bool)
	v := i.verified("copy")
	for _, d := range v.Differences {
		key := d.Key["id"] + d.Key["word"]
		found[fmt.Sprintf("%s %s %s", d.Table, d.Kind, key)] = true
		require.Equal(t, d.Kind == "different", len(d.Columns) == 1, "%+v", d)
		for _, c := range d.Columns {
			if d.Table == "public.people" {
				require.NotContains(t, *c.Source, "Patron", "what the rules mask stays so")
				require.NotContains(t, *c.Source, "card")
			}
		}
	}
	require.Equal(t, want, found)
	require.Contains(t, string(i.statusOf("copy")), `"verified":{"at":`)
	require.Contains(t, string(i.statusOf("copy")), `"equal":false`)
	out, _, _ := i.cli("outlet", "show", "copy")
	require.Contains(t, out, "not equal at ")
	past := i.verified("past", "--tables", "words")
	require.Len(t, past.Tables, 1)
	require.EqualValues(t, 1, past.Tables[0].Missing)
	out, _, code := i.cli("verify", "copy", "--tables", "facts")
	require.Equal(t, 5, code)
	require.Contains(t, out, `different public.facts id 12: note is "other", not "note 12"`)
	page := browser(t, i.address+"/outlets/copy/verify")
	require.NoError(t, chromedp.Do(page, press("Compare now")))
	holds(t, page, "the verdict", says("Not equal"))
	holds(t, page, "a difference with both values", says(`note: "note 12" at the source, "other" in the database`))
	accessible(t, page, "an outlet's comparison")
	// What cannot be compared says why.
	_, errs, code := i.cli("verify", "copy", "--tables", "nothing.*")
	require.NotZero(t, code)
	require.Contains(t, errs, "no such table")
	i.must(http.MethodPost, "/v1/outlets/desk", map[string]any{"source": "circulation"}, nil)
	for outlet, says := range map[string]string{"desk": "its consumers read it", "none": "there is no outlet"} {
		_, errs, code = i.cli("verify", outlet)
		require.NotZero(t, code)
		require.Contains(t, errs, says)
	}
	i.must(http.MethodPost, "/v1/outlets/past/pause", nil, nil)
	_, errs, code = i.cli("verify", "past")
	require.NotZero(t, code)
	require.Contains(t, errs, "`rillmark outlet resume past`")
}

// TestVerifyInParts: a sample looks at a part of a large table, and a comparison that was cut
// short goes on where it was, in both engines.
func TestVerifyInParts(t *testing.T) {
	t.Parallel()
	source := sourceServer(t)
	m := mariaServer(t, nil)
	_, maria := mariaDatabase(t, m)
	i, name := begin(t, "", "CREATE TABLE a_large (id bigint PRIMARY KEY, note text)", "INSERT INTO a_large SELECT n, 'note ' || n FROM generate_series(1, 60000) n", "CREATE TABLE b_small (code text PRIMARY KEY)", "INSERT INTO b_small SELECT 'c' || n FROM generate_series(1, 300) n", "CREATE TABLE z_last (id bigint PRIMARY KEY)", "INSERT INTO z_last VALUES (1)")
	db := connect(t, source, name)
	into := database(t, source, "postgres")
	i.resume()
	i.settled("circulation", db)
	i.intoTables("copy", source, into, nil)
	i.must(http.MethodPost, "/v1/destinations/maria", mariaAt(t, m), nil)
	i.must(http.MethodPost, "/v1/outlets/maria", map[string]any{"source": "circulation", "destination": "maria", "mariadb": map[string]any{"schema": "parts"}}, nil)
	i.caughtUp("copy", "maria")
	to := connect(t, source, into)
	run(t, to, "DELETE FROM a_large WHERE id % 100 = 7")
	mariaRun(t, maria, "DELETE FROM parts.a_large WHERE id % 100 = 7")
	for _, outlet := range []string{"copy", "maria"} {
		v := i.verified(outlet, "--sample", "30%")
		require.False(t, v.Equal)
		require.InDelta(t, 0.3, v.Sample, 0.001)
		large := v.Tables[0]
		require.True(t, large.Sampled)
		require.Less(t, large.Rows, int64(50_000))
		require.InDelta(t, float64(large.Rows)/100, float64(large.Missing), 25, "in each block, one of a hundred rows is missing")
		require.False(t, v.Tables[1].Sampled, "a small table is compared whole")
		require.Equal(t, int64(300), v.Tables[1].Rows)
		require.True(t, i.verified(outlet, "--fix").Equal)
	}

	// Whoever looks goes away while the last table cannot be read; what was compared before is
	// not read again.
	locked := connect(t, source, into)
	run(t, locked, "BEGIN", "LOCK TABLE public.z_last IN ACCESS EXCLUSIVE MODE")
	_, errs, code := i.cli("verify", "copy", "--resume")
	require.NotZero(t, code)
	require.Contains(t, errs, "has been left incomplete")
	ctx, leave := context.WithCancel(t.Context())
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, i.address+"/v1/outlets/copy/verify", nil)
	require.NoError(t, err)
	answer, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	lines := bufio.NewScanner(answer.Body)
	for done := 0; done < 2 && lines.Scan(); {
		if strings.Contains(lines.Text(), `"done":true`) {
			done++
		}
	}
	leave()
	answer.Body.Close() //nolint:errcheck // it was cut
	state := connect(t, i.state, i.stateDB)
	i.eventually("two tables are on record as compared", func() bool {
		var done int
		require.NoError(t, state.QueryRow(t.Context(), "SELECT count(*) FROM rillmark.comparison, jsonb_each(convert_from(document, 'UTF8')::jsonb -> 'progress') p WHERE (p.value #>> '{verdict,done}')::bool").Scan(&done))
		return done == 2
	})
	run(t, to, "DELETE FROM a_large WHERE id = 1")
	run(t, locked, "ROLLBACK")
	v := i.verified("copy", "--resume")
	require.True(t, v.Equal, "%+v", v)
	require.NotNil(t, v.ResumedFrom)
	require.Len(t, v.Tables, 3)
	require.False(t, i.verified("copy").Equal)
	for _, wrong := range [][]string{{"--sample", "0"}, {"--sample", "many"}, {"--resume", "--sample", "5%"}} {
		_, errs, code = i.cli(append([]string{"verify", "copy"}, wrong...)...)
		require.NotZero(t, code)
		require.Contains(t, errs, "sample")
	}
}

// TestVerifiedByItself: an outlet that is to be verified at intervals is, and what was found
// stands with its status.
func TestVerifiedByItself(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (id bigint PRIMARY KEY, note text)", "INSERT INTO loans SELECT i, 'lent' FROM generate_series(1, 100) i")
	source := sourceServer(t)
	db := connect(t, source, name)
	into := database(t, source, "postgres")
	i.intoTables("desk", source, into, map[string]any{"schema": "desk"}, map[string]any{"verify_every": "1m"})
	i.resume()
	i.settled("circulation", db)
	i.caughtUp("desk")
	run(t, connect(t, source, into), "UPDATE desk.loans SET note = 'changed here' WHERE id = 7")
	i.eventually("it is compared without being asked", func() bool {
		said := string(i.statusOf("desk"))
		return strings.Contains(said, `"verified":{`) && strings.Contains(said, `"equal":false`)
	}, func() string { return string(i.statusOf("desk")) })
}

// TestVerifyAfterARestart: a database notes seldom what only passes an outlet by, so that after a
// restart it is behind what is committed. Nothing more comes from the source, and yet there is
// nothing to wait for: a comparison begins, and a cut over could.
func TestVerifyAfterARestart(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"postgresql", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			i, name := begin(t, "", "CREATE TABLE loans (loan_id integer PRIMARY KEY)", "CREATE TABLE visits (visit_id integer PRIMARY KEY)", "INSERT INTO loans VALUES (1)")
			to := targetOf(t, engine)
			s := &stage{instance: i}
			s.keeps("reporting", to, map[string]any{"schema": "current", "offsets": to.database + ".outlets"}, map[string]any{"tables": []string{"public.loans"}})
			i.resume()
			db := connect(t, sourceServer(t), name)
			i.settled("circulation", db)
			run(t, db, "INSERT INTO loans VALUES (2)")
			i.reached("circulation", db)
			i.caughtUp("reporting")
			run(t, db, "INSERT INTO visits VALUES (1)")
			i.eventually("the journal has what passes by", func() bool { // and no message of ours, which would not
				_, raw, err := i.call(http.MethodGet, "/v1/sources/circulation/events?table=public.visits&operation=insert&limit=1", nil)
				return err == nil && bytes.Contains(raw, []byte(`"visit_id":1`))
			})
			i.caughtUp("reporting")
			i.stop(syscall.SIGTERM)
			i.start()
			require.True(t, i.verified("reporting").Equal)
			var plan struct {
				Checks []struct{ Name, Verdict, Found string }
			}
			i.must(http.MethodGet, "/v1/outlets/reporting/cutover", nil, &plan)
			found := ""
			for _, one := range plan.Checks {
				if one.Name == "outlet" {
					found = one.Found
				}
			}
			require.Equal(t, "it delivers, and is 0 events behind", found)
		})
	}
}
