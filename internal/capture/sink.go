package capture

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/journal"
)

const (
	// blockBytes of payload close a block.
	blockBytes = 512 << 10
	// minGap is the least time between two appends that small transactions ask
	// for: a block each would use up the state database's transaction ids.
	minGap = 3 * time.Millisecond
	// closedBlocks wait for the compressor at most; the engine then waits.
	closedBlocks = 2
	// appendBlocks go into one append at most.
	appendBlocks = 4
	// appendTimeout is what the state database has for one append.
	appendTimeout = time.Minute
)

// sink is the way from an engine into the journal: the engine's goroutine fills
// a block, one goroutine compresses closed blocks, one appends them. A block is
// closed when it is full, or at a transaction's end as soon as nothing is on its
// way, so that delay is low when little happens and blocks are large when much
// does.
type sink struct {
	writer  journal.Appender
	know    func(*change.Schema) // gets versions that readers will ask for
	report  func(engine.Report)
	stats   *Stats
	now     func() time.Time
	release atomic.Uint64

	mu         sync.Mutex
	space      sync.Cond // room for a closed block, a stored one, or the end
	err        error
	checkpoint func() engine.Checkpoint
	builder    *journal.Builder
	next       int64
	tx         change.OpenTransaction
	inTx       bool
	states     []engine.TableState // with the open block
	touched    bool
	wanted     bool // somebody waits for the open block to be closed and stored
	closed     []parcel
	closes     int64 // parcels closed so far
	stores     int64 // parcels stored so far
	lastTake   time.Time
	wake       chan struct{} // the compressor has something to look at
	compressor *journal.Compressor
}

// parcel is what one step of the journal stores.
type parcel struct {
	block      *journal.Block // nil where only the checkpoint moves
	checkpoint engine.Checkpoint
	states     []engine.TableState
	fast       bool
}

func newSink(writer journal.Appender, know func(*change.Schema), report func(engine.Report), stats *Stats) *sink {
	s := &sink{writer: writer, know: know, report: report, stats: stats, now: time.Now,
		builder: journal.NewBuilder(64 << 10), next: writer.Next(), wake: make(chan struct{}, 1), compressor: journal.NewCompressor()}
	s.space.L = &s.mu
	return s
}

// Locked implements [engine.Sink]; a panic in f gives the lock back, too.
func (s *sink) Locked(f func() error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return f()
}

// Unlocked implements [engine.Sink].
func (s *sink) Unlocked(f func() error) error {
	s.mu.Unlock()
	defer s.mu.Lock()
	return f()
}

func (s *sink) Checkpoint(f func() engine.Checkpoint) { s.checkpoint = f }

func (s *sink) Reserve() error {
	if s.wanted && s.err == nil {
		s.close() // more of the transaction follows, or a new one
	}
	for s.err == nil && s.builder.Size() >= blockBytes {
		if len(s.closed) < closedBlocks {
			s.close()
			break
		}
		s.space.Wait()
	}
	return s.err
}

func (s *sink) Begin(id, origin string, commitTime int64, next uint64) {
	s.tx = change.OpenTransaction{ID: id, Origin: origin, CommitTime: commitTime, Next: next}
	s.inTx = true
	s.builder.BeginTransaction()
}

func (s *sink) Add(row *change.Row) { s.builder.Add(&s.tx, row) }

func (s *sink) Next() uint64 { return s.tx.Next }

func (s *sink) Commit() {
	s.builder.EndTransaction()
	s.inTx = false
	if s.builder.Events() > 0 || len(s.states) > 0 || s.touched {
		s.signal()
	}
}

func (s *sink) Table(t engine.TableState) {
	s.stats.table(&t)
	for i := len(s.states) - 1; i >= 0; i-- {
		if s.states[i].Table != t.Table {
			continue
		}
		if gone := t.State == engine.StateGone; gone || s.states[i].State == engine.StateGone {
			if gone && s.states[i].Schema == nil {
				s.states[i] = t
				return
			}
			break // a table that is gone has no version, and one that comes back none of before
		}
		if t.Schema == nil {
			t.Schema = s.states[i].Schema
		}
		// A state with another version stays, so that this version is stored too:
		// a block may hold events of several.
		if s.states[i].Schema == nil || t.Schema.Fingerprint() == s.states[i].Schema.Fingerprint() {
			s.states[i] = t
			return
		}
		break
	}
	s.states = append(s.states, t)
}

func (s *sink) Touch() {
	s.touched = true
	s.signal()
}

// Store implements [engine.Sink]; the lock is held, and is released while waiting.
func (s *sink) Store(ctx context.Context) error {
	s.close()
	return s.stored(ctx, s.closes)
}

// StoreWhole implements [engine.Sink]; the lock is held, and is released while waiting.
func (s *sink) StoreWhole(ctx context.Context) error {
	if !s.inTx {
		return s.Store(ctx)
	}
	s.wanted, s.touched = true, true
	return s.stored(ctx, s.closes+1)
}

