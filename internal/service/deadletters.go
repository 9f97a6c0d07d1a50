package service

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/service/base"
	"rillmark/internal/service/explaining"
)

// Letter is an event that an outlet could not deliver.
type Letter struct {
	ID        int64     `json:"id"`
	Offset    int64     `json:"offset"`
	EventID   string    `json:"event_id"`
	State     string    `json:"state" enum:"dead,behind" doc:"dead: it was refused, or has failed too often; behind: it waits behind one of the same row"`
	Retrying  bool      `json:"retrying" doc:"It is to be tried again"`
	Table     string    `json:"table,omitempty"`
	Operation string    `json:"operation"`
	Key       string    `json:"key,omitempty" doc:"The row's key"`
	Error     string    `json:"error,omitempty" doc:"Why it could not be delivered"`
	Attempts  int       `json:"attempts"`
	FirstAt   time.Time `json:"first_at"`
	LastAt    time.Time `json:"last_at"`
}

// LetterPage is a part of an outlet's dead letters.
type LetterPage struct {
	Items  []Letter `json:"items"`
	Dead   int64    `json:"dead" doc:"How many are dead altogether"`
	Behind int64    `json:"behind" doc:"How many wait behind those"`
}

func letterOf(l *catalog.DeadLetter) Letter {
	one := Letter{ID: l.ID, Offset: l.Offset, EventID: l.EventID, State: l.State, Retrying: l.Retrying, Table: l.Table, Operation: l.Operation,
		Error: l.Error, Attempts: l.Attempts, FirstAt: l.FirstAt, LastAt: l.LastAt}
	if n := len(l.Table) + 1; len(l.Row) >= n {
		one.Key = string(l.Row[n:])
	}
	return one
}

// AppendJSON writes the event as it is, however deep its documents are nested.
func (l OpenLetter) AppendJSON(dst []byte) []byte {
	rest := l
	rest.Event = nil
	encoded, err := json.Marshal(rest)
	if err != nil {
		panic(err) // strings and numbers always marshal
	}
	dst = append(append(dst, `{"event":`...), l.Event...)
	return append(append(dst, ','), bytes.Replace(encoded, []byte(`"event":null,`), nil, 1)[1:]...)
}

// List lists an outlet's dead letters.
func (s *DeadLetters) List(ctx context.Context, name string, f catalog.LetterFilter) (*LetterPage, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	found, err := s.Catalog.DeadLetters(ctx, record.ID, f)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	page := &LetterPage{Items: make([]Letter, len(found))}
	for i := range found {
		page.Items[i] = letterOf(&found[i])
	}
	page.Dead, page.Behind, err = s.Catalog.CountDeadLetters(ctx, record.ID)
	return page, base.Answer(err, "outlet", name)
}

// OpenLetter is a dead letter with its event.
type OpenLetter struct {
	Letter
	Event    json.RawMessage      `json:"event" doc:"The event as the journal had it, as CloudEvents"`
	Messages []explaining.Preview `json:"messages" doc:"What the outlet would send for it now"`
}

// Open opens one dead letter.
func (s *DeadLetters) Open(ctx context.Context, name string, id int64) (*OpenLetter, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	found, err := s.Catalog.DeadLetters(ctx, record.ID, catalog.LetterFilter{IDs: []int64{id}, WithEvents: true})
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	if len(found) == 0 {
		return nil, &engine.Fault{Code: base.CodeNotFound, Message: fmt.Sprintf("outlet %q has no dead letter %d", name, id), Fix: "`rillmark dead-letter list " + name + "` shows what there is"}
	}
	source, err := s.Catalog.Source(ctx, record.Definition.Source)
	if err != nil {
		return nil, base.Answer(err, "source", record.Definition.Source)
	}
	origin, err := s.Origin(ctx, source)
	if err != nil {
		return nil, base.Answer(err, "source", source.Name)
	}
	var e change.Event
	if err := s.Store.OpenSingle(found[0].Event, &e); err != nil {
		return nil, err
	}
	e.Offset = found[0].Offset
	origin.Fill(&e)
	open := &OpenLetter{Letter: letterOf(&found[0])}
	open.Event = (&encode.CloudEvents{Address: s.Config.PublicURL}).Append(nil, &e)
	p, err := s.explaining.Previewer(ctx, &record.Definition)
	if err != nil {
		return nil, err
	}
	open.Messages, err = p.Messages(&e)
	return open, err
}

// Retry has dead letters tried again, and those that wait behind them.
func (s *DeadLetters) Retry(ctx context.Context, name string, f catalog.LetterFilter) (int64, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return 0, base.Answer(err, "outlet", name)
	}
	n, err := s.Catalog.RetryDeadLetters(ctx, record.ID, f)
	if err != nil {
		return 0, base.Answer(err, "outlet", name)
	}
	s.Note(ctx, "info", "outlet/"+name, "dead-letter", fmt.Sprintf("%d dead letters are to be tried again", n))
	s.running.Wake(name)
	return n, nil
}

// Discard forgets dead letters for good.
func (s *DeadLetters) Discard(ctx context.Context, name string, f catalog.LetterFilter) (int64, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return 0, base.Answer(err, "outlet", name)
	}
	n, err := s.Catalog.DiscardDeadLetters(ctx, record.ID, f)
	if err != nil {
		return 0, base.Answer(err, "outlet", name)
	}
	s.Note(ctx, "warn", "outlet/"+name, "dead-letter", fmt.Sprintf("%d dead letters have been discarded", n))
	s.running.Wake(name)
	return n, nil
}
