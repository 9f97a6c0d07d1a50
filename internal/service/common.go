package service

import (
	"context"
	"errors"
	"fmt"
	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/engine"
	"rillmark/internal/journal"
	"rillmark/internal/netguard"
	"rillmark/internal/outlet"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
)

// common is what all parts work with.
type common struct {
	Config  *Config
	Started time.Time

	catalog *catalog.Catalog
	store   journal.Journals

	log      *runLog
	pool     *pgxpool.Pool
	instance *catalog.Instance
	guard    *netguard.Guard

	draining context.Context // ended when no request should wait any longer
	drain    context.CancelFunc

	work   context.Context // of all goroutines
	cancel context.CancelCauseFunc
	done   sync.WaitGroup
}

func (s *common) goes(f func()) {
	s.done.Add(1)
	go func() {
		defer s.done.Done()
		f()
	}()
}

// start runs f until the returned function is called, which waits for its end.
func (s *common) start(f func(context.Context)) (stop func()) {
	ctx, cancel := context.WithCancel(s.work)
	done := make(chan struct{})
	s.goes(func() {
		defer close(done)
		f(ctx)
	})
	return func() {
		cancel()
		<-done
	}
}

func (s *common) origin(ctx context.Context, source *catalog.Source) (outlet.Origin, error) {
	head, err := s.store.Head(ctx, source.ID)
	if err != nil {
		return outlet.Origin{}, err
	}
	cuts, err := s.store.GenerationStarts(ctx, source.ID)
	if err != nil {
		return outlet.Origin{}, err
	}
	return outlet.Origin{GenerationStarts: cuts, Source: source.Name, SourceID: source.ID, Database: source.Definition.Database(),
		Engine: change.Engine(source.Definition.Engine), Generation: head.Generation}, nil
}

// place turns a place in a journal into the offset before it.
func (s *common) place(ctx context.Context, source int64, from string) (committed int64, err error) {
	head, err := s.store.Head(ctx, source)
	if err != nil {
		return 0, answer(err, "source", "")
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
		if offset, err = s.catalog.MarkOffset(ctx, source, name); err != nil {
			return 0, answer(err, "mark", name)
		}
	} else if text, is := strings.CutPrefix(from, "time:"); is {
		at, err := time.Parse(time.RFC3339, text)
		if err != nil {
			return 0, err // CheckPlace has read it
		}
		if offset, err = s.store.OffsetAt(ctx, source, at); err != nil {
			return 0, answer(err, "source", "")
		}
	} else if offset, err = strconv.ParseInt(from, 10, 64); err != nil {
		return 0, err // CheckPlace has read it
	}
	if offset < head.First || offset > head.Next {
		return 0, outsideFault(offset, head)
	}
	return offset - 1, nil
}

func outsideFault(offset int64, head journal.Head) error {
	if head.First == head.Next {
		return &engine.Fault{Code: CodeOffsetOutside, Message: fmt.Sprintf("offset %d lies outside of the journal, which is empty so far", offset), Fix: "use beginning or now"}
	}
	return &engine.Fault{Code: CodeOffsetOutside, Message: fmt.Sprintf("offset %d lies outside of the journal, which holds %d to %d", offset, head.First, head.Next-1),
		Fix: "use beginning, now, or an offset in between"}
}

// end is the newest offset before a place at which something ends that begins behind
// committed.
func (s *common) end(ctx context.Context, source int64, until string, committed int64) (int64, error) {
	if text, is := strings.CutPrefix(until, "time:"); is {
		if at, err := time.Parse(time.RFC3339, text); err == nil && at.After(time.Now()) {
			return 0, &definition.Invalid{Location: "until", Message: fmt.Sprintf("%s is still to come: what comes until then is not in the journal", text)}
		}
	}
	last, err := s.place(ctx, source, until)
	if err == nil && last < committed {
		return 0, &definition.Invalid{Location: "until", Message: fmt.Sprintf("%s is offset %d, which lies before the beginning, offset %d", until, last+1, committed+1)}
	}
	return last, err
}

// noteEdited puts a new version on record, with the fields that changed, as they are
// stored.
func (s *common) noteEdited(ctx context.Context, subject string, version int64, before, after any) {
	s.note(ctx, "info", subject, "edited", fmt.Sprintf("definition changed to version %d: %s", version, definition.Changed(before, after)))
}

// note puts on record what somebody has had done, and through what.
func (s *common) note(ctx context.Context, level, subject, event, message string) {
	if by := Caller(ctx); by != "" {
		message += " (by " + by + ")"
	}
	s.log.write(level, subject, event, message)
}

// untilRecorded repeats what puts the end of a run on record while the state database is
// away. A record that is not there any more ends it.
func (s *common) untilRecorded(record func(ctx context.Context) error) {
	for s.work.Err() == nil {
		ctx, cancel := context.WithTimeout(s.work, 10*time.Second)
		err := record(ctx)
		cancel()
		if err == nil || errors.Is(err, catalog.ErrNotFound) {
			return
		}
		select {
		case <-s.work.Done():
		case <-time.After(time.Second):
		}
	}
}

// Ready is why the service cannot do its work now; nil where it can.
func (s *common) Ready(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	if err := s.pool.Ping(ctx); err != nil {
		return answer(err, "service", "")
	}
	return nil
}
