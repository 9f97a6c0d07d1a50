package journal

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
)

// ErrExpired says that events were asked for that retention has dropped.
var ErrExpired = errors.New("these events are no longer kept")

// ReaderOptions select what a reader gets; the zero value selects everything.
type ReaderOptions struct {
	// Tables, where not empty, is a regular expression that both Go and
	// PostgreSQL read alike; blocks in which no table matches it are skipped
	// unread. Events of other tables in a block that is read still come.
	Tables string
	// Wants, where not nil, selects tables whose events are read, messages having
	// none. Others are passed over: their offsets are left out.
	Wants func(table string) bool
	// For is the outlet that is read for; see [Cursor]. Without it, events that are for
	// one outlet alone are passed over.
	For int64
	// Poll is how often the journal is asked for more where no writer of this
	// process can say. Default 200 ms.
	Poll time.Duration
}

// blockReader implements [Reader] for journals in PostgreSQL.
type blockReader struct {
	store    *Store
	source   int64
	next     int64
	options  ReaderOptions
	segments []segment
	ahead    []fetched // not yet handed out
	batch    Batch
}

// fetched is a block of the database, whose columns have been checked.
type fetched struct {
	columns
	stored []byte // nil where none of its tables is selected
}

// fetchBlocks bounds how many stored blocks a reader holds.
const fetchBlocks = 4

// Reader implements [Reading].
func (s *Store) Reader(source, from int64, options ReaderOptions) Reader {
	if options.Poll <= 0 {
		options.Poll = 200 * time.Millisecond
	}
	r := &blockReader{store: s, source: source, next: from, options: options}
	r.batch.cursor.Resolve, r.batch.cursor.Wants = s.resolve, options.Wants
	r.batch.cursor.For = options.For
	return r
}

// From is another reader of the same journal, which starts at offset from.
func (r *blockReader) From(from int64) Reader { return r.store.Reader(r.source, from, r.options) }

// Position is the offset that the reader comes to next.
func (r *blockReader) Position() int64 { return r.next }

// Batch is a run of adjoining offsets, the events of which Next walks through.
// It is good until the reader's next call.
type Batch struct {
	First, Last int64
	// LastCommit is the commit time of the newest event in it.
	LastCommit time.Time

	cursor  Cursor
	shared  []change.Event // instead of the cursor, where others read the same block
	at      int64          // the offset of the cursor's next event
	skipped bool
	err     error
}

// Next fills e with the batch's next event, all but Source, Generation,
// Database and Engine. It is false at the batch's end and after an error.
func (b *Batch) Next(e *change.Event) bool {
	for len(b.shared) > 0 {
		one := &b.shared[0]
		b.shared = b.shared[1:]
		if one.Offset >= b.First && isFor(one.For, b.cursor.For) && (b.cursor.Wants == nil || b.cursor.Wants(one.Table)) {
			*e = *one
			return true
		}
	}
	for b.err == nil && !b.skipped && b.at <= b.Last {
		before := b.cursor.Passed
		more, err := b.cursor.Next(e)
		b.at += b.cursor.Passed - before
		if err == nil && !more && b.at > b.Last {
			return false // the rest was passed over
		}
		if err == nil && !more {
			err = fmt.Errorf("%w: it ends before offset %d", ErrCorrupt, b.at)
		}
		if errors.Is(err, ErrCorrupt) {
			err = &Damage{max(b.at, b.First), b.Last, err}
		}
		if err != nil {
			b.err = fmt.Errorf("reading offset %d: %w", b.at, err)
			return false
		}
		e.Offset = b.at
		b.at++
		if e.Offset >= b.First {
			return true
		}
	}
	return false
}

// Err is the error that ended the batch early.
func (b *Batch) Err() error { return b.err }

// Next returns the next batch, and waits for one at the journal's end until ctx
// is done.
func (r *blockReader) Next(ctx context.Context) (*Batch, error) {
	for {
		batch, wait, err := r.try(ctx)
		if batch != nil || err != nil {
			return batch, err
		}
		poll := r.options.Poll
		if wait.known {
			poll = time.Minute // the channel wakes it; this is for a lost writer
		}
		timer := time.NewTimer(poll)
		select {
		case <-ctx.Done():
			timer.Stop()
			return nil, context.Cause(ctx)
		case <-wait.changed:
			timer.Stop()
		case <-timer.C:
		}
	}
}

// TryNext returns the next batch, or nil at the journal's end.
func (r *blockReader) TryNext(ctx context.Context) (*Batch, error) {
	batch, _, err := r.try(ctx)
	return batch, err
}

// closed is that of a reader that has something to read.
var closed = func() <-chan struct{} {
	c := make(chan struct{})
	close(c)
	return c
}()

// Changed implements [Reader].
func (r *blockReader) Changed() <-chan struct{} {
	if len(r.ahead) > 0 {
		return closed
	}
	_, atEnd, known, changed := r.store.tail(r.source).find(r.next)
	switch {
	case !known:
		return nil
	case !atEnd:
		return closed
	}
	return changed
}

type waiting struct {
	known   bool
	changed <-chan struct{}
}

