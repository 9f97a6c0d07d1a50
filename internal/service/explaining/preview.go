package explaining

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"slices"
	"unicode/utf8"

	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/destination/kinds"
	"rillmark/internal/encode"
	"rillmark/internal/journal"
	"rillmark/internal/jsontext"
	"rillmark/internal/outlet"
	"rillmark/internal/registry"
	"rillmark/internal/service/base"
	"rillmark/internal/service/framing"
	"rillmark/internal/settings"
	"rillmark/internal/shape"
)

// Preview is a message as it would be sent.
type Preview struct {
	Offset      int64           `json:"offset"`
	ID          string          `json:"id"`
	Type        string          `json:"type"`
	Table       string          `json:"table,omitempty"`
	Topic       string          `json:"topic,omitempty"`
	Key         string          `json:"key,omitempty"`
	Partition   string          `json:"partition,omitempty" doc:"The text by which it is put into a partition"`
	Headers     []PreviewHeader `json:"headers"`
	ContentType string          `json:"content_type,omitempty"`
	Body        string          `json:"body" doc:"As it is sent; in base64 where it is no text"`
	Base64      bool            `json:"base64,omitempty"`
	Row         json.RawMessage `json:"row,omitempty" doc:"Of Avro and Parquet, what the body says"`
	Size        int             `json:"size" doc:"Bytes of key, headers and body"`
	Marker      bool            `json:"marker,omitempty" doc:"A key without a value"`
	Problem     string          `json:"problem,omitempty" doc:"Why it could not be sent"`
}

// PreviewHeader is a header of a message.
type PreviewHeader struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// maxShownDepth is how deep a document may be nested to be shown as a part of an
// answer; encoding/json writes no deeper ones than 10,000.
const maxShownDepth = 5000

// Previewer makes messages as an outlet would, without sending or storing.
type Previewer struct {
	maker  *encode.Maker
	rows   *encode.Maker      // says what Avro and Parquet hold
	kind   *destination.Kind  // nil where consumers read
	frame  destination.Framer // nil where the message is all that is sent
	halves shape.Halves       // of changed keys
	// conceal takes out what is not to be shown.
	conceal func(string) string
}

// Previewer makes one for a definition.
func (s *Explaining) Previewer(ctx context.Context, d *definition.Outlet) (*Previewer, error) {
	return s.previewer(ctx, d, nil)
}

// target makes the destination of a definition; draft is the destination's own where it is not
// stored.
func (s *Explaining) target(ctx context.Context, d *definition.Outlet, draft *definition.Destination) (*destination.Kind, destination.Destination, error) {
	make := s.Destination
	if draft == nil {
		record, err := s.Catalog.Destination(ctx, d.Destination)
		if err != nil {
			return nil, nil, base.Answer(err, "destination", d.Destination)
		}
		draft = &record.Definition
	} else {
		make = func(d definition.Outlet) (destination.Destination, error) { return s.Draft(*draft, d) }
	}
	if err := d.ValidateFor(draft); err != nil {
		return nil, nil, err
	}
	to, err := make(*d)
	return kinds.Named(draft.Kind), to, base.Answer(err, "destination", d.Destination)
}

func (s *Explaining) previewer(ctx context.Context, d *definition.Outlet, draft *definition.Destination) (*Previewer, error) {
	copied := *d
	if draft != nil && copied.Destination == "" {
		copied.Destination = "draft" // it is delivered, to something that has no name yet
	}
	if err := copied.Validate(); err != nil {
		return nil, err
	}
	p := &Previewer{conceal: s.Catalog.Keeper.Conceal}
	var wants encode.Capabilities
	var rows *framing.Rows
	if copied.Destination != "" {
		var to destination.Destination
		var err error
		if p.kind, to, err = s.target(ctx, &copied, draft); err != nil {
			return nil, err
		}
		wants = to.Capabilities()
		p.frame, _ = to.(destination.Framer)
		rows = framing.RowsOf(&copied, func() (destination.Destination, error) { return to, nil })
		wants.Lines = false // a preview shows one message at a time, with its id
	}
	shaped, err := s.Shape(ctx, &copied)
	if err != nil {
		return nil, err
	}
	p.maker = encode.NewMaker(shaped, wants)
	framed := framing.New(&copied, s.Guard)
	p.maker.Frame = func(schema *change.Schema) ([]byte, error) {
		if framed.InRegistry() {
			return registry.Frame(0), nil // the number is known once it is registered
		}
		return framed.Frame(ctx, schema)
	}
	if framed.Registered() {
		p.maker.Fit = func(schema *change.Schema) (*encode.Fitted, error) { return framed.Fit(ctx, schema) }
	}
	if rows != nil {
		p.maker.FitRow = func(schema *change.Schema) (encode.RowForm, error) { return rows.Fit(ctx, schema) }
	}
	if shaped.Format == encode.FormatAvro || shaped.Format == encode.FormatParquet || shaped.Format == encode.FormatTable {
		shaped.Format = encode.FormatRow
		p.rows = encode.NewMaker(shaped, encode.Capabilities{})
		switch {
		case framed.Registered():
			p.rows.Goes = func(of *change.Schema, column int) bool {
				fitted, err := framed.Fit(ctx, of)
				return err != nil || fitted.Takes(of.AvroFields()[column])
			}
		case rows != nil:
			p.rows.Goes = func(of *change.Schema, column int) bool {
				form, err := rows.Fit(ctx, of)
				return err != nil || form.Takes(of.Columns[column].Name)
			}
		}
	}
	return p, nil
}

