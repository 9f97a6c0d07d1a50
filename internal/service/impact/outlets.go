package impact

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/outlet"
	"rillmark/internal/service/framing"
	"rillmark/internal/shape"
)

// askTimeout is what a registry or a target's database may take for an answer.
const askTimeout = 20 * time.Second

// outlet is what would become of one outlet.
func (i *Impact) outlet(ctx context.Context, record *catalog.Outlet, r *engine.Rehearsal) (*OutletImpact, error) {
	d := record.Definition
	o := &OutletImpact{Outlet: record.Name, Verdict: Unaffected, Findings: []Finding{}}
	if d.Destination != "" {
		to, err := i.Catalog.Destination(ctx, d.Destination)
		if err != nil {
			return nil, err
		}
		o.Destination = to.Definition.Kind
		if err := d.ValidateFor(&to.Definition); err != nil {
			return nil, err
		}
	} else if err := d.Validate(); err != nil {
		return nil, err
	}
	filter, err := d.Filter()
	if err != nil {
		return nil, err
	}
	was, is := filter.AdmitsTable(r.Table), r.Name != "" && filter.AdmitsTable(r.Name)
	switch {
	case !was && !is:
		o.add(Unaffected, "it does not take the table", "")
	case r.Name == "" && d.SchemaChanges == string(outlet.ChangesHold):
		o.add(Holds, "no row of the table comes any more; it holds before that, as its schema_changes says", "`rillmark outlet resume "+o.Outlet+" --let-pass OFFSET` lets it pass; the outlet's status names the offset")
	case r.Name == "":
		o.add(Loses, "no row of the table comes any more", "")
	case was && !is:
		o.add(Loses, fmt.Sprintf("it takes %s, and not %s", r.Table, r.Name), "add the new name to its tables")
	case r.Name != r.Table:
		o.add(Differs, fmt.Sprintf("rows come as those of %s", r.Name), "")
	}
	if r.After == nil || !is {
		return o, nil
	}
	if same(r) {
		o.add(Unaffected, "the version of the table stays the same", "")
		return o, nil
	}
	return o, i.passes(ctx, o, &d, filter, r)
}

// add notes a finding.
func (o *OutletImpact) add(v Verdict, says, fix string) {
	o.Findings, o.Verdict = append(o.Findings, Finding{v, says, fix}), worse(o.Verdict, v)
}

// passes sends the schema event through an outlet's parts, in the order of a delivery.
func (i *Impact) passes(ctx context.Context, o *OutletImpact, d *definition.Outlet, filter *shape.Filter, r *engine.Rehearsal) error {
	edit := "change it with `rillmark outlet edit " + o.Outlet + "`; delivery goes on where it stopped"
	fits := Holds // the verdict of what does not
	if d.SchemaChanges == string(outlet.ChangesDeadLetter) {
		fits, edit = Loses, "its rows become dead letters, as its schema_changes says: "+edit
	}
	if _, err := filter.Conditions(r.After); err != nil {
		o.add(fits, "its condition on rows no longer fits: "+err.Error(), edit)
	}
	shaped, err := i.Shape(ctx, d)
	if err != nil {
		return err
	}
	event := &change.Event{Operation: change.Definition, Table: r.Name, Schema: r.After,
		Body: (&change.SchemaChange{Fingerprint: r.After.Fingerprint().String(), Definition: r.After, Previous: r.Before, Rewrites: r.Rewrites, Filled: r.Filled, Renamed: r.Renamed}).Encode()}
	if r.Name != r.Table {
		event.Body = (&change.SchemaChange{Fingerprint: r.After.Fingerprint().String(), Definition: r.After}).Encode()
	}
	formed := event
	if shaped.Rows != nil {
		formed, err = shaped.Rows.Clone().Apply(event)
	}
	if unfit := (*shape.Unfit)(nil); errors.As(err, &unfit) {
		if unfit.Exposes {
			fits = Holds // in any case
		}
		o.add(fits, "its form of rows no longer fits: "+err.Error(), edit)
		return nil
	}
	if err != nil {
		return err
	}
	if formed == nil {
		o.add(Unaffected, "its form of rows leaves out what changes", "")
		return nil
	}
	var body change.SchemaChange
	if err := json.Unmarshal(formed.Body, &body); err != nil {
		return fmt.Errorf("reading the schema event as it would go out: %w", err)
	}
	now := formed.Schema
	before := r.Before
	if shaped.Rows != nil {
		if before, err = shaped.Rows.Clone().Schema(r.Before); err != nil {
			before = now // it does not fit today; what differs is not known
		}
	}
	if d.SchemaChanges == string(outlet.ChangesHold) && r.Name == r.Table {
		o.add(Holds, "it holds before the change, as its schema_changes says", "`rillmark outlet resume "+o.Outlet+" --let-pass OFFSET` lets it pass; the outlet's status names the offset")
	}
	for _, says := range change.Changes(before, now, body.Renamed) {
		o.add(Differs, says, "")
	}
	o.templates(d, before, now)
	o.names(shaped, before, now)
	if err := i.registered(ctx, o, d, shaped, now, fits); err != nil {
		return err
	}
	return i.target(ctx, o, d, destination.Redefinition{Outlet: o.Outlet, Before: before, Now: now, Renamed: body.Renamed}, r)
}