// stored waits until so many parcels are stored; the lock is held, and is released
// meanwhile.
func (s *sink) stored(ctx context.Context, want int64) error {
	stop := context.AfterFunc(ctx, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.space.Broadcast()
	})
	defer stop()
	for s.err == nil && s.stores < want && ctx.Err() == nil {
		s.space.Wait()
	}
	if s.err != nil {
		return s.err
	}
	return context.Cause(ctx)
}

func (s *sink) Released() uint64 { return s.release.Load() }

func (s *sink) Report(r engine.Report) { s.report(r) }

func (s *sink) signal() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// close hands the open block, with the checkpoint it reaches, to the compressor.
func (s *sink) close() {
	p := parcel{checkpoint: s.checkpoint(), states: s.states, fast: len(s.closed) > 0}
	if s.builder.Events() > 0 {
		p.block = s.builder.Close(s.next)
		s.next = p.block.Last + 1
		p.fast = p.fast || loads(p.block)
		s.builder = journal.NewBuilder(roomAfter(len(p.block.Payload)))
	}
	s.states, s.touched, s.wanted = nil, false, false
	s.closed = append(s.closed, p)
	s.closes++
	s.signal()
}

// loads reports whether a block is a load's for the most part: compressing it
// well would be more than half of the load's work, and can be done later.
func loads(block *journal.Block) bool {
	rows := int64(0)
	for _, c := range block.Counts {
		if c.Operation == change.Existing {
			rows += c.Events
		}
	}
	return 2*rows > block.Events()
}

// roomAfter guesses the next block's size from the last one's.
func roomAfter(last int) int {
	switch {
	case last > blockBytes: // a load's chunks come whole
		return min(last+last/8, 4*blockBytes)
	case last > blockBytes/4:
		return blockBytes + blockBytes/8
	}
	return max(2*last, 4<<10)
}

// end makes every call of the engine fail from here on.
func (s *sink) end(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err == nil {
		s.err = err
	}
	s.space.Broadcast()
}

// take waits for the next parcel. The open block is taken at a transaction's end
// when the last was taken long enough ago.
func (s *sink) take(ctx context.Context) (parcel, error) {
	var timer <-chan time.Time
	for {
		p, there, wait := s.poll()
		if there {
			return p, nil
		}
		if wait > 0 {
			timer = time.After(wait)
		} else {
			timer = nil
		}
		select {
		case <-ctx.Done():
			return parcel{}, context.Cause(ctx)
		case <-s.wake:
		case <-timer:
		}
	}
}

// poll is the next parcel, if there is one; else how long to wait for the open
// block, zero where nothing is in it.
func (s *sink) poll() (p parcel, there bool, wait time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	wait = minGap - s.now().Sub(s.lastTake)
	due := (s.builder.Events() > 0 || len(s.states) > 0 || s.touched) && !s.inTx
	if len(s.closed) == 0 && due && wait <= 0 && s.checkpoint != nil {
		s.close()
	}
	if len(s.closed) > 0 {
		p = s.closed[0]
		s.closed = append(s.closed[:0], s.closed[1:]...)
		s.lastTake = s.now()
		s.space.Broadcast()
		return p, true, 0
	}
	if !due {
		wait = 0
	}
	return parcel{}, false, max(wait, 0)
}

// compress takes parcels and passes them on, compressed.
func (s *sink) compress(ctx context.Context, to chan<- parcel) error {
	for {
		p, err := s.take(ctx)
		if err != nil {
			return err
		}
		if p.block != nil {
			s.compressor.Compress(p.block, p.fast)
		}
		select {
		case to <- p:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// store appends parcels, several at once where they have piled up.
func (s *sink) store(ctx context.Context, from <-chan parcel) error {
	for {
		var batch []parcel
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case p := <-from:
			batch = append(batch, p)
		}
	more:
		for len(batch) < appendBlocks {
			select {
			case p := <-from:
				batch = append(batch, p)
			default:
				break more
			}
		}
		if err := s.append(ctx, batch); err != nil {
			s.end(err)
			return err
		}
	}
}

func (s *sink) append(ctx context.Context, batch []parcel) error {
	var blocks []*journal.Block
	var states []engine.TableState
	for _, p := range batch {
		if p.block != nil {
			blocks = append(blocks, p.block)
		}
		states = append(states, p.states...)
	}
	last := batch[len(batch)-1].checkpoint
	stored, forms := int64(0), make([][]byte, 0, len(blocks))
	for _, b := range blocks {
		stored += int64(len(b.Stored))
		forms = append(forms, b.Stored)
	}
	began := time.Now()
	// A state database that does not answer is one that is away.
	ctx, cancel := context.WithTimeout(ctx, appendTimeout)
	defer cancel()
	for _, t := range states {
		if t.Schema != nil {
			s.know(t.Schema)
		}
	}
	if err := s.writer.Append(ctx, blocks, last.State, states); err != nil {
		return fmt.Errorf("the state database does not take the journal's next block: %w", err)
	}
	for _, form := range forms {
		s.compressor.Reuse(form)
	}
	s.stats.appended(blocks, stored, time.Since(began))
	s.release.Store(last.Release)
	if last.Place > 0 {
		s.stats.place.Store(last.Place)
	}
	s.mu.Lock()
	s.stores += int64(len(batch))
	s.space.Broadcast()
	s.mu.Unlock()
	return nil
}
