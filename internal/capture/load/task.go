package load

import (
	"encoding/json"
	"strings"

	"rillmark/internal/change"
)

// Task says which rows of a table a load reads, and what the table is afterwards. It is stored
// with the events, within the engine's own progress.
type Task struct {
	// Began is true once the load's beginning stands in the journal.
	Began bool `json:"began"`
	// Restarts counts how often the load had to begin anew.
	Restarts int `json:"restarts,omitempty"`
	// Kind says which rows are read. Of a part, Where chooses rows in the engine's own
	// language, or Leaves are the partitions that are read, one after the other.
	Kind   Kind     `json:"kind,omitempty"`
	Where  string   `json:"where,omitempty"`
	Leaves []string `json:"leaves,omitempty"`
	// Then, ThenCause and ThenNote are [Task.Afterwards].
	Then      string       `json:"then,omitempty"`
	ThenCause change.Cause `json:"then_cause,omitempty"`
	ThenNote  string       `json:"then_note,omitempty"`
	// For is the outlet that the load is for alone: for anybody else the table goes on as it
	// was.
	For Audience `json:"for,omitzero"`
}

// TaskOf reads the task out of a load's progress as an engine stores it; it is the zero value
// where nothing is stored.
func TaskOf(progress []byte) (t Task) {
	if len(progress) > 0 && json.Unmarshal(progress, &t) != nil {
		return Task{}
	}
	return t
}

// Afterwards is how the table stands after a load that stands apart, or that leaves values
// missing; empty for a table that is followed then.
func (t *Task) Afterwards() change.Standing {
	return change.Standing{State: t.Then, Cause: t.ThenCause, Note: t.ThenNote}
}

// EndsAs sets [Task.Afterwards].
func (t *Task) EndsAs(s change.Standing) { t.Then, t.ThenCause, t.ThenNote = s.State, s.Cause, s.Note }

// Apart reports whether the table's state is not what the load leads to, but what it was
// before.
func (t *Task) Apart() bool { return t.Kind != Full || t.For.ID != 0 }

// Anew is the task of a load that begins again.
func (t Task) Anew() Task {
	t.Began = false
	t.Restarts++
	if !t.Apart() {
		t.EndsAs(change.Standing{}) // all rows are read
	}
	return t
}

// longestBrief is how many bytes of a condition people are shown: one can name many keys.
const longestBrief = 160

// Brief is [Task.What], shortened for people.
func (t *Task) Brief() string {
	what := t.What()
	if len(what) <= longestBrief {
		return what
	}
	what = strings.ToValidUTF8(what[:longestBrief], "") + "…"
	if t.For.ID != 0 {
		what += " for outlet " + t.For.Name
	}
	return what
}

// What says which part of a table a load reads; empty for all of it.
func (t *Task) What() string {
	if len(t.Leaves) > 0 {
		return "from " + strings.Join(t.Leaves, ", ")
	}
	return Ask{Where: t.Where, For: t.For}.What()
}
