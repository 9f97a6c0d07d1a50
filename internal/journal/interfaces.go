package journal

import (
	"context"
	"time"

	"rillmark/internal/change"
)

// Journals keeps journals. [Store] does so in PostgreSQL; a store on a replicated log
// fills the same interfaces.
type Journals interface {
	Reading
	Retention
	// TakeOver makes the caller, an instance of the service, the one writer of a source's
	// journal: an append of whoever was before fails with [ErrFenced] from then on. It is
	// refused with [ErrHeld] while another instance that lives writes it.
	TakeOver(ctx context.Context, source int64, instance string) (Appender, Head, error)
	// StartGeneration has the next event of a journal that nobody writes now begin another
	// generation; in the same step the source's position is forgotten, and all its tables
	// are to be loaded anew. Offsets go on. The generation's number is the next, or least
	// where that is higher.
	StartGeneration(ctx context.Context, source int64, least int, reason string) (GenerationStart, error)
}

// Appender is the one writer of a journal. It is not safe for several goroutines.
type Appender interface {
	// Next is the offset that the next block begins at.
	Next() int64
	// Append stores blocks, the source's checkpoint and the states of tables in one
	// step, all of them or none. After any error the appender is of no more use.
	Append(ctx context.Context, blocks []*Block, checkpoint []byte, tables []change.TableState) error
	// Counts is how many events of each table and operation the journal has taken, and
	// the offset after the newest of them. FlushCounts stores them.
	Counts() (counts []Count, next int64)
	FlushCounts(ctx context.Context) error
	// Close gives the journal up.
	Close(ctx context.Context)
}

// Reading is how journals are read.
type Reading interface {
	// Head is where a journal stands.
	Head(ctx context.Context, source int64) (Head, error)
	// Reader reads from an offset on, and waits at the end.
	Reader(source, from int64, options ReaderOptions) Reader
	// GenerationStarts lists where a journal's generations begin, oldest first.
	GenerationStarts(ctx context.Context, source int64) ([]GenerationStart, error)
	// CommitTime is when the transaction of an offset was committed, OffsetAt the first
	// offset that was committed at a time or after it.
	CommitTime(ctx context.Context, source, offset int64) (time.Time, error)
	OffsetAt(ctx context.Context, source int64, at time.Time) (int64, error)
	// StoredCounts are the counts that were stored last.
	StoredCounts(ctx context.Context, source int64) ([]Count, error)
	// KeyRanges are the runs of events that may hold one of some keys ([KeyHash]).
	KeyRanges(ctx context.Context, source int64, keys []uint64, within Range) ([]Range, error)
	// OpenSingle reads an event that was kept apart.
	OpenSingle(stored []byte, e *change.Event) error
	// Verify reads a whole journal and reports what is damaged.
	Verify(ctx context.Context, source int64, each func(*Verified)) (*Verified, error)
}

// Reader reads a journal in order. It is not safe for several goroutines, holds nothing
// open between calls, and needs no closing.
type Reader interface {
	// Next waits for the next batch; TryNext gives none where there is none now. A batch
	// is good until the reader's next call.
	Next(ctx context.Context) (*Batch, error)
	TryNext(ctx context.Context) (*Batch, error)
	// Changed is closed once there may be more than a reader has come to; at once where
	// there is. It is nil where only Next can say: another process writes the journal.
	Changed() <-chan struct{}
	// Position is the offset that the reader comes to next.
	Position() int64
	// From is another reader of the same journal, which starts at an offset.
	From(offset int64) Reader
}

// Retention removes what is no longer to be kept, and what a store has to do to stay
// quick. Which events may go, the caller says.
type Retention interface {
	// Retain drops what is older than age, or beyond size in bytes, in the store's own
	// pieces; held says of a piece that it has to stay.
	Retain(ctx context.Context, source int64, age time.Duration, size int64, held func(next, bytes int64) bool) (first int64, dropped int, err error)
	// Expire removes events of some tables that are older than age, before an offset.
	Expire(ctx context.Context, source int64, tables []string, age time.Duration, upto int64) (events int64, err error)
	// Upkeep does the store's own maintenance on blocks that are older than settle,
	// without changing an event; busy says that little may be done now.
	Upkeep(ctx context.Context, source int64, settle time.Duration, busy bool) error
	// Size is a journal's size on disk, BytesFrom that of its events from an offset on.
	Size(ctx context.Context, source int64) (int64, error)
	BytesFrom(ctx context.Context, source, offset int64) (int64, error)
	// Remove removes a journal.
	Remove(ctx context.Context, source int64) error
}

var _ Journals = (*Store)(nil)
