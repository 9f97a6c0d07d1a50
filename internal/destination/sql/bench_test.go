package sql

import (
	"fmt"
	"testing"

	"rillmark/internal/change"
	"rillmark/internal/encode"
)

// BenchmarkNet works out what a batch of updates of different rows comes to.
func BenchmarkNet(b *testing.B) {
	messages := make([]*encode.Message, 10_000)
	for i := range messages {
		messages[i] = message(change.Update, fmt.Sprint(i*7919), "returned", "body")
	}
	var n Net
	b.ReportAllocs()
	for b.Loop() {
		n.Reset()
		n.Add(messages)
		n.Rows()
	}
}