// prefix is what stands before the names of CloudEvents' attributes.
func (p *Previewer) prefix() string {
	if p.kind == nil {
		return "ce-"
	}
	return p.kind.AttributePrefix
}

// Messages are those that an event gives.
func (p *Previewer) Messages(e *change.Event) ([]Preview, error) {
	var b, rows encode.Batch
	if err := p.maker.Append(&b, e, true); err != nil {
		return nil, err
	}
	if p.rows != nil {
		if err := p.rows.Append(&rows, e, true); err != nil {
			return nil, err
		}
	}
	all := make([]Preview, 0, len(b.Messages))
	for i := range b.Messages {
		m := &b.Messages[i]
		if p.frame != nil && m.EncodeError == nil {
			framed := p.frame.Framed(m)
			m.ContentType, m.Headers, m.Body = framed.ContentType, framed.Headers, framed.Body
		}
		one := Preview{Offset: m.Offset, ID: string(m.ID), Type: m.Type, Table: m.Table, Topic: string(m.Topic), Key: string(m.Key), Partition: string(m.Partition),
			Headers: []PreviewHeader{}, ContentType: m.ContentType, Body: string(m.Body), Size: m.Size() - len(m.ID), Marker: m.Marker}
		if !utf8.Valid(m.Body) || m.ContentType == "application/avro" {
			one.Body, one.Base64 = base64.StdEncoding.EncodeToString(m.Body), true
		}
		for _, h := range m.Headers {
			name := h.Name
			if h.Attribute {
				name = p.prefix() + name
			}
			one.Headers = append(one.Headers, PreviewHeader{name, string(h.Value)})
		}
		if i < len(rows.Messages) && !m.Marker && jsontext.Depth(rows.Messages[i].Body) < maxShownDepth {
			one.Row = append(json.RawMessage(nil), rows.Messages[i].Body...)
		}
		if m.EncodeError != nil {
			one.Problem = m.EncodeError.Error()
		} else if len(m.Topic) > 0 && p.kind != nil && p.kind.CheckTopic != nil {
			if err := p.kind.CheckTopic(string(m.Topic)); err != nil {
				one.Problem = err.Error()
			}
		}
		for n := range one.Headers {
			one.Headers[n].Value = p.conceal(one.Headers[n].Value)
		}
		one.Topic, one.Problem = p.conceal(one.Topic), p.conceal(one.Problem)
		all = append(all, one)
	}
	return all, nil
}

// Previews are the messages that real events give, and what kept the others back.
type Previews struct {
	Items  []Preview `json:"items"`
	Looked int64     `json:"looked_at" doc:"How many events of the outlet's tables were looked at"`
	// KeptBack is what kept events back, most first.
	KeptBack []KeptBack `json:"kept_back" doc:"What kept events back, most first"`
	// Tables are checks of the tables of a database, where they were asked for.
	Tables []change.Check `json:"tables,omitempty" doc:"With tables=true: whether the tables of a database fit what the outlet would write"`
}

// KeptBack counts events that did not go out.
type KeptBack struct {
	By     string `json:"by" doc:"A condition as it was written; or operations, or conditions, where several together keep it back"`
	Events int64  `json:"events"`
}

// note counts what kept an event back.
func (p *Previews) note(by string) {
	for i := range p.KeptBack {
		if p.KeptBack[i].By == by {
			p.KeptBack[i].Events++
			return
		}
	}
	p.KeptBack = append(p.KeptBack, KeptBack{by, 1})
}

// previewLook is how many of the newest events are looked at for a preview.
const previewLook = 20_000

