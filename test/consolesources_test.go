package test

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

type act = chromedp.Action[chromedp.Void]

func css(selector string) chromedp.CSS { return chromedp.CSS(selector) }

// fill types into a field, or chooses in one, as React hears it.
func fill(selector, text string) act {
	return once(fmt.Sprintf(`document.querySelector(%q)`, selector), fmt.Sprintf(`const proto = {SELECT: HTMLSelectElement, TEXTAREA: HTMLTextAreaElement}[e.tagName] ?? HTMLInputElement;
		Object.getOwnPropertyDescriptor(proto.prototype, "value").set.call(e, %q); e.dispatchEvent(new Event(e.tagName === "SELECT" ? "change" : "input", {bubbles: true}))`, text))
}

// press clicks what has these words.
func press(words string) act {
	return once(fmt.Sprintf(`[...document.querySelectorAll("button, a.btn, .tabs a, summary")].find(b => b.innerText.trim() === %q && !b.disabled)`, words), `e.click()`)
}

// once does something with an element as soon as it is there: pages are fetched when they
// are first opened, and buttons wait for answers.
func once(element, do string) act {
	return chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`new Promise((done, fail) => {
		const until = Date.now() + 20000;
		const look = () => {
			const e = %s;
			if (e) { %s; done(0); }
			else if (Date.now() > until) { fail(new Error("not there: " + %q)); }
			else { setTimeout(look, 20); }
		};
		look();
	})`, element, do, element), chromedp.EvalAwaitPromise)
}

// says is an expression that holds where the page has these words.
func says(words string) string { return fmt.Sprintf(`document.body.innerText.includes(%q)`, words) }

