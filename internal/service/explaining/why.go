package explaining

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/expression"
	"rillmark/internal/journal"
	"rillmark/internal/outlet"
	"rillmark/internal/service/base"
	"rillmark/internal/shape"
)

// Why says what became of one event at an outlet, and by what.
type Why struct {
	Outlet string          `json:"outlet"`
	Offset int64           `json:"offset"`
	Event  json.RawMessage `json:"event,omitempty" doc:"The event as the journal has it"`
	Steps  []WhyStep       `json:"steps" doc:"What was asked, in order, until something kept it back"`
	// Messages are what it becomes.
	Messages   []Preview           `json:"messages" doc:"What it becomes; nothing where it was kept back"`
	Fate       string              `json:"fate" enum:"kept-back,waits,delivered,dead,behind-dead" doc:"waits: it is behind the committed offset; dead: it is a dead letter; behind-dead: it waits behind one of its row"`
	Text       string              `json:"text" doc:"That in a sentence"`
	Deliveries []catalog.Delivery  `json:"deliveries,omitempty" doc:"When it was delivered, in each of the outlet's runs, as far as that is on record: a week"`
	Letter     *catalog.LetterFate `json:"letter,omitempty" doc:"Of a dead letter: why, and how often it was tried"`
}

// WhyStep is one question about the event.
type WhyStep struct {
	What   string `json:"what" enum:"audience,tables,operations,where,changes"`
	Passes bool   `json:"passes"`
	Text   string `json:"text"`
}

// The fates of an event.
const (
	fateKeptBack   = "kept-back"
	fateWaits      = "waits"
	fateDelivered  = "delivered"
	fateDead       = "dead"
	fateBehindDead = "behind-dead"
)

// Why says what an outlet has made of the event at an offset, or will.
func (s *Explaining) Why(ctx context.Context, name string, offset int64) (*Why, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	source, err := s.Catalog.Source(ctx, record.Definition.Source)
	if err != nil {
		return nil, base.Answer(err, "source", record.Definition.Source)
	}
	head, err := s.Store.Head(ctx, source.ID)
	if err != nil {
		return nil, base.Answer(err, "source", source.Name)
	}
	if offset < head.First || offset >= head.Next {
		return nil, base.OutsideFault(offset, head)
	}
	origin, err := s.Origin(ctx, source)
	if err != nil {
		return nil, base.Answer(err, "source", source.Name)
	}
	var e change.Event
	batch, err := s.Store.Reader(source.ID, offset, journal.ReaderOptions{For: journal.Everyone}).TryNext(ctx)
	if err != nil {
		return nil, base.Answer(err, "source", source.Name)
	}
	if batch == nil || !batch.Next(&e) || e.Offset != offset {
		if batch != nil && batch.Err() != nil {
			return nil, base.Answer(batch.Err(), "source", source.Name)
		}
		return nil, &engine.Fault{Code: base.CodeExpired, Message: fmt.Sprintf("the event at offset %d is no longer kept, by the keep_for of its table", offset)}
	}
	origin.Fill(&e)
	w := &Why{Outlet: name, Offset: offset, Steps: []WhyStep{}, Messages: []Preview{}}
	if w.Event, err = s.asEvent(&e); err != nil {
		return nil, err
	}
	if err := s.passes(ctx, record, source.ID, &e, w); err != nil {
		return nil, err
	}
	return w, s.fate(ctx, record, w)
}

// asEvent is an event as the journal has it.
func (s *Explaining) asEvent(e *change.Event) (json.RawMessage, error) {
	var b encode.Batch
	if err := encode.NewMaker(encode.Shape{Address: s.Config.PublicURL, Format: encode.FormatCloudEvents}, encode.Capabilities{}).Append(&b, e, true); err != nil {
		return nil, err
	}
	if len(b.Messages) == 0 || b.Messages[0].EncodeError != nil {
		return nil, nil
	}
	return slices.Clone(b.Messages[0].Body), nil
}