// Preview shows what a definition, or a stored outlet where d is nil, would
// send for real events of the journal: from an offset on, or the newest ones
// where it is 0.
func (s *Explaining) Preview(ctx context.Context, name string, d *definition.Outlet, from int64, limit int) (*Previews, error) {
	if d == nil {
		record, err := s.Catalog.Outlet(ctx, name)
		if err != nil {
			return nil, base.Answer(err, "outlet", name)
		}
		d = &record.Definition
	}
	return s.preview(ctx, d, nil, from, limit)
}

// PreviewDraft is Preview of a definition whose destination need not be stored. The place of a
// fault begins with "outlet" or "destination".
func (s *Explaining) PreviewDraft(ctx context.Context, d *definition.Outlet, to *definition.Destination, from int64, limit int) (*Previews, error) {
	if to != nil {
		if err := to.Validate(); err != nil {
			return nil, settings.Inside("destination", err)
		}
		if err := s.Catalog.UnsealDestination(ctx, d.Destination, to); err != nil {
			return nil, settings.Inside("destination", base.Answer(err, "destination", d.Destination))
		}
	}
	found, err := s.preview(ctx, d, to, from, limit)
	return found, settings.Inside("outlet", err)
}

func (s *Explaining) preview(ctx context.Context, d *definition.Outlet, to *definition.Destination, from int64, limit int) (*Previews, error) {
	p, err := s.previewer(ctx, d, to)
	if err != nil {
		return nil, err
	}
	filter, err := d.Filter()
	if err != nil {
		return nil, err
	}
	source, err := s.Catalog.Source(ctx, d.Source)
	if err != nil {
		return nil, base.Answer(err, "source", d.Source)
	}
	origin, err := s.Origin(ctx, source)
	if err != nil {
		return nil, base.Answer(err, "source", d.Source)
	}
	head, err := s.Store.Head(ctx, source.ID)
	if err != nil {
		return nil, base.Answer(err, "source", d.Source)
	}
	newest := from == 0
	if newest {
		from = max(head.First, head.Next-previewLook)
	}
	if from < head.First || from > head.Next {
		return nil, base.OutsideFault(from, head)
	}
	found := &Previews{Items: []Preview{}, KeptBack: []KeptBack{}}
	reader := s.Store.Reader(source.ID, from, journal.ReaderOptions{Tables: shape.Expression(filter.Tables)})
	p.halves.Filter = filter
	for newest || len(found.Items) < limit {
		batch, err := reader.TryNext(ctx)
		if err != nil {
			return nil, base.Answer(err, "source", d.Source)
		}
		if batch == nil {
			break
		}
		if err := p.read(ctx, batch, &origin, filter, found, limit, newest); err != nil {
			return nil, err
		}
	}
	slices.SortStableFunc(found.KeptBack, func(a, b KeptBack) int { return cmp.Compare(b.Events, a.Events) })
	return found, nil
}

// keep leaves the newest messages.
func (p *Previews) keep(limit int) {
	p.Items = append(p.Items[:0], p.Items[len(p.Items)-limit:]...)
}

func (p *Previewer) read(ctx context.Context, batch *journal.Batch, origin *outlet.Origin, filter *shape.Filter, found *Previews, limit int, newest bool) error {
	var e change.Event
	for batch.Next(&e) {
		if err := ctx.Err(); err != nil {
			return err // whoever asked has left
		}
		if !newest && len(found.Items) >= limit {
			return nil
		}
		if !filter.AdmitsTable(e.Table) {
			continue // it came in one block with others
		}
		origin.Fill(&e)
		half, err := p.halves.Settle(&e)
		if err != nil {
			return &definition.Invalid{Location: "where", Message: err.Error()}
		}
		if half != nil {
			if err := p.show(half, filter, found); err != nil {
				return err
			}
		}
		if p.halves.Hold(&e) {
			continue
		}
		if err := p.show(&e, filter, found); err != nil {
			return err
		}
		if newest && len(found.Items) > 4*limit {
			found.keep(limit)
		}
	}
	switch {
	case newest && len(found.Items) > limit:
		found.keep(limit)
	case len(found.Items) > limit:
		found.Items = found.Items[:limit]
	}
	return batch.Err()
}

// show adds what becomes of an event.
func (p *Previewer) show(e *change.Event, filter *shape.Filter, found *Previews) error {
	found.Looked++
	admitted, err := filter.Admits(e)
	if err != nil {
		return &definition.Invalid{Location: "where", Message: err.Error()}
	}
	if !admitted {
		found.note(filter.KeptBackBy(e))
		return nil
	}
	some, err := p.Messages(e)
	if err != nil {
		return base.UnfitForm(err)
	}
	found.Items = append(found.Items, some...)
	return nil
}