// TestConsoleAddsASource goes the steps from a connection to the first change,
// then works with the source's page as a person does.
func TestConsoleAddsASource(t *testing.T) {
	t.Parallel()
	source := sourceServer(t)
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	dropSlotAtEnd(t, source)
	run(t, db, "CREATE TABLE patrons (patron_id integer PRIMARY KEY, email text, branch integer)", "ALTER TABLE patrons REPLICA IDENTITY FULL", "CREATE TABLE visits (at integer)",
		"INSERT INTO patrons VALUES (1, 'odalys@alder.example', 3)")
	password, err := os.ReadFile(source.PasswordFile())
	require.NoError(t, err)
	i := newInstance(t, stateServer(t), "source:\n  refresh_every: 200ms\n").start()
	page := browser(t, i.address)
	do := func(steps ...act) { t.Helper(); require.NoError(t, chromedp.Do(page, steps...)) }

	// Connect: a wrong password is told in a sentence, before anything is stored.
	do(chromedp.WaitVisible(css("a.btn")), press("Add a source"), chromedp.WaitVisible(css("#name")), fill("#name", "circulation"), fill("#host", "127.0.0.1"), fill("#port", fmt.Sprint(source.Port)),
		fill("#database", name), fill("#user", "postgres"), fill("#password", "wrong"), fill("#tls", "disable"))
	accessible(t, page, "the first step")
	do(press("Check it"))
	holds(t, page, "the password is refused", says(`refuses user "postgres" with this password`))
	do(press("Connect"), chromedp.WaitVisible(css("#password")), fill("#password", strings.TrimSpace(string(password))), press("Check it"))
	holds(t, page, "all is there", says("Ready: nothing is missing."))
	do(press("Scripts for an administrator"))
	holds(t, page, "an administrator's scripts are there before anything is stored", says("CREATE PUBLICATION"))
	accessible(t, page, "the checks")

	// Choose: the rules show what they choose, and how a column is treated.
	do(press("Choose tables"))
	holds(t, page, "the tables are listed", says("2 of 2 tables are chosen"))
	do(fill("#rule-0-match", "patrons"))
	holds(t, page, "and follow the rules", says("1 of 2 tables are chosen"))
	do(press("Columns, rows and load"), press("Add a column"), fill(`[aria-label="Column pattern 1"]`, "email"), fill("#rule-0-treat-0", "mask"), fill("#rule-0-filter", "branch == 3"))
	accessible(t, page, "the rules")

	// Try: real changes come, and nothing is left behind.
	do(press("Try it"), chromedp.WaitVisible(css("section[aria-label=Trial] button")), press("Try it for a minute"))
	holds(t, page, "it watches", says("Watching."))
	run(t, db, "UPDATE patrons SET email = 'another@alder.example', branch = 3", "INSERT INTO patrons VALUES (2, 'elm@alder.example', 4)")
	holds(t, page, "the change is shown as it would be delivered", says("email ***"))
	require.NotContains(t, text(t, page, ".trial-events"), "patron_id 2", "what the filter leaves out does not come")
	do(press("That is enough"))
	holds(t, page, "it is over", says("nothing is left behind"))
	i.eventually("slot and publications are gone", func() bool {
		var left int
		err := db.QueryRow(t.Context(), "SELECT (SELECT count(*) FROM pg_publication) + (SELECT count(*) FROM pg_replication_slots WHERE database = current_database())").Scan(&left)
		return err == nil && left == 0
	})

	// Start, and the page of the source.
	do(press("Continue"), press("Add and start"))
	holds(t, page, "it is followed", `document.querySelector('tr[data-table="public.patrons"]')?.innerText.includes("following")`)
	i.settled("circulation", db)
	accessible(t, page, "the source's page")
	require.NotContains(t, strings.Join(said(i.journal("circulation"), "existing"), ""), "alder.example")
	_, raw, _ := i.call("GET", "/v1/sources/circulation", nil)
	require.NotContains(t, string(raw), strings.TrimSpace(string(password)))

	// A reload of a part, with a condition that is wrong first.
	do(chromedp.Click(css(`tr[data-table="public.patrons"] button`)), chromedp.WaitVisible(css("#where")), fill("#where", "brnch = 3"), chromedp.Click(css(".modal button[type=submit]")))
	holds(t, page, "a wrong condition is told", says(`column "brnch" does not exist`))
	do(fill("#where", "branch = 3"), chromedp.Click(css(".modal button[type=submit]")))
	i.eventually("the part is read again", func() bool { return len(ofTable(i.journal("circulation"), "public.patrons", "existing")) == 2 })

	// Rules: two people who edit at once do not overwrite each other.
	do(chromedp.Navigate(i.address+"/sources/circulation/rules"), chromedp.WaitVisible(css(".chosen tbody tr")))
	d := ruled(source, name, []map[string]any{{"match": "patrons", "filter": "branch == 3", "columns": []map[string]any{{"match": "email", "treat": "mask"}}}}, nil)
	code, raw, err := i.call("PUT", "/v1/sources/circulation", d, "If-Match", `"1"`)
	require.NoError(t, err)
	require.Equal(t, 200, code, "%s", raw)
	do(fill("#rule-0-description", "readers of the library"), press("Save the rules"))
	holds(t, page, "the second is told", says("somebody else has changed source"))
	do(chromedp.Reload(), chromedp.WaitVisible(css(".chosen tbody tr")), fill("#rule-0-description", "readers of the library"), press("Save the rules"))
	holds(t, page, "then it is stored", says("Saved; capture goes on by the new rules."))
	accessible(t, page, "the rules of a source")

	// Versions side by side, the checks, the log.
	i.settled("circulation", db)
	run(t, db, "ALTER TABLE patrons ADD COLUMN note text", "UPDATE patrons SET branch = 3")
	i.reached("circulation", db)
	do(press("Versions"))
	holds(t, page, "both versions are there", `document.querySelector(".diff-added th")?.innerText === "note"`)
	accessible(t, page, "the versions")
	do(press("Log"))
	holds(t, page, "the log tells of the load", says("rows loaded"))
	do(press("Checks"), chromedp.WaitVisible(css(".checks li")), press("Scripts for an administrator"))
	holds(t, page, "the scripts are shown", says("CREATE PUBLICATION"))
	accessible(t, page, "the checks of a source")
	do(fill("#script", "statements"), fill("#script-user", "postgres"), fill("#script-password", "wrong"), press("Run it"))
	holds(t, page, "an administrator's password is refused", says("password authentication failed"))
	do(fill("#script-password", strings.TrimSpace(string(password))), press("Run it"))
	holds(t, page, "the script has run", says("Done, all of it."))
	run(t, db, "ALTER TABLE patrons ADD COLUMN shelf text")
	i.eventually("statements are on record now", func() bool {
		return slices.ContainsFunc(ofTable(i.journal("circulation"), "public.patrons", "schema"), func(e *event) bool { return strings.Contains(string(e.raw), `"ALTER TABLE"`) })
	})

	// Marks: named places, set and moved here.
	do(press("Marks"), chromedp.WaitVisible(css("#mark-name")), fill("#mark-name", "no such / name"), press("Set the mark"))
	holds(t, page, "a wrong name is told", says("is no name for a mark"))
	do(fill("#mark-name", "morning"), fill("#mark-reason", "before the doors open"), press("Set the mark"))
	holds(t, page, "it is there", says("before the doors open"))
	do(fill("#mark-name", "morning"), fill("#mark-place-kind", "offset"), chromedp.WaitVisible(css("#mark-place-offset")), fill("#mark-place-offset", "3"), press("Move it there"))
	holds(t, page, "it has moved", `document.querySelector(".flag")?.title.startsWith("mark morning: offset 3")`)
	accessible(t, page, "the marks")
	do(chromedp.Click(css(`button[aria-label="Remove mark morning"]`)))
	holds(t, page, "it is forgotten", says("None yet. A mark names a place"))

	do(press("Pause"), chromedp.WaitVisible(css("#reason")), fill("#reason", "stocktaking"), chromedp.Click(css(".modal button[type=submit]")))
	holds(t, page, "the reason is on record", says("stocktaking"))
	holds(t, page, "the question is gone", `!document.querySelector(".modal")`)
	// Its database is gone: it is told, and left alone where a person says so.
	d["connection"].(map[string]any)["port"] = 1
	code, raw, err = i.call("PUT", "/v1/sources/circulation", d, "If-Match", `"3"`)
	require.NoError(t, err)
	require.Equal(t, 200, code, "%s", raw)
	do(press("Remove"), chromedp.WaitVisible(css(".modal button[type=submit]")), chromedp.Click(css(".modal button[type=submit]")))
	holds(t, page, "it is told", says("an abandoned slot fills the database's disk"))
	do(press("Remove"), chromedp.WaitVisible(css("#ask-option")), chromedp.Click(css("#ask-option")))
	accessible(t, page, "the question whether to remove")
	do(chromedp.Click(css(".modal button[type=submit]")))
	holds(t, page, "it is gone", `location.pathname === "/sources" && `+says("There are none yet"))
}
