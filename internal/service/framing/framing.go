// Package framing says how an outlet's Avro messages name their schema, and which one that is:
// the table's own, or one that a schema registry has already. It fits rows of Parquet files to
// what their destination has, too.
package framing

import (
	"context"
	"errors"
	"fmt"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/netguard"
	"rillmark/internal/registry"
	"rillmark/internal/shape"
)

const (
	// askTimeout is what a registry may take for an answer.
	askTimeout = 10 * time.Second
)

// Framing is that of one outlet. It may be used by several goroutines.
type Framing struct {
	outlet  *definition.Outlet
	subject *shape.Template // nil for the record's own name
	client  *registry.Client
	wrong   error

	fits fits[*encode.Fitted]
}

// New is for a definition that has been validated.
func New(d *definition.Outlet, guard *netguard.Guard) *Framing {
	f := &Framing{outlet: d}
	f.fits.look = f.look
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
	return framed, answer(f.outlet, err, "where it calls the schema incompatible, relax the subject's compatibility there, or leave the changed columns out; then retry the dead letters")
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
	one, err := f.fits.get(ctx, s)
	if err != nil {
		return nil, err
	}
	return one.form, one.refusal(f.outlet, "registry", s)
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

func (f *Framing) look(ctx context.Context, s *change.Schema) (*fit[*encode.Fitted], error) {
	if f.wrong != nil {
		return nil, f.wrong
	}
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	id, text, err := f.client.Newest(ctx, f.Subject(s))
	if err != nil {
		return nil, err
	}
	one := &fit[*encode.Fitted]{to: "the registered schema of " + f.Subject(s), newest: fmt.Sprintf("schema %d of %s", id, f.Subject(s)), text: text}
	if one.form, one.says, err = encode.FitAvro(s, text); err != nil {
		return nil, &engine.Fault{Code: "registry", Message: fmt.Sprintf("%s: %s", f.Subject(s), err), Fix: "register a record for it, or let subject name another one"}
	}
	if one.fits = one.form != nil; one.fits {
		one.form.Frame = registry.Frame(id)
		one.tellsDeletes(f.outlet, one.form.Takes("_operation"))
	}
	return one, nil
}

// Checks are what a person has to know of the fit of some versions.
func (f *Framing) Checks(ctx context.Context, versions []*change.Schema) []change.Check {
	return f.fits.checks(ctx, versions)
}

// Misfits says what of a version's rows does not fit the registered schema; empty where all does.
func (f *Framing) Misfits(ctx context.Context, s *change.Schema) (string, error) {
	return f.fits.misfits(ctx, s)
}
