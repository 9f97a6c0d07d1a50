// Package seeded is where tests get what they draw from: another seed each time, which
// they print, and which RILLMARK_SEED sets again.
package seeded

import (
	"math/rand/v2"
	"os"
	"strconv"
	"testing"
	"time"
)

// Random draws from the seed and a stream, so that several draw different things.
func Random(t testing.TB, stream uint64) *rand.Rand {
	t.Helper()
	seed := uint64(time.Now().UnixNano())
	if text := os.Getenv("RILLMARK_SEED"); text != "" {
		var err error
		if seed, err = strconv.ParseUint(text, 10, 64); err != nil {
			t.Fatalf("RILLMARK_SEED is no number: %v", err)
		}
	}
	t.Logf("draws again with RILLMARK_SEED=%d", seed)
	return rand.New(rand.NewPCG(seed, stream))
}
