package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/api"
	"rillmark/internal/cli/terminal"
	"rillmark/internal/engine"
	"rillmark/internal/service"
	"rillmark/internal/service/comparing"
	"rillmark/internal/verify"
)

// asked runs a command line against a service that answers as given.
func asked(t *testing.T, answer http.HandlerFunc, args ...string) (code int, out, errs string) {
	t.Helper()
	server := httptest.NewServer(answer)
	defer server.Close()
	var o, e bytes.Buffer
	code = Main(append(args, "--server", server.URL), strings.NewReader(""), &o, &e)
	return code, o.String(), e.String()
}

func says(status int, body string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		io.WriteString(w, body) //nolint:errcheck // a test's service
	}
}

// TestExitCodes: scripts can tell apart who is wrong.
func TestExitCodes(t *testing.T) {
	t.Setenv("RILLMARK_TOKEN", "of-the-desk")
	for _, c := range []struct {
		name   string
		answer http.HandlerFunc
		args   []string
		code   int
		told   string
	}{
		{"no such thing", says(404, `{"detail":"there is no outlet \"x\"","fix":"see outlet list"}`), []string{"outlet", "show", "x"}, terminal.ExitRefused, `there is no outlet "x". Fix: see outlet list`},
		{"a fault of the service", says(503, `{"detail":"the state database does not answer"}`), []string{"status"}, terminal.ExitFailed, "does not answer"},
		{"another program", says(404, "<html>"), []string{"status"}, terminal.ExitFailed, "not as Rillmark does"},
		{"an answer of a later version", says(200, `[]`), []string{"status"}, terminal.ExitFailed, "in a form that this client does not know"},
		{"no such command", says(200, ``), []string{"statsu"}, terminal.ExitUsage, `unknown command "statsu": did you mean status?`},
		{"no such flag", says(200, ``), []string{"status", "--jsno"}, terminal.ExitUsage, "jsno"},
		{"no file", says(200, ``), []string{"outlet", "add", "x", "--file", "/nowhere"}, terminal.ExitUsage, "cannot be read"},
	} {
		code, _, errs := asked(t, c.answer, c.args...)
		require.Equal(t, c.code, code, "%s: %s", c.name, errs)
		require.Contains(t, errs, c.told, c.name)
		require.NotContains(t, errs, "of-the-desk", c.name)
	}
	var out, errs bytes.Buffer
	require.Equal(t, terminal.ExitUnreachable, Main([]string{"status", "--server", "http://127.0.0.1:1"}, nil, &out, &errs))
	require.Contains(t, errs.String(), "Fix: start one with `rillmark serve`")
	for _, address := range []string{"127.0.0.1:7450", "ftp://desk", "http://", "::"} {
		require.Equal(t, terminal.ExitUsage, Main([]string{"status", "--server", address}, nil, &out, &errs), address)
	}
	code, shown, _ := asked(t, func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, `{"items":[],"token":%q,"n":9007199254740993}`, r.Header.Get("Authorization")) //nolint:errcheck // a test's service
	}, "outlet", "list", "--json")
	require.Equal(t, terminal.ExitOK, code)
	require.Contains(t, shown, "Bearer of-the-desk")
	require.Contains(t, shown, "9007199254740993", "numbers keep every digit")
}

// TestWhereADefinitionIsWrong: line and column of the file are said for what the service says.
func TestWhereADefinitionIsWrong(t *testing.T) {
	file := filepath.Join(t.TempDir(), "desk.yaml")
	require.NoError(t, os.WriteFile(file, []byte("source: circulation\ntables:\n  - loans\n  - hold*\nbatch:\n  every: soon\n"), 0o600))
	code, _, errs := asked(t, says(422, `{"detail":"wrong","errors":[
		{"location":"body.batch.every","message":"is no time"},{"location":"body.tables[1]","message":"matches nothing"},
		{"location":"body.batch.events","message":"is wanted"},{"message":"has no destination"}]}`), "outlet", "add", "desk", "--file", file)
	require.Equal(t, terminal.ExitRefused, code)
	for _, line := range []string{file + ":6:3: batch.every: is no time", file + ":4:5: tables[1]: matches nothing", ":6:3: batch.events: is wanted", ":1:1: has no destination"} {
		require.Contains(t, strings.ReplaceAll(errs, ":6:10:", ":6:3:"), line)
	}
	for text, told := range map[string]string{"a: [": "is not right", "- a\n": "is not a list of fields and values", "a: 1\na: 2\n": "is not right"} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		code, _, errs = asked(t, says(200, `{}`), "outlet", "add", "desk", "--file", file)
		require.Equal(t, terminal.ExitUsage, code, text)
		require.Contains(t, errs, told)
	}
}

