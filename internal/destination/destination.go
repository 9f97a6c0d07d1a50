// Package destination is what a kind of destination offers: a check, and
// writers that outlets deliver to. Each kind is a package of its own, and all of
// them pass one conformance suite (see test/conformance_test.go).
package destination

import (
	"context"
	"errors"

	"rillmark/internal/change"
	"rillmark/internal/encode"
	"rillmark/internal/move"
	"rillmark/internal/verify"
)

// Destination is a place where events go, shared by outlets.
type Destination interface {
	// Check looks whether the destination can be delivered to, leaving nothing
	// behind there.
	Check(ctx context.Context) []change.Check
	// Capabilities says what the kind makes use of in messages.
	Capabilities() encode.Capabilities
	// Open begins or resumes an outlet's delivery.
	Open(ctx context.Context, o Outlet) (Writer, error)
}

// Outlet says which delivery is opened.
type Outlet struct {
	ID   int64
	Name string
	// Token is the outlet's own among those of all services.
	Token string
	// Run counts the outlet's rewinds: what an earlier run delivered is not
	// this one's.
	Run int
	// Committed is the newest offset that is known to be delivered.
	Committed int64
	// Wait says that messages of a row wait behind one that was refused.
	Wait bool
	// Log writes a line of the run's log.
	Log func(level, event, message string)
	// KeepRefused keeps refused messages of a batch for good. A writer that commits
	// its own offset in [Writer.Send] calls it before that: they would be lost if
	// the service ended in between.
	KeepRefused func(ctx context.Context, batch *encode.Batch, refused []Refusal) error
	// ReadAgain has rows of a table read from the source for this outlet alone, by their
	// keys, which have a value for each column of the version's key. It is on record when
	// ReadAgain returns; the rows come as events of a load. Nil where that cannot be.
	// Without keys, all rows of the table are read.
	ReadAgain func(ctx context.Context, of *change.Schema, keys [][]change.Value) error
	// Claim is what is on record of whom the outlet's files belong to; nil where nothing is kept.
	Claim *Claim
	// LetPass is the offset up to which somebody has let pass what held.
	LetPass int64
	// Held hears of all tables that are not what the source's are, each time that changes. Nil
	// where nobody asks.
	Held func([]Held)
}

// Claim is what a state database has on record of what an outlet has left beside its files.
type Claim struct {
	// State names the state database among all, its copies included.
	State string
	// Known are the newest tokens that may be there.
	Known []string
	// Record puts another one on record, before it is left there.
	Record func(ctx context.Context, token string) error
}

// Held is a table that a destination has not as the source has it, while the outlet's others go on.
type Held struct {
	Table string
	// Offset is the first event that was passed over; 0 where none is.
	Offset int64
	Code   string
	Why    string
	Fix    string
}

// RowFitter is a destination that can say itself what rows look like.
type RowFitter interface {
	// FitRow fits a version's rows to that, as it is now.
	FitRow(ctx context.Context, s *change.Schema) (RowFit, error)
}

// RowFit is how the rows of a version fit.
type RowFit struct {
	Form  encode.RowForm // nil where they do not fit
	To    string         // what they are fitted to, for people
	Text  string         // the same text, the same form
	Notes []encode.FieldFit
}

// Writer is one outlet's delivery. It is not safe for several goroutines.
type Writer interface {
	// Delivered is the newest offset that the destination itself says it has of
	// this run: [Outlet.Committed] where it keeps none, and less where it has lost some
	// since, as a database that was brought back from a backup.
	Delivered() int64
	// Send delivers a batch: messages of one ordering key in their order, a barrier
	// after all before it and before all after it. It must not keep the
	// batch. A message that the destination does not take is refused, and the
	// others are delivered anyway. An error says that it is not known
	// what arrived: all of it is sent again later, with the same ids.
	Send(ctx context.Context, batch *encode.Batch) ([]Refusal, error)
	// Flush makes durable what was sent and says up to which offset that is so.
	// last asks for all of it, since nothing more comes for now.
	Flush(ctx context.Context, last bool) (durable int64, err error)
	// Close gives up what was not flushed.
	Close() error
}

