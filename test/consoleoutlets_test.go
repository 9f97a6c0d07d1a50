package test

import (
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestConsoleAddsAnOutlet goes the steps from a destination to the first
// delivery, then works with dead letters, marks and offsets as a person does.
func TestConsoleAddsAnOutlet(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	f := newFunction(t)
	f.set(func(r *http.Request, body []byte) int {
		if strings.Contains(string(body), "poison") {
			return http.StatusUnprocessableEntity
		}
		return http.StatusOK
	})
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO desk VALUES (9007199254740993, 'first')")
	i.reached("circulation", db)
	page := browser(t, i.address+"/outlets")
	do := func(steps ...act) { t.Helper(); require.NoError(t, chromedp.Do(page, steps...)) }
	holds(t, page, "there is nothing yet", says("There are none yet"))
	accessible(t, page, "the empty list")

	// That a destination does not answer shows before anything is stored.
	do(press("Add an outlet"), chromedp.WaitVisible(css("#kind")), fill("#destination-name", "function"), fill("#kind", "http"), chromedp.WaitVisible(css("#url")), fill("#url", "http://127.0.0.1:1/x"), press("Check it"))
	holds(t, page, "the check says so", says("Not ready"))
	do(press("Destination"), chromedp.WaitVisible(css("#url")), fill("#url", "http://"+f.address), press("Check it"))
	holds(t, page, "it answers", says("Ready: nothing is missing."))
	accessible(t, page, "the checks")
	do(press("Choose what goes out"), chromedp.WaitVisible(css("#name")), fill("#name", "desk"), fill("#tables", "desk"), chromedp.Click(css("#operations-insert")), chromedp.Click(css("#operations-update")))
	holds(t, page, "what a pattern matches is shown", says("1 of 1 tables match"))
	holds(t, page, "what comes of it is shown before anything is stored", `document.querySelector(".live-preview [data-column=id] [data-image=after]")?.innerText === "9007199254740993"`)
	accessible(t, page, "what goes out")
	do(press("Preview"))
	holds(t, page, "a real event is shown as it would be sent", `document.querySelector("[data-column=id] [data-image=after]")?.innerText === "9007199254740993"`)
	holds(t, page, "the preview has come", says("Continue")) // while it comes, the form shows one of its own
	do(press("As sent"))
	holds(t, page, "and exactly as it is sent", says(`"id": 9007199254740993`))
	require.Empty(t, f.all(), "nothing was sent")
	accessible(t, page, "the preview")
	do(press("Continue"), press("Add and start"))
	holds(t, page, "it runs", `location.pathname === "/outlets/desk" && `+says("running"))
	i.caughtUp("desk")
	require.Len(t, f.all(), 1)
	holds(t, page, "the charts and counts are there", `document.querySelectorAll(".time-chart canvas").length === 3 && `+`[...document.querySelectorAll(".counts:not(.outcome) thead th")].map((h) => h.innerText).join() === "table,insert" && `+says("1 of 1"))
	holds(t, page, "what became of each event adds up", `document.querySelector(".outcome tbody")?.innerText.includes("public.desk") && !`+says("does not add up"))
	accessible(t, page, "the outlet")
	do(chromedp.Navigate(i.address+"/"), chromedp.WaitVisible(css(`tr[data-table="public.desk"] button`)), chromedp.Click(css(`tr[data-table="public.desk"] button`)))
	holds(t, page, "a table opens into what became of its events at each outlet", `document.querySelector(".outcome-detail .outcome tbody th")?.innerText === "desk" && document.querySelectorAll(".outcome-detail tbody td")[1].innerText === "1"`)
	accessible(t, page, "a table's events at its outlets")
	do(chromedp.Navigate(i.address+"/outlets/desk"), chromedp.WaitVisible(css(".outcome tbody")))

	// A form of rows shows what comes of it while it is typed.
	do(press("Definition"), chromedp.WaitVisible(css(".live-preview")), chromedp.Click(css("details.advanced summary")), press("Add to form of rows"), chromedp.WaitVisible(css("#rows-0-match")), fill("#rows-0-match", "public.desk"),
		press("Add to new columns"), chromedp.WaitVisible(css("#rows-0-new-0-name")), fill("#rows-0-new-0-name", "loud"), fill("#rows-0-new-0-is", "nte.upperAscii()"))
	holds(t, page, "what is wrong is said where it is typed", says("undeclared reference to 'nte'")+" && "+says("(note?)"))
	accessible(t, page, "a form of rows")
	do(fill("#rows-0-new-0-is", "note.upperAscii()"))
	holds(t, page, "what comes of it is shown", `document.querySelector(".live-preview [data-column=loud] [data-image=after]")?.innerText === "FIRST"`)
	do(press("Save"))
	holds(t, page, "it is saved", says("Saved as version 2"))
	do(press("Remove"), press("Remove")) // the column, then the form
	holds(t, page, "and taken out again", says("Not saved yet.")+` && document.querySelector("#rows-0-match") === null`)
	do(press("Save"))
	holds(t, page, "the second is saved", says("Saved as version 3"))

	// What it lets through, live.
	do(press("Live"))
	holds(t, page, "nothing yet", says("Nothing has come through yet"))
	run(t, db, "INSERT INTO desk VALUES (2, 'seen live')")
	holds(t, page, "the change shows", says("seen live"))
	accessible(t, page, "the live view")

	// A dead letter is opened, mended, and delivered.
	run(t, db, "INSERT INTO desk VALUES (3, 'poison')")
	holds(t, page, "the tab counts it", says("Dead letters (1)"))
	do(press("Dead letters (1)"))
	holds(t, page, "it is listed with its error", says("422"))
	do(press("Open"))
	holds(t, page, "its event is there", `document.querySelector("[data-column=note] [data-image=after]")?.innerText === "poison"`)
	accessible(t, page, "the dead letters")
	f.set(nil)
	do(press("Try again"))
	holds(t, page, "it has gone out", says("None: every event"))

	// A mark, and a rewind that says what it does before it does it.
	i.must(http.MethodPut, "/v1/sources/circulation/marks/morning", map[string]any{"at": "beginning"}, nil)
	do(press("Rewind …"), chromedp.WaitVisible(css("#rewind-kind")))
	holds(t, page, "the marks are known", `!!document.querySelector("option[value=mark]:not([disabled])")`)
	do(fill("#rewind-kind", "mark"), chromedp.WaitVisible(css("#rewind-mark")), press("What would that do?"))
	holds(t, page, "it says how many", says("are delivered again, with the same ids"))
	accessible(t, page, "the rewind")
	before := len(f.all())
	do(press("Do it"))
	i.eventually("they are delivered again", func() bool { return len(f.all()) >= before+3 })
	do(chromedp.Navigate(i.address))
	holds(t, page, "the journal's line has the mark", `document.querySelector(".flag")?.title.startsWith("mark morning")`)

	// A definition is changed in the form that made it, or as JSON. The error of a wrong
	// one names its place.
	do(chromedp.Navigate(i.address+"/outlets/desk/definition"), chromedp.WaitVisible(css("#tables")), fill("#description", "for the desk"))
	accessible(t, page, "the form")
	do(press("Save"))
	holds(t, page, "it is saved", says("Saved as version 4"))
	do(chromedp.Click(css("label[for=definition-view-json]")), chromedp.WaitVisible(css("#definition")), fill("#definition", `{"source": "circulation"`))
	holds(t, page, "half a text is not sent", says("This is no JSON yet"))
	do(fill("#definition", `{"source": "circulation", "destination": "function", "tables": ["desk"], "topic": "x"}`), press("Save"))
	holds(t, page, "the wrong field is named", says("has no topics"))
	do(fill("#definition", `{"source": "circulation", "destination": "function", "tables": ["desk"], "description": "for the desk alone"}`), press("Save"))
	holds(t, page, "it is saved", says("Saved as version 5"))
	accessible(t, page, "the definition")
	do(press("Pause"), chromedp.WaitVisible(css("#reason")), fill("#reason", "stocktaking"), chromedp.Click(css(".modal button[type=submit]")))
	holds(t, page, "the reason is on record", says("stocktaking"))

	// Its destination is checked, changed, and kept while the outlet uses it.
	click := func(label string) act { return chromedp.Click(css(`button[aria-label="` + label + `"]`)) }
	do(chromedp.Navigate(i.address+"/outlets"), chromedp.WaitVisible(css(`button[aria-label="Check function"]`)), click("Check function"))
	holds(t, page, "it answers", says("Ready: nothing is missing."))
	accessible(t, page, "the destinations")
	do(click("Remove function"), chromedp.WaitVisible(css(".modal")), chromedp.Click(css(".modal button[type=submit]")))
	holds(t, page, "it is in use", says("is in use by an outlet"))
	do(click("Edit function"), chromedp.WaitVisible(css("#url")), fill("#url", "nowhere"), chromedp.Click(css(".modal button[type=submit]")))
	holds(t, page, "the error stands in the dialog", `!!document.querySelector(".modal .trouble")`)
	accessible(t, page, "editing a destination")
	do(chromedp.Click(css("label[for=destination-definition-view-json]")), chromedp.WaitVisible(css("#destination-definition")), fill("#destination-definition", `{"kind": "http", "http": {"url": "http://`+f.address+`/later"}}`), chromedp.Click(css(".modal button[type=submit]")))
	holds(t, page, "it is changed", says("/later"))
}