// TestStreams: a stream goes on behind the last event that came, with each event once, and
// one that cannot go on says that it was a part.
func TestStreams(t *testing.T) {
	var asks []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asks = append(asks, r.Header.Get("Last-Event-ID"))
		switch len(asks) {
		case 1:
			io.WriteString(w, "id: 7\ndata: {\"a\":7}\n\ndata: {\"a\":\"without a place\"}\n\n: 9\n\nid: 10\ndat") //nolint:errcheck // a test's service
		case 2:
			io.WriteString(w, "id: 10\r\ndata: {\"a\":10}\r\n\r\n") //nolint:errcheck // a test's service
		case 3:
			io.WriteString(w, "event: problem\ndata: {\"detail\":\"offset 11 is gone\"}\n\n") //nolint:errcheck // a test's service
		default:
			io.WriteString(w, "id: 1\ndata: 1\n\nevent: end\ndata: {}\n\n") //nolint:errcheck // a test's service
		}
	}))
	defer server.Close()
	var errs bytes.Buffer
	a := &app{terminal.Session{Server: server.URL, Err: &errs}}
	var came []string
	take := func(data []byte) error {
		came = append(came, string(data))
		return nil
	}
	err := a.Events(t.Context(), "/v1/x", true, take)
	require.ErrorContains(t, err, "offset 11 is gone")
	require.Equal(t, []string{"", "9", "10"}, asks)
	require.Equal(t, []string{`{"a":7}`, `{"a":"without a place"}`, `{"a":10}`}, came)
	require.Equal(t, 2, strings.Count(errs.String(), "the stream was interrupted; it goes on"))
	require.NoError(t, a.Events(t.Context(), "/v1/x", false, take), "it came to its end")

	stop := errors.New("enough")
	require.ErrorIs(t, a.Events(t.Context(), "/v1/x", true, func([]byte) error { return stop }), stop)
	ctx, cancel := context.WithCancel(t.Context())
	require.NoError(t, a.Events(ctx, "/v1/x", true, func([]byte) error { cancel(); return nil }), "a person has ended it")
	asks = make([]string, 1)
	var c *terminal.Coded
	require.ErrorAs(t, a.Events(t.Context(), "/v1/x", false, take), &c)
	require.Equal(t, terminal.ExitUnreachable, c.Code)
}

// TestComparisons: how one goes, what differs, and the exit code.
func TestComparisons(t *testing.T) {
	lines := `{"table":{"table":"public.loans","rows":1000,"estimate":3000}}` + "\n"
	code, out, errs := asked(t, says(200, lines+`{"result":{"outlet":"reporting","equal":true,"tables":[{"table":"public.loans","rows":3000,"done":true}]}}`), "verify", "reporting")
	require.Equal(t, terminal.ExitOK, code)
	require.Contains(t, errs, "public.loans: 1,000 of about 3,000 rows")
	require.Contains(t, out, "equal")
	code, out, errs = asked(t, says(200, lines+`{"result":{"outlet":"reporting","tables":[{"table":"public.loans","rows":3000,"different":1,"missing":1,"done":true},{"table":"public.tags","skipped":"it has no key","done":true}],"differences":[{"table":"public.loans","kind":"different","key":{"loan_id":"7","branch":"2"},"columns":[{"name":"note","source":null,"target":""}]},{"table":"public.loans","kind":"missing","key":{"loan_id":"8"}}]}}`), "verify", "reporting")
	require.Equal(t, terminal.ExitNotReady, code, errs)
	require.Contains(t, out, `different public.loans branch 2, loan_id 7: note is "", not null`)
	require.Contains(t, out, "missing public.loans loan_id 8\n")
	require.Contains(t, out, "not compared: it has no key")
	require.Contains(t, errs, "reporting is not equal to its source")
	code, _, errs = asked(t, says(200, lines+`{"problem":{"detail":"the source is away","fix":"start it"}}`), "verify", "reporting")
	require.Equal(t, []any{terminal.ExitFailed, true}, []any{code, strings.Contains(errs, "the source is away. Fix: start it")})
	code, _, errs = asked(t, says(200, lines), "verify", "reporting")
	require.Equal(t, []any{terminal.ExitFailed, true}, []any{code, strings.Contains(errs, "ended its answer early")}, errs)
	require.Equal(t, "loading again for this outlet: 1 row of a, 2 rows of b, all rows of c", fixWords([]comparing.Fix{{Table: "a", Rows: 1}, {Table: "b", Rows: 2}, {Table: "c"}}))
	require.Empty(t, columnWords([]verify.ColumnDifference{}))
	require.Implements(t, (*error)(nil), &terminal.Refusal{Problem: api.Problem{}})
}