// Comparer is a destination whose rows can be compared with the source's.
type Comparer interface {
	// CompareRows begins to read the rows that the outlet keeps of a table, as they are now,
	// whichever way they are kept. source is the version in which the source has them.
	CompareRows(ctx context.Context, table string, source *change.Schema) (verify.Side, error)
}

// Redefinition is a change of the definition of a table.
type Redefinition struct {
	Outlet      string
	Before, Now *change.Schema
	Renamed     []change.Rename
}

// Redefiner is a destination whose tables follow those of the source.
type Redefiner interface {
	// PlanRedefinition is what the outlet would run there at a change of a table's
	// definition; nothing is run. The error is why it would hold.
	PlanRedefinition(ctx context.Context, c Redefinition) (statements []string, err error)
}

// TableChecker is a destination with tables, which may be there before an outlet writes them.
type TableChecker interface {
	// CheckTables looks whether rows of schema versions fit the tables that an outlet would
	// write them into; nothing is changed. Where the database cannot be reached, nothing is
	// said: Check says that.
	CheckTables(ctx context.Context, o Outlet, versions []*change.Schema) []change.Check
}

// Scripter is a destination that an administrator can prepare by a script.
type Scripter interface {
	// SetupSQL gives the login the least rights that an outlet needs for rows of tables, which
	// are named as in the source; TeardownSQL takes away what was made for it. Both can be run
	// again, and reach nothing to be written.
	SetupSQL(outlet string, tables []string) string
	TeardownSQL(outlet string, tables []string) string
}

// CounterSetter is a destination whose tables hand out numbers.
type CounterSetter interface {
	// SetCounters sets the counters of the outlet's tables, which are named as in the
	// source; one that cannot be set has a note that says why.
	SetCounters(ctx context.Context, counters []move.Counter) ([]move.CounterSet, error)
	// Current reports whether a table has each row as it is now, and nothing else.
	Current(table string) bool
}

// Framer is a destination whose protocol puts more around a message than its own
// headers, for people who want to see it beforehand.
type Framer interface {
	// Framed is a message as it would be carried, with a word in place of what is
	// secret or not known yet.
	Framed(m *encode.Message) Framed
}

// Framed is a message as a protocol carries it.
type Framed struct {
	ContentType string
	Headers     []encode.Header
	Body        []byte
}

// Refusal is a message that was not taken.
type Refusal struct {
	// Index is the message's in its batch.
	Index int
	// Err says why; nil for a message that only waits behind one before it.
	Err error
	// Temporary says that the same message may be taken another time.
	Temporary bool
}

// ErrRefused is a refusal's usual cause.
var ErrRefused = errors.New("the destination refuses the event")

// Behind finds the messages that must wait since one of the same row before
// them was refused.
type Behind struct {
	wait bool
	rows map[string]bool // whether a message of the row is tried again, rather than refused for good
}

// NewBehind is empty; without wait nothing ever has to.
func NewBehind(wait bool) *Behind { return &Behind{wait: wait} }

// Refused notes the row of a message that is refused for good.
func (b *Behind) Refused(m *encode.Message) {
	if b.wait {
		b.note(m, false)
	}
}

// Failed notes the row of a message that is tried again: whatever happens to
// refused ones, those after it must not go before it.
func (b *Behind) Failed(m *encode.Message) { b.note(m, true) }

func (b *Behind) note(m *encode.Message, again bool) {
	if len(m.OrderingKey) > 0 && !m.Barrier {
		if b.rows == nil {
			b.rows = make(map[string]bool)
		}
		b.rows[string(m.OrderingKey)] = again || b.rows[string(m.OrderingKey)]
	}
}

// Waits reports whether a message has to wait. One about a whole table does not wait behind what is
// refused for good: rows of a table without a key have its name for their order, and would keep
// back its next definition.
func (b *Behind) Waits(m *encode.Message) bool {
	if len(b.rows) == 0 {
		return false
	}
	again, is := b.rows[string(m.OrderingKey)]
	return is && (again || !m.Barrier)
}
