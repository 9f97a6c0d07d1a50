// Package framing says how an outlet's Avro messages name their schema, and which one that is:
// the table's own, or one that a schema registry has already.
package framing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/netguard"
	"rillmark/internal/outlet"
	"rillmark/internal/registry"
	"rillmark/internal/shape"
)

const (
	// askTimeout is what a registry may take for an answer.
	askTimeout = 10 * time.Second
	// fitFor is how long rows are fitted to a schema before it is looked whether there is a newer
	// one.
	fitFor = time.Minute
	// maxFits bounds how many versions' fits are kept.
	maxFits = 10_000
)

// Framing is that of one outlet. It may be used by several goroutines.
type Framing struct {
	outlet  *definition.Outlet
	subject *shape.Template // nil for the record's own name
	client  *registry.Client
	wrong   error

	mu   sync.Mutex
	fits map[change.Fingerprint]*fit
}

type fit struct {
	id     uint32
	fitted *encode.Fitted
	says   []encode.FieldFit
	until  time.Time
}

// New is for a definition that has been validated.
func New(d *definition.Outlet, guard *netguard.Guard) *Framing {
	f := &Framing{outlet: d, fits: make(map[change.Fingerprint]*fit)}
	if !f.InRegistry() {
		return f
	}
	if d.Avro.Subject != "" {
		f.subject, f.wrong = shape.ParseTemplate(d.Avro.Subject)
	}
	secure, err := destination.TLSConfig(d.Avro.TLS)
	if err == nil {
		f.client, err = registry.New(d.Avro.Registry, secure, guard.Dialer(netguard.KindRegistry))
	}
	f.wrong = errors.Join(f.wrong, err)
	return f
}

// Registered reports whether rows are fitted to schemas that are there already.
func (f *Framing) Registered() bool {
	return f.InRegistry() && f.outlet.Avro.Schemas == definition.AvroRegistered
}

// InRegistry reports whether a registry says what messages follow.
func (f *Framing) InRegistry() bool {
	return f.outlet.Avro != nil && f.outlet.Avro.Framing == "registry"
}

// Subject is what the registry knows a version's schemas by.
func (f *Framing) Subject(s *change.Schema) string {
	if f.subject == nil {
		return s.AvroName()
	}
	return string(f.subject.Append(nil, &change.Event{Source: f.outlet.Source, Table: s.Table}, nil, nil))
}

// Frame is what stands before values of a version, which is registered where it is not yet.
func (f *Framing) Frame(ctx context.Context, s *change.Schema) ([]byte, error) {
	form, err := encode.AvroOf(s)
	if err != nil || !f.InRegistry() {
		return encode.SingleObject(form.Fingerprint), err
	}
	if f.wrong != nil {
		return nil, f.wrong
	}
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	framed, err := f.client.Frame(ctx, f.Subject(s), form.Text)
	return framed, f.answer(err, "where it calls the schema incompatible, relax the subject's compatibility there, or leave the changed columns out; then retry the dead letters")
}

// answer makes an event a dead letter of what a registry refuses, where the outlet wants that.
func (f *Framing) answer(err error, fix string) error {
	refused := (*registry.Refused)(nil)
	if outlet.SchemaChanges(f.outlet.SchemaChanges) == outlet.ChangesDeadLetter && errors.As(err, &refused) {
		letter := *refused.Fault
		letter.Fix = fix
		return &encode.EncodeError{Message: letter.Error()}
	}
	return err
}

// Incompatible says why a version's schema would be refused; empty where it would not be.
func (f *Framing) Incompatible(ctx context.Context, s *change.Schema) (string, error) {
	if f.wrong != nil {
		return "", f.wrong
	}
	form, err := encode.AvroOf(s)
	if err != nil {
		return "", err
	}
	return f.client.Incompatible(ctx, f.Subject(s), form.Text)
}