func (r *blockReader) try(ctx context.Context) (*Batch, waiting, error) {
	if len(r.ahead) > 0 {
		batch, err := r.takeAhead()
		return batch, waiting{}, err
	}
	block, atEnd, known, changed := r.store.tail(r.source).find(r.next)
	if block != nil {
		if r.options.Wants != nil && !slices.ContainsFunc(block.Tables, r.options.Wants) {
			return r.hand(block.First, block.Last, block.LastCommit, nil), waiting{}, nil
		}
		shared := block.events(r.store.resolve)
		batch := r.hand(block.First, block.Last, block.LastCommit, block.Payload)
		if shared != nil {
			batch.shared, batch.skipped = shared, true
		}
		return batch, waiting{}, nil
	}
	if atEnd {
		return nil, waiting{known, changed}, nil
	}
	if err := r.fetch(ctx); err != nil {
		return nil, waiting{}, err
	}
	if len(r.ahead) == 0 {
		return nil, waiting{false, changed}, nil
	}
	batch, err := r.takeAhead()
	return batch, waiting{}, err
}

func (r *blockReader) hand(first, last int64, lastCommit time.Time, payload []byte) *Batch {
	b := &r.batch
	b.First, b.Last, b.LastCommit, b.at, b.err = max(first, r.next), last, lastCommit, first, nil
	b.skipped, b.shared = payload == nil, nil
	b.cursor.Reset(payload)
	r.next = last + 1
	return b
}

func (r *blockReader) takeAhead() (*Batch, error) {
	block := r.ahead[0]
	r.ahead = r.ahead[1:]
	if block.stored == nil {
		return r.hand(block.first, block.last, block.lastCommit, nil), nil
	}
	payload, err := Payload(block.stored)
	if err != nil {
		r.ahead = nil // whoever asks again comes to the same block again
		return nil, &Damage{max(block.first, r.next), block.last, err}
	}
	return r.hand(block.first, block.last, block.lastCommit, payload), nil
}

// fetch reads the next blocks from the database; none where the journal ends.
func (r *blockReader) fetch(ctx context.Context) error {
	for attempt := 0; ; attempt++ {
		head, err := r.store.Head(ctx, r.source)
		if err != nil {
			return err
		}
		if r.next < head.First {
			return fmt.Errorf("%w: offset %d was asked for, the oldest kept is %d", ErrExpired, r.next, head.First)
		}
		if r.next >= head.Next {
			return nil
		}
		if attempt > 0 {
			r.segments = nil
		}
		relation, err := r.segment(ctx)
		if err != nil {
			return err
		}
		if relation != "" {
			found, err := r.query(ctx, relation)
			if err != nil {
				return err
			}
			if found {
				return nil
			}
		}
		if attempt > 0 {
			following, err := r.store.following(ctx, r.source, r.next, head.Next)
			if err != nil {
				return err
			}
			return &Damage{r.next, following - 1, errMissing}
		}
	}
}

// segment is the relation that holds the next offset.
func (r *blockReader) segment(ctx context.Context) (string, error) {
	if r.segments == nil {
		var err error
		if r.segments, err = r.store.segments(ctx, r.source); err != nil {
			return "", err
		}
	}
	for i := len(r.segments) - 1; i >= 0; i-- {
		if r.segments[i].first <= r.next {
			return r.segments[i].relation, nil
		}
	}
	return "", nil
}

func (r *blockReader) query(ctx context.Context, relation string) (found bool, err error) {
	rows, _ := r.store.pool.Query(ctx, `SELECT first_offset, last_offset, first_commit, last_commit, tables, payload_bytes, substring(data FOR 10),
			CASE WHEN $2 = '' OR tables = '' OR EXISTS (SELECT FROM string_to_table(tables, E'\n') AS name WHERE name = '' OR name ~ $2) THEN data END
		FROM `+relation+` WHERE last_offset >= $1 ORDER BY last_offset LIMIT $3`, r.next, r.options.Tables, fetchBlocks)
	next := r.next
	var blocks []fetched
	for rows.Next() {
		var b fetched
		var header []byte
		if err := rows.Scan(&b.first, &b.last, &b.firstCommit, &b.lastCommit, &b.tables, &b.payloadBytes, &header, &b.stored); err != nil {
			rows.Close()
			return false, fmt.Errorf("reading the journal from offset %d: %w", r.next, err)
		}
		wrong := b.verify(header)
		if len(blocks) == 0 && wrong == nil && b.first > next {
			break // rolled or dropped meanwhile: the segments are read again
		}
		if len(blocks) > 0 && (wrong != nil || b.first != next) {
			break // the reader reports it when it gets there
		}
		if wrong != nil {
			rows.Close()
			return false, &Damage{next, max(b.last, next), wrong}
		}
		blocks = append(blocks, b)
		next = b.last + 1
	}
	rows.Close()
	if err := rows.Err(); err != nil {
		return false, fmt.Errorf("reading the journal from offset %d: %w", r.next, err)
	}
	r.ahead = blocks
	return len(blocks) > 0, nil
}

// CommitTime is when the oldest transaction of the block that holds an offset
// was committed; the zero time for an offset that is in no block.
func (s *Store) CommitTime(ctx context.Context, source, offset int64) (time.Time, error) {
	if block, _, _, _ := s.tail(source).find(offset); block != nil {
		return block.FirstCommit, nil
	}
	head, err := s.Head(ctx, source)
	if err != nil || offset >= head.Next {
		return time.Time{}, err
	}
	segments, err := s.segments(ctx, source)
	if err != nil {
		return time.Time{}, err
	}
	for i := len(segments) - 1; i >= 0; i-- {
		if segments[i].first > offset && i > 0 {
			continue
		}
		var at time.Time
		err := s.pool.QueryRow(ctx, "SELECT first_commit FROM "+segments[i].relation+" WHERE last_offset >= $1 ORDER BY last_offset LIMIT 1", offset).Scan(&at)
		if errors.Is(err, pgx.ErrNoRows) {
			err = nil
		}
		return at, err
	}
	return time.Time{}, nil
}
