package change

// Verdict is what a check found.
type Verdict string

// The verdicts, from good to bad.
const (
	Good    Verdict = "good"    // nothing to do
	Note    Verdict = "note"    // works, and there is something to know
	Missing Verdict = "missing" // does not work until Fix has been done
)

// Check is one verdict on the readiness of a source or a destination.
type Check struct {
	Name    string  `json:"name" doc:"What was looked at"`
	Verdict Verdict `json:"verdict" enum:"good,note,missing" doc:"good: nothing to do; note: works, and there is something to know; missing: does not work until the fix is made"`
	Found   string  `json:"found" doc:"What was found"`
	Why     string  `json:"why,omitempty" doc:"Why it matters"`
	Fix     string  `json:"fix,omitempty" doc:"The exact statement or step that mends it"`
}

// Ready reports whether nothing is missing.
func Ready(checks []Check) bool {
	for _, c := range checks {
		if c.Verdict == Missing {
			return false
		}
	}
	return true
}
