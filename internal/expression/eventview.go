package expression

import (
	"slices"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/ast"
	"github.com/google/cel-go/common/types"
	"github.com/google/cel-go/interpreter"

	"rillmark/internal/change"
)

// eventNames are what an expression over an event can look at besides columns.
var eventNames = []string{"before", "after", "key", "changed", "operation", "table", "transaction"}

const imageType = "rillmark.Image"

// imageTypes knows the columns of before, after and key.
type imageTypes struct {
	*types.Registry
	columns []change.Column
}

// FindStructType implements [types.Provider].
func (t *imageTypes) FindStructType(name string) (*types.Type, bool) {
	if name == imageType {
		return types.NewTypeTypeWithParam(types.NewObjectType(name)), true
	}
	return t.Registry.FindStructType(name)
}

// FindStructFieldNames implements [types.Provider].
func (t *imageTypes) FindStructFieldNames(name string) ([]string, bool) {
	if name != imageType {
		return t.Registry.FindStructFieldNames(name)
	}
	names := make([]string, len(t.columns))
	for i, c := range t.columns {
		names[i] = c.Name
	}
	return names, true
}

// FindStructFieldType implements [types.Provider].
func (t *imageTypes) FindStructFieldType(name, field string) (*types.FieldType, bool) {
	if name != imageType {
		return t.Registry.FindStructFieldType(name, field)
	}
	i := slices.IndexFunc(t.columns, func(c change.Column) bool { return c.Name == field })
	if i < 0 {
		return nil, false
	}
	return &types.FieldType{Type: celType(t.columns[i])}, true
}

// HasColumn reports whether a version has a column of that name.
func HasColumn(schema *change.Schema, name string) bool {
	return slices.ContainsFunc(schema.Columns, func(c change.Column) bool { return c.Name == name })
}

// namesIn are the variables that an expression names, without those that it makes itself to go
// through a list.
func namesIn(e ast.Expr) (names []string) {
	var own []string
	ast.PostOrderVisit(e, ast.NewExprVisitor(func(e ast.Expr) {
		switch e.Kind() {
		case ast.IdentKind:
			names = append(names, e.AsIdent())
		case ast.ComprehensionKind:
			own = append(own, e.AsComprehension().IterVar(), e.AsComprehension().IterVar2())
		default:
		}
	}))
	return slices.DeleteFunc(names, func(name string) bool { return slices.Contains(own, name) })
}

// asksEvent reports whether any of those names is the event's; a column of that name hides it.
func asksEvent(names []string, schema *change.Schema) bool {
	return slices.ContainsFunc(names, func(name string) bool { return slices.Contains(eventNames, name) && !HasColumn(schema, name) })
}

// eventEnvironment knows these names of an event, too.
func eventEnvironment(base *cel.Env, schema *change.Schema, names []string) (*cel.Env, error) {
	registry, err := types.NewRegistry()
	if err != nil {
		return nil, err
	}
	image := cel.ObjectType(imageType)
	kinds := map[string]*cel.Type{"before": image, "after": image, "key": image, "changed": cel.ListType(cel.StringType),
		"operation": cel.StringType, "table": cel.StringType, "transaction": cel.MapType(cel.StringType, cel.DynType)}
	options := []cel.EnvOption{cel.CustomTypeProvider(&imageTypes{registry, schema.Columns})}
	for _, name := range names {
		options = append(options, cel.Variable(name, kinds[name]))
	}
	return base.Extend(options...)
}

// eventView is an event as an expression sees it.
type eventView struct {
	schema  *change.Schema
	before  []int // the columns of the images that it looks at
	after   []int
	former  bool // it asks for the row before, or whether there was one
	key     bool
	changed bool // it asks which columns have changed
	event   *change.Event
	maps    map[string]any
}

// eventViewOf finds out what a checked expression looks at.
func eventViewOf(e ast.Expr, schema *change.Schema) eventView {
	v := eventView{schema: schema}
	ast.PostOrderVisit(e, ast.NewExprVisitor(func(e ast.Expr) {
		switch e.Kind() {
		case ast.SelectKind:
			of, name := e.AsSelect().Operand(), e.AsSelect().FieldName()
			if of.Kind() != ast.IdentKind || HasColumn(schema, of.AsIdent()) {
				return
			}
			at := slices.IndexFunc(schema.Columns, func(c change.Column) bool { return c.Name == name })
			switch of.AsIdent() {
			case "before":
				v.before = append(v.before, at)
			case "after":
				v.after = append(v.after, at)
			}
		case ast.IdentKind:
			v.changed = v.changed || e.AsIdent() == "changed"
			v.key = v.key || e.AsIdent() == "key"
			v.former = v.former || e.AsIdent() == "before"
		default:
		}
	}))
	return v
}

// looksAt are the columns of the images that it looks at.
func (v *eventView) looksAt() []int {
	all := append(slices.Clone(v.before), v.after...)
	slices.Sort(all)
	return slices.Compact(all)
}

// take has the view show an event. null says that a value which it looks at is null, or not
// there at all; lacks which one the log has left out, for people.
func (v *eventView) take(e *change.Event) (null bool, lacks string) {
	for _, one := range []struct {
		name  string
		image []change.Value
		uses  []int
	}{{"before", e.Before, v.before}, {"after", e.After, v.after}} {
		for _, i := range one.uses {
			switch {
			case one.image == nil || one.image[i].Presence == change.Null:
				null = true
			case one.image[i].Presence == change.Omitted:
				return null, one.name + "." + v.schema.Columns[i].Name
			}
		}
	}
	if v.changed && e.Operation == change.Update {
		if _, known := e.Changed(nil); !known {
			return null, "changed"
		}
	}
	v.event, v.maps = e, make(map[string]any, 4)
	return null, ""
}

// ResolveName implements [interpreter.Activation] for the event at hand.
func (v *eventView) ResolveName(name string) (any, bool) {
	if value, known := v.maps[name]; known {
		return value, true
	}
	value, known := v.resolve(name)
	if known {
		v.maps[name] = value
	}
	return value, known
}

func (v *eventView) resolve(name string) (any, bool) {
	e := v.event
	switch name {
	case "before":
		return v.image(e.Before, v.before), true
	case "after":
		return v.image(e.After, v.after), true
	case "key":
		return v.image(e.Image(), e.Schema.Key()), true
	case "changed":
		changed, _ := e.Changed(nil)
		names := make([]string, len(changed))
		for i, at := range changed {
			names[i] = e.Schema.Columns[at].Name
		}
		return names, true
	case "operation":
		return e.Operation.String(), true
	case "table":
		return e.Table, true
	case "transaction":
		return map[string]any{"id": e.Transaction.ID, "committed_at": e.Transaction.CommittedAt, "origin": e.Transaction.Origin, "index": int64(e.Transaction.Index)}, true
	}
	return nil, false
}

// image is a part of an image as CEL sees it: null where there is none.
func (v *eventView) image(image []change.Value, columns []int) any {
	if image == nil {
		return types.NullValue
	}
	row := make(map[string]any, len(columns))
	for _, i := range columns {
		row[v.schema.Columns[i].Name] = celValue(v.schema.Columns[i], image[i])
	}
	return row
}

// Parent implements [interpreter.Activation].
func (*eventView) Parent() interpreter.Activation { return nil }
