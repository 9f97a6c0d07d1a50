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
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/outlet"
	"rillmark/internal/registry"
)

const (
	// fitFor is how long rows are fitted to a schema before it is looked whether there is a newer
	// one.
	fitFor = time.Minute
	// maxFits bounds how many versions' fits are kept.
	maxFits = 10_000
)

// fits keeps how rows of versions fit to what somebody else has decided. It may be used by several
// goroutines.
type fits[F any] struct {
	look func(ctx context.Context, s *change.Schema) (*fit[F], error)

	mu sync.Mutex
	of map[change.Fingerprint]*fit[F]
}

type fit[F any] struct {
	form   F
	fits   bool   // whether there is a form
	to     string // what rows are fitted to, for people
	newest string // the same as it is now
	text   string // the same text, the same form
	says   []encode.FieldFit
	until  time.Time
}

// get is a version's fit; where that cannot be looked at, what was right a while ago.
func (f *fits[F]) get(ctx context.Context, s *change.Schema) (*fit[F], error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	one := f.of[s.Fingerprint()]
	if one != nil && time.Now().Before(one.until) {
		return one, nil
	}
	found, err := f.look(ctx, s)
	switch {
	case err == nil && (one == nil || !one.fits || !found.fits || one.text != found.text || one.newest != found.newest):
		one = found
	case one == nil:
		return nil, err
	default: // nothing is new, or an answer will come; what was right a minute ago goes on
	}
	one.until = time.Now().Add(fitFor)
	if !one.fits {
		one.until = time.Now().Add(time.Second) // somebody may be mending it
	}
	if f.of == nil || len(f.of) >= maxFits {
		f.of = make(map[change.Fingerprint]*fit[F])
	}
	f.of[s.Fingerprint()] = one
	return one, nil
}

// HowToFit is what to do about rows that do not fit.
const HowToFit = "a form of rows gives columns the names of fields and turns values into what fits"

// refusal is why rows do not fit; nil where they do.
func (one *fit[F]) refusal(d *definition.Outlet, code string, s *change.Schema) error {
	if one.fits {
		return nil
	}
	const fix = HowToFit + "; `rillmark outlet check` shows all of it"
	return answer(d, &registry.Refused{Fault: &engine.Fault{Code: code, Message: fmt.Sprintf("rows of %s do not fit %s: %s", s.Table, one.to, encode.Misfits(one.says)),
		Fix: fix + "; delivery goes on by itself"}}, fix+"; then retry the dead letters")
}

// answer makes an event a dead letter of what is refused, where the outlet wants that.
func answer(d *definition.Outlet, err error, fix string) error {
	refused := (*registry.Refused)(nil)
	if outlet.SchemaChanges(d.SchemaChanges) == outlet.ChangesDeadLetter && errors.As(err, &refused) {
		letter := *refused.Fault
		letter.Fix = fix
		return &encode.EncodeError{Message: letter.Error()}
	}
	return err
}

// tellsDeletes takes the fit back where a deleted row would look like any other.
func (one *fit[F]) tellsDeletes(d *definition.Outlet, told bool) {
	deletesAreRows := d.Deletes != "marker" && (len(d.Operations) == 0 || slices.Contains(d.Operations, "delete"))
	if told || !deletesAreRows {
		return
	}
	fix := "set deletes to marker, or leave deletes out of operations"
	if d.Format == encode.FormatParquet {
		fix = "leave deletes out of operations"
	}
	one.fits = false
	one.says = append(one.says, encode.FieldFit{Field: "_operation", Misfit: true, Says: "without such a field a deleted row looks like any other: " + fix})
}

func (f *fits[F]) checks(ctx context.Context, versions []*change.Schema) []change.Check {
	checks := make([]change.Check, 0, len(versions))
	for _, s := range versions {
		c := change.Check{Name: "schema of " + s.Table, Verdict: change.Good}
		one, err := f.look(ctx, s)
		if err != nil {
			c.Verdict, c.Found = change.Missing, err.Error()
			checks = append(checks, c)
			continue
		}
		c.Found = "rows fit " + one.newest
		if !one.fits {
			c.Verdict, c.Found = change.Missing, fmt.Sprintf("rows do not fit %s: %s", one.newest, encode.Misfits(one.says))
			c.Why, c.Fix = "no row can be sent", HowToFit
			if says := notes(one.says); says != "" {
				c.Why += "; beside that, " + says
			}
		} else if says := notes(one.says); says != "" {
			c.Verdict, c.Why = change.Note, says
		}
		checks = append(checks, c)
	}
	return checks
}

func (f *fits[F]) misfits(ctx context.Context, s *change.Schema) (string, error) {
	one, err := f.look(ctx, s)
	if err != nil {
		return "", err
	}
	return encode.Misfits(one.says), nil
}

// notes are what is to know beside the misfits, the same of several fields in one sentence.
func notes(says []encode.FieldFit) string {
	fields := make(map[string][]string)
	var order []string
	for _, one := range says {
		if one.Misfit {
			continue
		}
		if fields[one.Says] == nil {
			order = append(order, one.Says)
		}
		fields[one.Says] = append(fields[one.Says], one.Field)
	}
	all := make([]string, 0, len(order))
	for _, sentence := range order {
		all = append(all, strings.Join(fields[sentence], ", ")+": "+sentence)
	}
	return strings.Join(all, "; ")
}
