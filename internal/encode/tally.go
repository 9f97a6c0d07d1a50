package encode

import (
	"time"

	"rillmark/internal/change"
)

// Tally counts the events that a batch was filled from, by table.
type Tally struct {
	Tables []TableTally
	// Took is how long reading and shaping them took, without waiting for them.
	Took time.Duration
	at   map[string]int
	last int // where the last table stands
}

// TableTally is what became of the events of one table.
type TableTally struct {
	Table string
	// Read counts those of tables that the outlet takes, by operation.
	Read [change.OperationCount]int64
	// KeptBack are those that gave no message: by a condition, a choice of operations, or since
	// the format has nothing to say about them.
	KeptBack int64
	// Merged is how many fewer they are after changes of one row were combined.
	Merged int64
}

// Of is the tally of one table; it is good until the next call.
func (t *Tally) Of(table string) *TableTally {
	if t.last < len(t.Tables) && t.Tables[t.last].Table == table {
		return &t.Tables[t.last]
	}
	at, known := t.at[table]
	if !known {
		if t.at == nil {
			t.at = make(map[string]int)
		}
		at = len(t.Tables)
		t.at[table], t.Tables = at, append(t.Tables, TableTally{Table: table})
	}
	t.last = at
	return &t.Tables[at]
}

// reset empties the tally.
func (t *Tally) reset() {
	t.Tables, t.Took, t.last = t.Tables[:0], 0, 0
	clear(t.at)
}