// templates looks whether columns that keys and names of topics are built from are still there.
func (o *OutletImpact) templates(d *definition.Outlet, before, now *change.Schema) {
	had := d.ColumnsMissing(before)
	for _, column := range d.ColumnsMissing(now) {
		if !slices.Contains(had, column) {
			o.add(Loses, fmt.Sprintf("a template names the column %q, which is gone: messages have an empty text there", column), fmt.Sprintf("write {row.%s|other}, or change the template", column))
		}
	}
	b := d.Outbox
	if b == nil {
		return
	}
	if pattern, err := shape.ParsePattern(b.Table); err != nil || !pattern.Matches(now.Table) {
		return
	}
	for _, column := range []string{b.ID, b.Kind, b.Body, b.Subject, b.Time} {
		if column != "" && before.Column(column) != nil && now.Column(column) == nil {
			o.add(Loses, fmt.Sprintf("the outbox reads the column %q, which is gone: its rows become dead letters", column), "change outbox in the outlet")
		}
	}
}

// names looks whether a flat format calls columns otherwise from there on.
func (o *OutletImpact) names(shaped encode.Shape, before, now *change.Schema) {
	was := encode.Renamed(shaped, before)
	for _, c := range encode.Renamed(shaped, now) {
		if !slices.ContainsFunc(was, func(old change.Column) bool { return old.Name == c.Name && old.From == c.From }) {
			o.add(Differs, fmt.Sprintf("its format calls the column %q %q", c.From, c.Name), "")
		}
	}
}

// registered asks a schema registry whether it would take the version.
func (i *Impact) registered(ctx context.Context, o *OutletImpact, d *definition.Outlet, shaped encode.Shape, now *change.Schema, fits Verdict) error {
	if d.Avro == nil || d.Avro.Framing != "registry" {
		i.fitted(ctx, o, d, encode.Flattened(shaped, now), fits)
		return nil
	}
	out := encode.Flattened(shaped, now)
	if _, err := encode.AvroOf(out); err != nil {
		o.add(Holds, "its rows cannot be written in Avro: "+err.Error(), "")
		return nil
	}
	framed := framing.New(d, i.Guard)
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	if framed.Registered() {
		why, err := framed.Misfits(ctx, out)
		if err != nil {
			o.add(Differs, "the schema registry could not be asked: "+err.Error(), "")
		} else if why != "" {
			o.add(fits, "its rows would not fit the registered schema of "+framed.Subject(out)+": "+why, framing.HowToFit+"; delivery goes on by itself")
		}
		return nil
	}
	why, err := framed.Incompatible(ctx, out)
	if err != nil {
		o.add(Differs, "the schema registry could not be asked: "+err.Error(), "")
		return nil
	}
	if why != "" {
		o.add(fits, "the schema registry would not take the new schema of "+framed.Subject(out)+": "+why, "relax the subject's compatibility there, or leave the changed columns out by a form of rows; delivery goes on by itself")
	}
	return nil
}

// fitted looks whether rows still fit what their destination has.
func (i *Impact) fitted(ctx context.Context, o *OutletImpact, d *definition.Outlet, now *change.Schema, fits Verdict) {
	rows := framing.RowsOf(d, func() (destination.Destination, error) { return i.Destination(*d) })
	if rows == nil {
		return
	}
	why, what, err := rows.Misfits(ctx, now)
	if err != nil {
		o.add(Differs, "what its rows are fitted to could not be read: "+err.Error(), "")
	} else if why != "" {
		o.add(fits, "its rows would not fit "+what+": "+why, framing.HowToFit+"; delivery goes on by itself")
	}
}

// target asks a destination whose tables follow what it would run.
func (i *Impact) target(ctx context.Context, o *OutletImpact, d *definition.Outlet, c destination.Redefinition, r *engine.Rehearsal) error {
	if o.Destination == "" || r.Name != r.Table {
		return nil
	}
	to, err := i.Destination(*d)
	if err != nil {
		return err
	}
	follows, can := to.(destination.Redefiner)
	if !can {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	o.Statements, err = follows.PlanRedefinition(ctx, c)
	var fault *engine.Fault
	switch {
	case errors.As(err, &fault) && fault.Final:
		o.add(Holds, fault.Message, fault.Fix)
	case err != nil:
		o.add(Differs, "the target could not be asked: "+err.Error(), "")
	case len(o.Statements) > 0:
		o.add(Differs, "the table there is altered", "")
	}
	return nil
}
