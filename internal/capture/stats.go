package capture

import (
	"sync"
	"sync/atomic"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/journal"
)

// rateSeconds is how far back rates are kept.
const rateSeconds = 600

// Stats counts what a source's capture has done since the service started. It
// is safe for several goroutines.
type Stats struct {
	place      atomic.Uint64 // in the source's log, of the newest checkpoint that is stored
	mu         sync.Mutex
	events     int64
	bytes      int64
	stored     int64
	appends    int64
	appendTime time.Duration
	lastCommit time.Time
	delay      time.Duration
	rates      Rates
	loads      map[string][]loadSample
}

// loadSample is how far a table's load was at a time.
type loadSample struct {
	at   time.Time
	rows int64
}

// loadSamples are kept of each table, a second apart at least.
const loadSamples = 10

// table notes how far a table's load is.
func (s *Stats) table(t *engine.TableState) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if t.State != engine.StateLoading {
		delete(s.loads, t.Table)
		return
	}
	if s.loads == nil {
		s.loads = make(map[string][]loadSample)
	}
	samples := s.loads[t.Table]
	n := len(samples)
	switch {
	case n > 0 && t.RowsDone < samples[n-1].rows:
		samples = samples[:0] // begun anew
	case n > 0 && time.Since(samples[n-1].at) < time.Second:
		return
	case n == loadSamples:
		samples = append(samples[:0], samples[1:]...)
	}
	s.loads[t.Table] = append(samples, loadSample{time.Now(), t.RowsDone})
}

// Place is how far the journal reaches in the source's log; 0 before it is known.
func (s *Stats) Place() uint64 { return s.place.Load() }

// Loading reports whether any table is being loaded.
func (s *Stats) Loading() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.loads) > 0
}

// LoadRate is how many rows a second a table's load reads, over the last seconds;
// zero where it is not known.
func (s *Stats) LoadRate(table string, rows int64) float64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	samples := s.loads[table]
	if len(samples) == 0 {
		return 0
	}
	took := time.Since(samples[0].at).Seconds()
	if took < 0.2 {
		return 0
	}
	return max(float64(rows-samples[0].rows)/took, 0)
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
		s.delay = change.DelaySince(b.LastCommit, now)
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
