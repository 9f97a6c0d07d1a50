package loads

import (
	"errors"
	"fmt"
	"sync"

	"rillmark/internal/engine"
	"rillmark/internal/mariadb/values"
)

// Garbled counts, by column, the values that are no text in their character set, so that each
// column is reported at the first of them and then ever more seldom.
type Garbled struct {
	mu     sync.Mutex
	counts map[string]int
}

// maxGarbled is the highest number of columns with a count; beyond it all counts begin again.
const maxGarbled = 10_000

// Note reports whether an error is that of a value that is no text, for which
// another stands in the event.
func (g *Garbled) Note(sink engine.Sink, table string, c *values.Column, err error) bool {
	var bad *values.Undecodable
	if !errors.As(err, &bad) {
		return false
	}
	column := table + ": column " + c.Name
	g.mu.Lock()
	if g.counts == nil || len(g.counts) >= maxGarbled {
		g.counts = make(map[string]int)
	}
	g.counts[column]++
	n := g.counts[column]
	g.mu.Unlock()
	for ; n >= 10 && n%10 == 0; n /= 10 {
		continue
	}
	if n == 1 { // the first, the tenth, the hundredth
		sink.Report(engine.Report{Level: "warn", Event: "undecodable-text", Message: fmt.Sprintf("%s (%s) holds %s; they stand in the event as %s, and so do others of that column", column, c.Type, bad.Error(), bad.Instead)})
	}
	return true
}