// settle has one of the two events of a changed key name the other's key only if that one
// passes, too, as readers of both do.
func (s *Explaining) settle(ctx context.Context, sourceID int64, e *change.Event, filter *shape.Filter) error {
	if e.Rekeyed == nil || len(filter.Where) == 0 {
		return nil
	}
	at := e.Offset + 1
	if e.Operation == change.Insert {
		at = e.Offset - 1
	}
	batch, err := s.Store.Reader(sourceID, at, journal.ReaderOptions{For: journal.Everyone}).TryNext(ctx)
	if err != nil || batch == nil {
		return nil //nolint:nilerr // the other one is not kept: nothing is known of it
	}
	var other change.Event
	if !batch.Next(&other) || other.Offset != at {
		return nil
	}
	halves := shape.Halves{Filter: filter}
	if e.Operation == change.Insert {
		if halves.Hold(&other) {
			_, _ = halves.Settle(e) // a condition that does not fit is said of the event itself
		}
		return nil
	}
	if halves.Hold(e) {
		half, _ := halves.Settle(&other)
		e.Rekeyed = half.Rekeyed
	}
	return nil
}

// passes asks what decides whether an event goes out, and makes its messages.
func (s *Explaining) passes(ctx context.Context, record *catalog.Outlet, sourceID int64, e *change.Event, w *Why) error {
	d := &record.Definition
	filter, err := d.Filter()
	if err != nil {
		return err
	}
	if err := s.settle(ctx, sourceID, e, filter); err != nil {
		return err
	}
	step := func(what string, passes bool, format string, args ...any) bool {
		w.Steps = append(w.Steps, WhyStep{what, passes, fmt.Sprintf(format, args...)})
		return passes
	}
	if e.For != 0 && !step("audience", e.For == record.ID, "it belongs to a load for one outlet alone") {
		return nil
	}
	if !step("tables", filter.AdmitsTable(e.Table), "%s", tablesWords(filter, e)) {
		return nil
	}
	was := e.Operation
	for _, one := range filter.Where {
		if e.Schema == nil || !e.Operation.IsRow() || !one.Match.Matches(e.Table) {
			continue
		}
		bound, err := one.Condition.Bind(e.Schema)
		if err != nil {
			step("where", false, "%s", err)
			w.Text = "the outlet holds before it: " + err.Error()
			return nil
		}
		effect, says := bound.Effect(e), bound.Says(e)
		if err := bound.Beyond(); err != nil {
			step("where", false, "%s", err)
			w.Text = "the outlet cannot decide: " + err.Error()
			return nil
		}
		if !step("where", effect != expression.Nothing, "%s: %s", one.Condition, says) {
			return nil
		}
	}
	admitted, err := filter.Admits(e)
	if err != nil {
		return outlet.Unfit(record.Name, err)
	}
	if e.Operation != was {
		step("where", true, "for whoever sees only the chosen rows it is %s %s", article(e.Operation), e.Operation)
	}
	if len(filter.Operations) > 0 && !step("operations", admitted, "%s goes out: %t", e.Operation, admitted) {
		return nil
	}
	if !admitted {
		return nil
	}
	if d.Changes == "combined" {
		step("changes", true, "changes of a row that lie in one batch are combined: another message may stand for it, or none where they come to nothing")
	}
	p, err := s.Previewer(ctx, d)
	if err != nil {
		return err
	}
	if e.Schema != nil && p.maker.Forms() != nil {
		formed, err := p.maker.Forms().Schema(e.Schema)
		if err != nil {
			step("rows", false, "%s", err)
			w.Text = "the outlet holds before it: " + err.Error()
			return nil
		}
		if formed != e.Schema {
			step("rows", true, "its form: %s", formWords(e.Schema, formed))
		}
	}
	w.Messages, err = p.Messages(e)
	return err
}

