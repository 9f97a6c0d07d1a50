package definition

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/expression"
	"rillmark/internal/settings"
	"rillmark/internal/shape"
)

// RowForm is the form in which rows of some tables go out.
type RowForm struct {
	Match   string       `json:"match" title:"Tables" minLength:"1" doc:"Schema-qualified name; * stands for any characters, ? for one. The first that matches a table decides"`
	Columns []ColumnForm `json:"columns,omitempty" title:"Columns" doc:"The first that matches a column decides; a column that none matches is kept"`
	New     []NewColumn  `json:"new,omitempty" title:"New columns" maxItems:"200" doc:"Columns that are computed from the others of their row; they stand behind them"`
}

// ColumnForm is a pattern of columns and what becomes of them.
type ColumnForm struct {
	Match string `json:"match" title:"Column" minLength:"1" doc:"The column's name; * stands for any characters, ? for one"`
	Treat string `json:"treat,omitempty" title:"Treat" enum:"keep,drop,mask,hash" default:"keep" doc:"drop: the column does not go out; mask: each value becomes ***; hash: each value becomes an HMAC-SHA256 of it under the source's hash_key, so that equal ones stay equal"`
	Name  string `json:"name,omitempty" title:"New name" maxLength:"200" doc:"The name that the column goes out under; its own without it"`
}

// NewColumn is a computed column.
type NewColumn struct {
	Name  string `json:"name" title:"Name" minLength:"1" maxLength:"200" doc:"The column's name"`
	Is    string `json:"is" title:"Expression" minLength:"1" maxLength:"10000" doc:"An expression in CEL over the row's columns, such as first_name + ' ' + last_name, and over the event (before, operation ...)"`
	Type  string `json:"type,omitempty" title:"Type" maxLength:"20" doc:"boolean, integer, decimal, decimal(8,2), double, text, timestamp, json or bytes; what the expression gives without it"`
	Fails string `json:"fails,omitempty" title:"Where it cannot be computed" enum:"refuse,null" default:"refuse" doc:"What becomes of a row for which it cannot be computed; refuse: its event becomes a dead letter; null: the column is null"`
}

// Function is a function of somebody's own.
type Function struct {
	Name      string     `json:"name" title:"Name" minLength:"1" maxLength:"100" doc:"By which expressions call it"`
	Arguments []Argument `json:"arguments,omitempty" title:"Arguments" maxItems:"20" doc:"In their order"`
	Is        string     `json:"is" title:"Expression" minLength:"1" maxLength:"10000" doc:"An expression in CEL over the arguments; it may call the functions before it"`
}

// Argument is an argument of a function.
type Argument struct {
	Name string `json:"name" title:"Name" minLength:"1" maxLength:"100" doc:"The name that the expression has it under"`
	Type string `json:"type" title:"Type" maxLength:"20" enum:"boolean,integer,decimal,double,text,timestamp,json,bytes" doc:"The type of its values"`
}

// RowForms are the forms of rows, ready to be fitted to tables; nil where rows go out as
// they are. Hashing needs its key yet.
func (o *Outlet) RowForms() (*shape.Rows, error) {
	if len(o.Forms) > 0 && o.shared == nil {
		return nil, errors.New("the forms that the outlet shares are not known here") // nothing goes out without them
	}
	if len(o.Rows)+len(o.Functions) == 0 {
		return nil, nil //nolint:nilnil // rows go out as they are
	}
	functions := make([]expression.Function, len(o.Functions))
	for i, f := range o.Functions {
		one := expression.Function{Name: f.Name, Is: f.Is}
		for _, a := range f.Arguments {
			one.Arguments = append(one.Arguments, expression.Argument{Name: a.Name, Type: a.Type})
		}
		functions[i] = one
	}
	formulas, err := expression.NewFormulas(functions)
	var wrong *expression.FunctionError
	if errors.As(err, &wrong) {
		return nil, settings.Wrong(o.functionAt(wrong.At), "%s", err)
	}
	if err != nil {
		return nil, err
	}
	if len(o.Rows) == 0 {
		return nil, nil //nolint:nilnil // rows go out as they are
	}
	rows := &shape.Rows{Formulas: formulas}
	for i, r := range o.Rows {
		form := shape.RowForm{At: o.rowsAt(i)}
		at := func(format string, args ...any) string { return form.At + "." + fmt.Sprintf(format, args...) }
		if form.Match, err = shape.ParsePattern(r.Match); err != nil {
			return nil, settings.Wrong(at("match"), "%s", err)
		}
		for n, c := range r.Columns {
			one := shape.ColumnForm{Treat: shape.Treat(c.Treat), Name: c.Name}
			if one.Match, err = shape.ParseColumnPattern(c.Match); err != nil {
				return nil, settings.Wrong(at("columns[%d].match", n), "%s", err)
			}
			if one.Treat == "" {
				one.Treat = shape.Keep
			}
			if !slices.Contains(shape.Treats, string(one.Treat)) {
				return nil, settings.Wrong(at("columns[%d].treat", n), "unknown treat %q: there are %s", c.Treat, strings.Join(shape.Treats, ", "))
			}
			if one.Name != "" && (one.Treat == shape.Drop || strings.ContainsAny(c.Match, "*?") && !strings.HasPrefix(c.Match, `"`)) {
				return nil, settings.Wrong(at("columns[%d].name", n), "a name goes with one column that goes out")
			}
			form.Columns = append(form.Columns, one)
		}
		for n, c := range r.New {
			if c.Type != "" {
				if err := expression.CheckValueType(c.Type); err != nil {
					return nil, settings.Wrong(at("new[%d].type", n), "%s", err)
				}
			}
			if c.Fails != "" && c.Fails != "refuse" && c.Fails != "null" {
				return nil, settings.Wrong(at("new[%d].fails", n), "unknown fails %q: there are refuse, null", c.Fails)
			}
			if err := formulas.Parse(c.Is); err != nil {
				return nil, settings.Wrong(at("new[%d].is", n), "%s", err)
			}
			form.New = append(form.New, shape.NewColumn{Name: c.Name, Is: c.Is, Type: c.Type, OrNull: c.Fails == "null"})
		}
		rows.Forms = append(rows.Forms, form)
	}
	return rows, nil
}

// Hashes reports whether a column is hashed, for which the source's key is needed.
func (o *Outlet) Hashes() bool {
	return slices.ContainsFunc(o.Rows, func(r RowForm) bool {
		return slices.ContainsFunc(r.Columns, func(c ColumnForm) bool { return c.Treat == string(shape.Hash) })
	})
}

// ColumnsMissing are the columns that the templates of topic, key and partition name without a
// fallback, and a version of a table lacks.
func (o *Outlet) ColumnsMissing(v *change.Schema) (missing []string) {
	for _, text := range []string{o.Topic, o.Key, o.Partition} {
		template, err := shape.ParseTemplate(text)
		if err != nil {
			continue // Validate says it
		}
		for _, column := range template.Needs() {
			if !slices.Contains(missing, column) && v.Column(column) == nil {
				missing = append(missing, column)
			}
		}
	}
	return missing
}