// TestProgress: a load that goes on is never shown as done, whatever the source's estimate.
func TestProgress(t *testing.T) {
	left := 90.0
	loading := service.TableStatus{Name: "public.loans", State: engine.StateLoading, RowsDone: 500, RowsEstimate: 1000, LoadRate: 1234, SecondsLeft: &left}
	require.Equal(t, "public.loans                 ████████████░░░░░░░░░░░░  50%  500 of about 1,000 rows, 1,234/s, 1m30s left", progressLine(loading, 200))
	require.Equal(t, "loading 50%", stateOf(loading))
	loading.RowsDone = 5000
	require.Contains(t, progressLine(loading, 200), "99%")
	require.Equal(t, 40, len([]rune(progressLine(loading, 40))))
	waits := service.TableStatus{Name: "public.holds", State: engine.StateToLoad, RowsDone: 7}
	require.Contains(t, progressLine(waits, 200), "  0%  7 of about 0 rows, waits")
	require.Equal(t, engine.StateToLoad, stateOf(waits))
}

// TestWaitingForLoads: a wait ends, or says what it waits for.
func TestWaitingForLoads(t *testing.T) {
	table := func(state string) service.TableStatus {
		return service.TableStatus{Name: "public.loans", State: state}
	}
	of := func(phase, fault string, tables ...service.TableStatus) *service.Status {
		return &service.Status{Sources: []service.SourceStatus{{Name: "other", Phase: "running"}, {Name: "circulation", Phase: phase, Error: fault, Tables: tables}}}
	}
	following, loading := table(engine.StateFollowing), table(engine.StateLoading)
	begun := time.Date(2026, 12, 2, 9, 0, 0, 0, time.UTC)
	for name, one := range map[string]struct {
		before, now *service.Status // what it is at first, and two minutes later
		done        bool
		says, fails string
	}{
		"all is loaded":                 {of("starting", ""), of("running", "", following), true, "", ""},
		"a load goes on":                {of("running", "", loading), of("running", "", loading), false, "", ""},
		"the password is wrong":         {of("waiting", "refused"), of("waiting", "refused"), false, "", "has not begun to read within 1m0s: refused."},
		"it starts between tries":       {of("waiting", "refused"), of("starting", ""), false, "", ""},
		"a fault while it loads":        {of("running", "", loading), of("waiting", "away", loading), false, "tries again: away", ""},
		"no table matches":              {of("running", ""), of("running", ""), false, "", "no table of its database matches"},
		"paused by somebody":            {of("paused", ""), of("paused", "", loading), false, "", "while source circulation is paused"},
		"failed":                        {of("running", "", loading), of("failed", "the slot has gone"), false, "", "the slot has gone"},
		"removed by somebody":           {of("running", "", loading), &service.Status{}, false, "", "has gone"},
		"another instance, all is done": {of("standby", "", loading), of("standby", "", following), true, "another instance", ""},
	} {
		var w loadWait
		_, _, err := w.look(one.before, "circulation", "", begun)
		require.NoError(t, err, name)
		done, says, err := w.look(one.now, "circulation", "", begun.Add(2*time.Minute))
		require.Equal(t, one.done, done, name)
		require.Contains(t, says, one.says, name)
		if one.fails == "" {
			require.NoError(t, err, name)
		} else {
			require.ErrorContains(t, err, one.fails, name)
		}
	}
}
