package definition

import (
	"fmt"
	"slices"

	"rillmark/internal/settings"
)

// Form is a form of rows that outlets share, with functions of somebody's own.
type Form struct {
	Rows        []RowForm  `json:"rows,omitempty" title:"Form of rows" maxItems:"200" doc:"As an outlet's rows: they stand behind those of the outlet itself, so that its own decide first"`
	Functions   []Function `json:"functions,omitempty" title:"Functions" maxItems:"200" doc:"As an outlet's functions; the outlet's own, and the expressions of its rows, may call them"`
	Description string     `json:"description,omitempty" title:"Description" maxLength:"500"`
}

// Validate checks what can be checked without knowing the outlets that use the form. Functions
// of other forms are not known to it: a form calls its own.
func (f *Form) Validate() error {
	if len(f.Rows)+len(f.Functions) == 0 {
		return settings.Wrong("rows", "a form has rows, or functions for the forms of outlets")
	}
	_, err := (&Outlet{Rows: f.Rows, Functions: f.Functions}).RowForms()
	return err
}

// maxForms are how many forms an outlet may name.
const maxForms = 20

// checkForms looks at the names of shared forms.
func (o *Outlet) checkForms() error {
	if len(o.Forms) > maxForms {
		return settings.Wrong("forms", "at most %d forms", maxForms)
	}
	for i, name := range o.Forms {
		if slices.Contains(o.Forms[:i], name) {
			return settings.Wrong(fmt.Sprintf("forms[%d]", i), "the form %q is named twice", name)
		}
		if err := CheckName("a form", name); err != nil {
			return settings.Wrong(fmt.Sprintf("forms[%d]", i), "%s", err)
		}
	}
	return nil
}

// WithForms is the outlet with the forms that it names in their places: their functions before
// its own, and their rows behind its own.
func (o *Outlet) WithForms(named func(name string) (*Form, error)) (*Outlet, error) {
	if len(o.Forms) == 0 || o.shared != nil {
		return o, nil
	}
	all := *o
	all.shared = make([]sharedRows, 0, len(o.Forms))
	rows, functions := slices.Clone(o.Rows), []Function(nil)
	for _, name := range o.Forms {
		form, err := named(name)
		if err != nil {
			return nil, err
		}
		all.shared = append(all.shared, sharedRows{name, len(rows), len(functions)})
		rows, functions = append(rows, form.Rows...), append(functions, form.Functions...)
	}
	all.Rows, all.Functions, all.own = rows, append(functions, o.Functions...), len(functions)
	return &all, nil
}

// sharedRows says from where on an outlet's rows and functions are those of a form.
type sharedRows struct {
	form            string
	rows, functions int
}

// rowsAt is where the rows of a number are defined, for people.
func (o *Outlet) rowsAt(i int) string {
	for _, s := range slices.Backward(o.shared) {
		if i >= s.rows {
			return fmt.Sprintf("forms: %s: rows[%d]", s.form, i-s.rows)
		}
	}
	return fmt.Sprintf("rows[%d]", i)
}

// functionAt is where the function of a number is defined, for people.
func (o *Outlet) functionAt(i int) string {
	if i >= o.own {
		return fmt.Sprintf("functions[%d]", i-o.own)
	}
	for _, s := range slices.Backward(o.shared) {
		if i >= s.functions {
			return fmt.Sprintf("forms: %s: functions[%d]", s.form, i-s.functions)
		}
	}
	return fmt.Sprintf("functions[%d]", i)
}
