package test

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// browser opens headless Chromium on a page.
func browser(t *testing.T, address string) context.Context {
	t.Helper()
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.WindowSize(1280, 800),
		chromedp.UserDataDir(t.TempDir()), chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true),
		// A page is looked at as it stays, not in the middle of a fade.
		chromedp.Flag("force-prefers-reduced-motion", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(func() {
		chromedp.Cancel(ctx) //nolint:errcheck // it is the end of the test
		cancel()
	})
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	limited, cancel := context.WithTimeout(ctx, 2*patience)
	t.Cleanup(cancel)
	require.NoError(t, chromedp.Do(limited, chromedp.Navigate(address)))
	return limited
}

// holds waits until a JavaScript expression is true.
func holds(t *testing.T, ctx context.Context, what, expression string) {
	t.Helper()
	_, err := chromedp.Run(ctx, chromedp.Poll[bool](expression, chromedp.WithPollingTimeout(patience)))
	require.NoError(t, err, what)
}

func text(t *testing.T, ctx context.Context, selector string) string {
	t.Helper()
	got, err := chromedp.Run(ctx, chromedp.Text(chromedp.CSS(selector)))
	require.NoError(t, err, selector)
	return got
}

// accessible holds that nothing on the page keeps a keyboard or a screen reader out.
func accessible(t *testing.T, ctx context.Context, where string) {
	t.Helper()
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	require.NoError(t, chromedp.Do(ctx, chromedp.Evaluate[chromedp.Void](string(axe)+";0")))
	found, err := chromedp.Run(ctx, chromedp.Evaluate[string](`axe.run().then(r => r.violations.map(v => v.id + ": " + v.nodes.map(n => n.target.join(" ")).join(", ")).join("\n"))`, chromedp.EvalAwaitPromise))
	require.NoError(t, err)
	require.Empty(t, found, where)
}

