package engine

import "fmt"

// RetainedLog is how much of its log a source keeps because of us.
type RetainedLog struct {
	// There is false where nothing is kept: there is no slot.
	There bool
	Bytes int64
	// Limit is what the source keeps at most, in bytes; 0 without one.
	Limit int64
	// Spilled is what the source wrote to disk so far, in bytes, because a
	// transaction was too large for its memory while it was decoded for us.
	Spilled int64
	Status  string // the engine's own word
	Level   string
	// Advice is what to do where Level is not fine.
	Advice string
}

// The levels of [RetainedLog].
const (
	RetainedFine    = "fine"
	RetainedWarning = "warning"
	RetainedUrgent  = "urgent"
)

// String is what is kept, in words.
func (h RetainedLog) String() string {
	if !h.There {
		return "retains no log"
	}
	text := fmt.Sprintf("retains %.1f MiB of log", float64(h.Bytes)/(1<<20))
	if h.Limit > 0 {
		text += fmt.Sprintf(" of at most %.0f MiB", float64(h.Limit)/(1<<20))
	}
	if h.Status != "" {
		text += " (status " + h.Status + ")"
	}
	return text
}
