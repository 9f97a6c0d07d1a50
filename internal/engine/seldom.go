package engine

import "sync"

// Seldom limits reports of the same thing: only the first, the tenth, the hundredth and so on
// are written. The zero value is ready; it is safe for several goroutines.
type Seldom struct {
	mu     sync.Mutex
	counts map[string]int
}

// maxSeldom is the highest number of things with a count; beyond it all counts begin again.
const maxSeldom = 10_000

// Now counts a report of a thing, and says whether it is to be written.
func (s *Seldom) Now(thing string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.counts == nil || len(s.counts) >= maxSeldom {
		s.counts = make(map[string]int)
	}
	s.counts[thing]++
	n := s.counts[thing]
	for ; n >= 10 && n%10 == 0; n /= 10 {
		continue
	}
	return n == 1
}
