// Package base is what all parts of the service work with: the state database, the
// journals, the log of the run, places in a journal, and how errors of the records become
// faults that a caller can act on.
package base

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/config"
	"rillmark/internal/definition"
	"rillmark/internal/engine"
	"rillmark/internal/journal"
	"rillmark/internal/netguard"
	"rillmark/internal/outlet"
)

// Common is what all parts work with.
type Common struct {
	Config  *config.Config
	Started time.Time

	Catalog *catalog.Catalog
	Store   journal.Journals

	RunLog   *runLog
	Pool     *pgxpool.Pool
	Instance *catalog.Instance
	Guard    *netguard.Guard

	Draining context.Context // ended when no request should wait any longer
	Drain    context.CancelFunc

	Work   context.Context // of all goroutines
	Cancel context.CancelCauseFunc
	Done   sync.WaitGroup
}

func (s *Common) Goes(f func()) {
	s.Done.Add(1)
	go func() {
		defer s.Done.Done()
		f()
	}()
}

// Start runs f until it is cancelled; done is closed once it has ended.
func (s *Common) Start(f func(context.Context)) (cancel context.CancelFunc, done <-chan struct{}) {
	ctx, cancel := context.WithCancel(s.Work)
	ended := make(chan struct{})
	s.Goes(func() {
		defer close(ended)
		f(ctx)
	})
	return cancel, ended
}

func (s *Common) Origin(ctx context.Context, source *catalog.Source) (outlet.Origin, error) {
	head, err := s.Store.Head(ctx, source.ID)
	if err != nil {
		return outlet.Origin{}, err
	}
	cuts, err := s.Store.GenerationStarts(ctx, source.ID)
	if err != nil {
		return outlet.Origin{}, err
	}
	return outlet.Origin{GenerationStarts: cuts, Source: source.Name, SourceID: source.ID, Database: source.Definition.Database(),
		Engine: change.Engine(source.Definition.Engine), Generation: head.Generation}, nil
}

// Place turns a place in a journal into the offset before it.
func (s *Common) Place(ctx context.Context, source int64, from string) (committed int64, err error) {
	head, err := s.Store.Head(ctx, source)
	if err != nil {
		return 0, Answer(err, "source", "")
	}
	switch from {
	case "", "beginning":
		return head.First - 1, nil
	case "now":
		return head.Next - 1, nil
	}
	if err := definition.CheckPlace("from", from); err != nil {
		return 0, err
	}
	var offset int64
	if name, is := strings.CutPrefix(from, "mark:"); is {
		if offset, err = s.Catalog.MarkOffset(ctx, source, name); err != nil {
			return 0, Answer(err, "mark", name)
		}
	} else if text, is := strings.CutPrefix(from, "time:"); is {
		at, err := time.Parse(time.RFC3339, text)
		if err != nil {
			return 0, err // CheckPlace has read it
		}
		if offset, err = s.Store.OffsetAt(ctx, source, at); err != nil {
			return 0, Answer(err, "source", "")
		}
	} else if offset, err = strconv.ParseInt(from, 10, 64); err != nil {
		return 0, err // CheckPlace has read it
	}
	if offset < head.First || offset > head.Next {
		return 0, OutsideFault(offset, head)
	}
	return offset - 1, nil
}

func OutsideFault(offset int64, head journal.Head) error {
	if head.First == head.Next {
		return &engine.Fault{Code: CodeOffsetOutside, Message: fmt.Sprintf("offset %d lies outside of the journal, which is empty so far", offset), Fix: "use beginning or now"}
	}
	return &engine.Fault{Code: CodeOffsetOutside, Message: fmt.Sprintf("offset %d lies outside of the journal, which holds %d to %d", offset, head.First, head.Next-1),
		Fix: "use beginning, now, or an offset in between"}
}

// End is the newest offset before a place at which something ends that begins behind
// committed.
func (s *Common) End(ctx context.Context, source int64, until string, committed int64) (int64, error) {
	if text, is := strings.CutPrefix(until, "time:"); is {
		if at, err := time.Parse(time.RFC3339, text); err == nil && at.After(time.Now()) {
			return 0, &definition.Invalid{Location: "until", Message: fmt.Sprintf("%s is still to come: what comes until then is not in the journal", text)}
		}
	}
	last, err := s.Place(ctx, source, until)
	if err == nil && last < committed {
		return 0, &definition.Invalid{Location: "until", Message: fmt.Sprintf("%s is offset %d, which lies before the beginning, offset %d", until, last+1, committed+1)}
	}
	return last, err
}

// NoteEdited puts a new version on record, with the fields that changed, as they are
// stored.
func (s *Common) NoteEdited(ctx context.Context, subject string, version int64, before, after any) {
	if changed := definition.Changed(before, after); changed != "" {
		s.Note(ctx, "info", subject, "edited", fmt.Sprintf("definition changed to version %d: %s", version, changed))
	}
}

// Note puts on record what somebody has had done, and through what.
func (s *Common) Note(ctx context.Context, level, subject, event, message string) {
	if by := Caller(ctx); by != "" {
		message += " (by " + by + ")"
	}
	s.RunLog.Write(level, subject, event, message)
}

// UntilRecorded repeats what puts the end of a run on record while the state database is
// away. A record that is not there any more ends it.
func (s *Common) UntilRecorded(record func(ctx context.Context) error) {
	for s.Work.Err() == nil {
		ctx, cancel := context.WithTimeout(s.Work, 10*time.Second)
		err := record(ctx)
		cancel()
		if err == nil || errors.Is(err, catalog.ErrNotFound) {
			return
		}
		select {
		case <-s.Work.Done():
		case <-time.After(time.Second):
		}
	}
}

// Ready is why the service cannot do its work now; nil where it can.
func (s *Common) Ready(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	if err := s.Pool.Ping(ctx); err != nil {
		return Answer(err, "service", "")
	}
	return nil
}

func Because(reason string) string {
	if reason == "" {
		return ""
	}
	return ": " + reason
}

// Concealed are checks without what is not to be shown, see [catalog.Keeper.Conceal].
func (s *Common) Concealed(checks []change.Check) []change.Check {
	for i := range checks {
		c := &checks[i]
		for _, text := range []*string{&c.Name, &c.Found, &c.Why, &c.Fix} {
			*text = s.Catalog.Keeper.Conceal(*text)
		}
	}
	return checks
}