// TestConsole changes rows by SQL and looks at the pages as a person would.
func TestConsole(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (loan_id bigint PRIMARY KEY, note text)", "ALTER TABLE loans REPLICA IDENTITY FULL",
		"INSERT INTO loans VALUES (9007199254740993, 'at the start')")
	db := connect(t, sourceServer(t), name)
	page := browser(t, i.address)
	holds(t, page, "without a running source the page says so", `document.body.innerText.includes("paused")`)
	i.must(http.MethodPost, "/v1/outlets/desk", map[string]any{"source": "circulation"}, nil)
	i.resume()
	i.settled("circulation", db)

	// Changes: a row changed by SQL appears with its values.
	require.NoError(t, chromedp.Do(page, chromedp.Navigate(i.address+"/changes"), chromedp.WaitVisible(chromedp.CSS(".change-row[data-offset]"))))
	run(t, db, "UPDATE loans SET note = 'changed <b>by</b> SQL'")
	holds(t, page, "the change appears", `document.querySelector(".change-row[data-offset]").innerText.includes("changed <b>by</b> SQL")`)
	first := text(t, page, ".change-row[data-offset]")
	require.Contains(t, first, "update")
	require.Contains(t, first, "9007199254740993", "a big integer keeps every digit")

	// Its detail shows both images, what changed, and the JSON as it is sent.
	require.NoError(t, chromedp.Do(page, chromedp.Click(chromedp.CSS(".change-row[data-offset]")), chromedp.WaitVisible(chromedp.CSS(".images tbody"))))
	require.Equal(t, "at the start", text(t, page, `tr[data-column=note] [data-image=before]`))
	require.Equal(t, "changed <b>by</b> SQL", text(t, page, `tr.changed[data-column=note] [data-image=after]`))
	require.Equal(t, "9007199254740993", text(t, page, `tr[data-column=loan_id] [data-image=after]`))
	require.NoError(t, chromedp.Do(page, chromedp.Click(chromedp.CSS("#detail-tab-json")), chromedp.WaitVisible(chromedp.CSS(".as-sent pre"))))
	require.Contains(t, text(t, page, ".as-sent pre"), `"loan_id": 9007199254740993`)

	// Pause freezes the list, and counts what is held.
	require.NoError(t, chromedp.Do(page, chromedp.Click(chromedp.CSS(".filters .pause"))))
	run(t, db, "INSERT INTO loans SELECT n, 'while paused' FROM generate_series(1, 7) n")
	holds(t, page, "what is held is counted", `document.querySelector(".filters .pause").innerText.includes("7 new")`)
	shown, err := chromedp.Run(page, chromedp.Evaluate[bool](`document.querySelector(".change-list").innerText.includes("loan_id 7")`))
	require.NoError(t, err)
	require.False(t, shown, "a paused list stays as it is")
	require.NoError(t, chromedp.Do(page, chromedp.Click(chromedp.CSS(".filters .pause"))))
	holds(t, page, "then they come", `document.querySelector(".change-row[data-offset]").innerText.includes("loan_id 7")`)

	// A filter by operation.
	require.NoError(t, chromedp.Do(page, chromedp.Click(chromedp.CSS("#operation-update + label"))))
	holds(t, page, "only updates are left", `[...document.querySelectorAll(".change-row[data-offset]")].length === 1`)

	// Overview: exactly the number of changes that were made.
	run(t, db, "UPDATE loans SET note = 'again' WHERE loan_id <= 5", "DELETE FROM loans WHERE loan_id <= 3")
	require.NoError(t, chromedp.Do(page, chromedp.Navigate(i.address), chromedp.WaitVisible(chromedp.CSS(".counts tbody tr"))))
	for operation, n := range map[string]int{"existing": 1, "insert": 7, "update": 6, "delete": 3} {
		holds(t, page, fmt.Sprintf("%d %s", n, operation), fmt.Sprintf(`document.querySelector('tr[data-table="public.loans"] [data-operation=%s]').innerText === "%d"`, operation, n))
	}
	overview := text(t, page, ".flow")
	for _, part := range []string{"circulation", "running, following", "journal", "desk", "behind"} {
		require.True(t, strings.Contains(strings.Join(strings.Fields(overview), " "), part), "the overview shows %q: %s", part, overview)
	}

	// Nothing keeps a keyboard or a screen reader out, on either page or theme.
	for _, theme := range []string{"dark", "light"} {
		for _, path := range []string{"/", "/changes"} {
			require.NoError(t, chromedp.Do(page, chromedp.Evaluate[chromedp.Void](`localStorage.setItem("rillmark-theme", "`+theme+`")`), chromedp.Navigate(i.address+path),
				chromedp.WaitVisible(chromedp.CSS(".counts, .change-row[data-offset]"))))
			if path == "/changes" {
				require.NoError(t, chromedp.Do(page, chromedp.Click(chromedp.CSS(".change-row[data-offset]")), chromedp.WaitVisible(chromedp.CSS(".change-detail"))))
			}
			accessible(t, page, path+" in the "+theme+" theme")
		}
	}
	require.NoError(t, chromedp.Do(page, chromedp.Navigate(i.address), chromedp.WaitVisible(chromedp.CSS(".counts"))))

	// A service that goes is told at once, and comes back by itself.
	i.stop(15)
	holds(t, page, "the page says that nobody answers", `document.querySelector(".top-state").innerText.includes("does not answer")`)
	i.start()
	holds(t, page, "the page goes on by itself", `document.querySelector(".top-state").innerText.includes("live")`)
}

// TestConsoleAsksForTheToken logs in as a person does.
func TestConsoleAsksForTheToken(t *testing.T) {
	t.Parallel()
	i := newInstance(t, stateServer(t), "token: a-token-of-the-test-0123456789\n").start()
	page := browser(t, i.address)
	type typed = chromedp.Action[chromedp.Void]
	enter := func(token string) []typed {
		return []typed{chromedp.WaitVisible(chromedp.CSS("#token")), chromedp.SendKeys(chromedp.CSS("#token"), token), chromedp.Click(chromedp.CSS(".token-gate button"))}
	}
	require.NoError(t, chromedp.Do(page, enter("wrong")...))
	holds(t, page, "a wrong token is told", `document.body.innerText.includes("not the service's token")`)
	require.NoError(t, chromedp.Do(page, chromedp.Reload()))
	require.NoError(t, chromedp.Do(page, enter("a-token-of-the-test-0123456789")...))
	holds(t, page, "then the console opens", `document.body.innerText.includes("No sources yet")`)
}
