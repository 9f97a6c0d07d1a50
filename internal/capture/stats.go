package capture

import (
	"sync"
	"time"

	"rillmark/internal/journal"
)

// rateSeconds is how far back rates are kept.
const rateSeconds = 600

// Stats counts what a source's capture has done since the service started. It
// is safe for several goroutines.
type Stats struct {
	mu         sync.Mutex
	events     int64
	bytes      int64
	stored     int64
	appends    int64
	appendTime time.Duration
	lastCommit time.Time
	delay      time.Duration
	rates      Rates
}

// Figures is a look at [Stats].
type Figures struct {
	Events       int64         // events journaled since the service started
	PayloadBytes int64         // the same in bytes, before compression
	StoredBytes  int64         // after it
	Appends      int64         // transactions on the state database
	AppendTime   time.Duration // spent in them, in sum
	LastCommit   time.Time     // of the newest event
	Delay        time.Duration // from that commit until it was in the journal
	Rate         float64       // events a second, over the last ten seconds
}

func (s *Stats) appended(blocks []*journal.Block, stored int64, took time.Duration) {
	now := time.Now()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.appends++
	s.appendTime += took
	s.stored += stored
	for _, b := range blocks {
		s.events += b.Events()
		s.bytes += int64(len(b.Payload))
		s.rates.Add(now, b.Events())
		s.lastCommit = b.LastCommit
		s.delay = now.Sub(b.LastCommit)
	}
}

// Figures is how things stand.
func (s *Stats) Figures() Figures {
	s.mu.Lock()
	defer s.mu.Unlock()
	return Figures{s.events, s.bytes, s.stored, s.appends, s.appendTime, s.lastCommit, s.delay, s.rates.PerSecond(time.Now(), 10)}
}

// History is events a second for each of the last n seconds, oldest first.
func (s *Stats) History(n int) []int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.rates.Last(time.Now(), n)
}

// Rates counts events by second over the last ten minutes. The zero value is
// ready; it is not safe for several goroutines.
type Rates struct {
	counts [rateSeconds]int64
	newest int64 // the second, since 1970, of the newest count
}

// Add counts n events now.
func (r *Rates) Add(now time.Time, n int64) {
	r.advance(now.Unix())
	r.counts[r.newest%rateSeconds] += n
}

func (r *Rates) advance(second int64) {
	if second-r.newest >= rateSeconds {
		r.counts = [rateSeconds]int64{}
		r.newest = second
	}
	for r.newest < second {
		r.newest++
		r.counts[r.newest%rateSeconds] = 0
	}
}

// PerSecond is the mean over the last full seconds.
func (r *Rates) PerSecond(now time.Time, seconds int) float64 {
	sum := int64(0)
	for _, n := range r.Last(now, seconds) {
		sum += n
	}
	return float64(sum) / float64(seconds)
}

// Last is the count of each of the last n full seconds, oldest first.
func (r *Rates) Last(now time.Time, n int) []int64 {
	r.advance(now.Unix())
	n = min(n, rateSeconds-1)
	last := make([]int64, n)
	for i := range last {
		last[i] = r.counts[(r.newest-int64(n)+int64(i)+rateSeconds)%rateSeconds]
	}
	return last
}