// Fit fits rows of a version to the newest schema of its subject.
func (f *Framing) Fit(ctx context.Context, s *change.Schema) (*encode.Fitted, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	one := f.fits[s.Fingerprint()]
	if one == nil || time.Now().After(one.until) {
		found, err := f.look(ctx, s)
		switch {
		case err == nil:
			one = found
		case one == nil:
			return nil, err
		default: // an answer will come; what was right a minute ago goes on
		}
		one.until = time.Now().Add(fitFor)
		if one.fitted == nil {
			one.until = time.Now().Add(time.Second) // somebody may be mending it
		}
		if len(f.fits) >= maxFits {
			clear(f.fits)
		}
		f.fits[s.Fingerprint()] = one
	}
	if one.fitted != nil {
		return one.fitted, nil
	}
	const fix = "a form of rows gives columns the names of fields and turns values into what fits; `rillmark outlet check` shows all of it"
	return nil, f.answer(&registry.Refused{Fault: &engine.Fault{Code: "registry", Message: fmt.Sprintf("rows of %s do not fit the registered schema of %s: %s", s.Table, f.Subject(s), encode.Misfits(one.says)),
		Fix: fix + "; delivery goes on by itself"}}, fix+"; then retry the dead letters")
}

// Newest is the newest schema that is registered for a version's table.
func (f *Framing) Newest(ctx context.Context, s *change.Schema) (string, error) {
	if f.wrong != nil {
		return "", f.wrong
	}
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	_, text, err := f.client.Newest(ctx, f.Subject(s))
	return text, err
}

func (f *Framing) look(ctx context.Context, s *change.Schema) (*fit, error) {
	if f.wrong != nil {
		return nil, f.wrong
	}
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	id, text, err := f.client.Newest(ctx, f.Subject(s))
	if err != nil {
		return nil, err
	}
	one := &fit{id: id}
	if one.fitted, one.says, err = encode.FitAvro(s, text); err != nil {
		return nil, &engine.Fault{Code: "registry", Message: fmt.Sprintf("%s: %s", f.Subject(s), err), Fix: "register a record for it, or let subject name another one"}
	}
	if one.fitted == nil {
		return one, nil
	}
	one.fitted.Frame = registry.Frame(id)
	if !one.fitted.Takes("_operation") && f.deletesAreRows() {
		one.fitted = nil
		one.says = append(one.says, encode.FieldFit{Field: "_operation", Misfit: true, Says: "without such a field a deleted row looks like any other: set deletes to marker, or leave deletes out of operations"})
	}
	return one, nil
}

// deletesAreRows reports whether a delete goes out as the row that is no more.
func (f *Framing) deletesAreRows() bool {
	return f.outlet.Deletes != "marker" && (len(f.outlet.Operations) == 0 || slices.Contains(f.outlet.Operations, "delete"))
}

// Checks are what a person has to know of the fit of some versions.
func (f *Framing) Checks(ctx context.Context, versions []*change.Schema) []change.Check {
	checks := make([]change.Check, 0, len(versions))
	for _, s := range versions {
		c := change.Check{Name: "schema of " + s.Table, Verdict: change.Good}
		one, err := f.look(ctx, s)
		if err != nil {
			c.Verdict, c.Found = change.Missing, err.Error()
			checks = append(checks, c)
			continue
		}
		c.Found = fmt.Sprintf("rows fit schema %d of %s", one.id, f.Subject(s))
		if one.fitted == nil {
			c.Verdict, c.Found = change.Missing, fmt.Sprintf("rows do not fit schema %d of %s: %s", one.id, f.Subject(s), encode.Misfits(one.says))
			c.Why, c.Fix = "no row can be sent", "a form of rows gives columns the names of fields and turns values into what fits"
		} else if says := notes(one.says); says != "" {
			c.Verdict, c.Why = change.Note, says
		}
		checks = append(checks, c)
	}
	return checks
}

// Misfits says what of a version's rows does not fit the registered schema; empty where all does.
func (f *Framing) Misfits(ctx context.Context, s *change.Schema) (string, error) {
	one, err := f.look(ctx, s)
	if err != nil {
		return "", err
	}
	return encode.Misfits(one.says), nil
}

func notes(says []encode.FieldFit) string {
	all := make([]string, 0, len(says))
	for _, one := range says {
		all = append(all, one.Field+": "+one.Says)
	}
	return strings.Join(all, "; ")
}
