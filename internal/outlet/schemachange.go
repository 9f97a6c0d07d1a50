package outlet

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/expression"
	"rillmark/internal/shape"
)

// SchemaChanges is what an outlet does when the definition of one of its tables changes.
type SchemaChanges string

// The choices.
const (
	// ChangesPass delivers on. The outlet stops where its condition or form does not fit the
	// new definition.
	ChangesPass SchemaChanges = "pass"
	// ChangesHold stops before each change that concerns what goes out.
	ChangesHold SchemaChanges = "hold"
	// ChangesDeadLetter delivers on, and makes dead letters of the events that a condition, a
	// form or a schema registry does not take.
	ChangesDeadLetter SchemaChanges = "dead-letter"
)

// codeSchemaChange is the fault of an outlet that holds before a change.
const codeSchemaChange = "schema-change"

// heldChange is the change of a table's definition before which an outlet holds.
type heldChange struct {
	*engine.Fault
	offset int64
}

// Unwrap has the fault be found.
func (h *heldChange) Unwrap() error { return h.Fault }

// mostChanges is how many differences of a definition a fault names.
const mostChanges = 5

// mayPass says that the outlet holds before a schema event that concerns what goes out, unless
// somebody has let it pass.
func (r *reader) mayPass(e *change.Event) error {
	if r.SchemaChanges != ChangesHold || e.Operation != change.Definition || e.Offset <= r.letPass || !r.filter.AdmitsTable(e.Table) {
		return nil
	}
	formed := e
	if rows := r.maker.Forms(); rows != nil {
		var err error
		if formed, err = rows.Clone().Apply(e); err != nil || formed == nil {
			return Shaped(r.Name, err) // nothing of it goes out
		}
	}
	var body change.SchemaChange
	if err := json.Unmarshal(formed.Body, &body); err != nil {
		return fmt.Errorf("the schema event at offset %d cannot be read: %w", e.Offset, err)
	}
	var says []string
	switch {
	case body.Previous == nil:
		return nil // the table is new
	case body.Definition == nil:
		says = []string{"it is gone"}
	default:
		if says = change.Changes(body.Previous, body.Definition, body.Renamed); body.Rewrites {
			says = append(says, "its rows were rewritten")
		}
	}
	if len(says) == 0 {
		return nil
	}
	if len(says) > mostChanges {
		says = append(says[:mostChanges], fmt.Sprintf("and %d more", len(says)-mostChanges))
	}
	return &heldChange{offset: e.Offset, Fault: &engine.Fault{Code: codeSchemaChange, Final: true,
		Message: fmt.Sprintf("the outlet holds before a change of %s at offset %d: %s", e.Table, e.Offset, strings.Join(says, "; ")),
		Fix:     fmt.Sprintf("look at what it does to consumers, then `rillmark outlet resume %s --let-pass %d`", r.Name, e.Offset)}}
}

// refuse makes a dead letter of the event in hand where it does not fit the outlet's condition
// or form, and the outlet chooses that; other errors stay. What could show a private column
// holds the outlet in any case.
func (r *reader) refuse(b *encode.Batch, e *change.Event, err error) error {
	if r.SchemaChanges != ChangesDeadLetter && !isBeyond(err) || !r.deadLetters(err) || !r.maker.KeepsKey(e) {
		return err
	}
	if e.Operation == change.Definition {
		if exposed := r.maker.Watch(e); exposed != nil {
			return Shaped(r.Name, exposed)
		}
	}
	if r.Net {
		if err := r.flushNet(b); err != nil {
			return err
		}
	}
	return r.maker.Refuse(b, e, unfitLetter(r.Name, err))
}

// unfitLetter is what a dead letter says of an event that does not fit.
func unfitLetter(name string, err error) error {
	var fault *engine.Fault
	if !errors.As(err, &fault) {
		return err
	}
	letter := *fault
	letter.Fix = "change it with `rillmark outlet edit " + name + "`, then `rillmark dead-letter retry " + name + " --all`"
	return &letter
}

// isBeyond reports whether a condition took too much for one row, whatever others are like.
func isBeyond(err error) bool {
	var beyond *expression.Beyond
	return errors.As(err, &beyond)
}

// deadLetters reports whether an error says that an event does not fit.
func (r *reader) deadLetters(err error) bool {
	if form := (*shape.Unfit)(nil); errors.As(err, &form) && form.Exposes {
		return false
	}
	return isUnfit(err)
}
