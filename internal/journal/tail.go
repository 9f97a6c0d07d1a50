package journal

import (
	"slices"
	"sync"
)

// tail keeps a journal's newest blocks in memory for the readers at its end,
// and wakes them when there is more.
type tail struct {
	mu      sync.Mutex
	blocks  []*Block // adjoining, oldest first
	bytes   int
	limit   int
	next    int64 // the offset after the newest block; 0 while nobody writes here
	writers int
	changed chan struct{}
}

func (s *Store) tail(source int64) *tail {
	s.mu.Lock()
	defer s.mu.Unlock()
	t := s.tails[source]
	if t == nil {
		t = &tail{limit: s.options.TailBytes, changed: make(chan struct{})}
		s.tails[source] = t
	}
	return t
}

// open says that a writer in this process goes on at next. What an earlier
// writer left is dropped: another process may have written in between.
func (t *tail) open(next int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.blocks, t.bytes, t.next = nil, 0, next
	t.writers++
	t.wake()
}

// shut says that the writer is gone; readers ask the database again.
func (t *tail) shut() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.writers--
	if t.writers == 0 {
		t.blocks, t.bytes, t.next = nil, 0, 0
	}
	t.wake()
}

func (t *tail) wake() {
	close(t.changed)
	t.changed = make(chan struct{})
}

const (
	// tailBlocks bounds the blocks in memory, however small they are.
	tailBlocks = 256
	// blockOverhead is about what a block takes besides its payload.
	blockOverhead = 1 << 10
	// sharedBlocks of the newest keep their events decoded, for all who read them.
	sharedBlocks = 8
	// sharedBytes is the largest payload that is decoded once for all.
	sharedBytes = 16 << 10
)

// push adds blocks that are durable.
func (t *tail) push(blocks []*Block) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, b := range blocks {
		if len(b.Payload) < cap(b.Payload)*3/4 {
			b.Payload = slices.Clone(b.Payload) // what it had room for is given back
		}
		t.blocks = append(t.blocks, b)
		t.bytes += len(b.Payload) + blockOverhead
		t.next = b.Last + 1
		if old := len(t.blocks) - 1 - sharedBlocks; old >= 0 {
			t.blocks[old].shared.Store(nil)
		}
	}
	drop := 0
	for drop < len(t.blocks)-1 && (t.bytes > t.limit || len(t.blocks)-drop > tailBlocks) || drop < len(t.blocks) && t.bytes > t.limit {
		t.bytes -= len(t.blocks[drop].Payload) + blockOverhead
		drop++
	}
	t.drop(drop)
	t.wake()
}

func (t *tail) drop(n int) {
	clear(t.blocks[:n]) // the slice moves on, and is copied when it is full
	t.blocks = t.blocks[n:]
}

// forget drops the blocks up to an offset: they are no longer as they were.
func (t *tail) forget(upto int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	drop := 0
	for drop < len(t.blocks) && t.blocks[drop].Last <= upto {
		t.bytes -= len(t.blocks[drop].Payload) + blockOverhead
		drop++
	}
	t.drop(drop)
}

// find returns the block with offset from, if it is in memory; else whether the
// reader is at the end, and the channel that is closed when that changes. known
// is false where no writer of this process can say.
func (t *tail) find(from int64) (block *Block, atEnd, known bool, changed <-chan struct{}) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.writers == 0 {
		return nil, false, false, t.changed
	}
	if from >= t.next {
		return nil, true, true, t.changed
	}
	for i := len(t.blocks) - 1; i >= 0; i-- {
		if b := t.blocks[i]; b.First <= from {
			if from <= b.Last {
				return b, false, true, t.changed
			}
			break
		}
	}
	return nil, false, true, t.changed
}