// formWords say what a form of rows changes in a version.
func formWords(from, to *change.Schema) string {
	var parts []string
	for _, d := range change.Diff(from, to) {
		switch d.What {
		case "dropped":
			parts = append(parts, "without "+d.Name)
		case "added":
			parts = append(parts, "with "+d.Name)
		case "changed":
			parts = append(parts, d.Name+": "+d.Says)
		}
	}
	return strings.Join(parts, ", ")
}

func article(o change.Operation) string {
	if o == change.Insert || o == change.Update || o == change.Existing {
		return "an"
	}
	return "a"
}

// tablesWords say which pattern takes an event's table.
func tablesWords(filter *shape.Filter, e *change.Event) string {
	switch {
	case e.Table == "":
		return "it is a message, which belongs to no table"
	case len(filter.Tables) == 0:
		return e.Table + ": the outlet takes all tables"
	}
	for _, p := range filter.Tables {
		if p.Matches(e.Table) {
			return fmt.Sprintf("%s: the pattern %s takes it", e.Table, p)
		}
	}
	return e.Table + ": no pattern takes it"
}

// fate says what became of the event.
func (s *Explaining) fate(ctx context.Context, record *catalog.Outlet, w *Why) error {
	last := func() *WhyStep { return &w.Steps[len(w.Steps)-1] }
	if len(w.Steps) > 0 && !last().Passes {
		if w.Fate = fateKeptBack; w.Text == "" {
			w.Text = "it is kept back: " + last().Text
		}
		return nil
	}
	letter, err := s.Catalog.LetterAt(ctx, record.ID, w.Offset)
	if err != nil && !errors.Is(err, catalog.ErrNotFound) {
		return base.Answer(err, "outlet", record.Name)
	}
	offset, err := s.Catalog.Offset(ctx, record.ID)
	if err != nil {
		return base.Answer(err, "outlet", record.Name)
	}
	switch {
	case letter != nil && letter.State == "dead":
		w.Fate, w.Letter, w.Text = fateDead, letter, "it is a dead letter: "+letter.Error
	case letter != nil:
		w.Fate, w.Letter, w.Text = fateBehindDead, letter, "it waits behind a dead letter of its row"
	case w.Offset > offset.Committed:
		w.Fate, w.Text = fateWaits, fmt.Sprintf("it is not delivered yet: the outlet is at offset %d", offset.Committed)
	default:
		w.Fate, w.Text = fateDelivered, fmt.Sprintf("it was delivered, or lay before the outlet's beginning: the outlet is at offset %d", offset.Committed)
		if w.Deliveries, err = s.Catalog.Deliveries(ctx, record.ID, w.Offset); err != nil {
			return base.Answer(err, "outlet", record.Name)
		}
		var event struct {
			ID string `json:"id"`
		}
		if len(w.Event) > 0 && json.Unmarshal(w.Event, &event) != nil {
			event.ID = "" // it is of no form that has one
		}
		at, was, err := s.Catalog.RedeliveredAt(ctx, record.Name, event.ID)
		if err != nil {
			return base.Answer(err, "outlet", record.Name)
		}
		if !at.IsZero() {
			w.Text = "it was a dead letter, and was delivered at last at " + at.UTC().Format(time.RFC3339)
			if was != "" {
				w.Text += " (" + was + ")"
			}
			return nil
		}
		if n := len(w.Deliveries); n > 0 {
			w.Text = "it was " + deliveredWords(w.Deliveries[n-1])
			if n > 1 {
				w.Text += fmt.Sprintf("; %d times in all, once in each run", n)
			}
		}
	}
	return nil
}

// deliveredWords say when an event was delivered.
func deliveredWords(d catalog.Delivery) string {
	text := "delivered by " + d.By.UTC().Format(time.RFC3339)
	if d.After != nil {
		text += ", and after " + d.After.UTC().Format(time.RFC3339)
	}
	return text
}
