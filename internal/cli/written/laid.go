package written

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"rillmark/internal/cli/terminal"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// step is one part of a path such as connection.host or tables[0].match.
type step struct {
	name  string
	index int // where name is empty
}

var pathForm = regexp.MustCompile(`^[a-z_][A-Za-z0-9_-]*(\.[A-Za-z0-9_-]+|\[[0-9]{1,4}\])*$`)

func parsePath(text string) ([]step, error) {
	if !pathForm.MatchString(text) {
		return nil, terminal.Usage("%q is no path in a definition: write connection.host, or tables[0].match", text)
	}
	var steps []step
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == '.' || r == '[' }) {
		if digits, isIndex := strings.CutSuffix(part, "]"); isIndex {
			n, _ := strconv.Atoi(digits)
			steps = append(steps, step{index: n})
			continue
		}
		steps = append(steps, step{name: part})
	}
	return steps, nil
}

// put is a definition's part with a value at a path in it; what lacks on the way is
// made. A list grows by one at a time.
func put(in any, path []step, value any) (any, error) {
	if len(path) == 0 {
		return value, nil
	}
	at := path[0]
	if at.name != "" {
		fields, isMap := in.(map[string]any)
		if in != nil && !isMap {
			return nil, fmt.Errorf("%s: what it is to be in has no fields", at.name)
		}
		if fields == nil {
			fields = make(map[string]any)
		}
		inner, err := put(fields[at.name], path[1:], value)
		if err == nil {
			fields[at.name] = inner
		}
		return fields, err
	}
	list, isList := in.([]any)
	if in != nil && !isList {
		return nil, fmt.Errorf("[%d]: what it is to be in is no list", at.index)
	}
	if at.index > len(list) {
		return nil, fmt.Errorf("[%d]: the list has %d entries; the next one is [%d]", at.index, len(list), len(list))
	}
	if at.index == len(list) {
		list = append(list, nil)
	}
	inner, err := put(list[at.index], path[1:], value)
	list[at.index] = inner
	return list, err
}

// Put sets one field of the definition.
func (d *File) Put(path string, value any) error {
	steps, err := parsePath(path)
	if err != nil {
		return err
	}
	var tree any
	if len(d.JSON) > 0 {
		decoder := json.NewDecoder(bytes.NewReader(d.JSON))
		decoder.UseNumber() // numbers keep every digit
		if err := decoder.Decode(&tree); err != nil {
			return err
		}
	}
	if tree, err = put(tree, steps, value); err != nil {
		return terminal.Usage("%s: %w", path, err)
	}
	d.JSON, err = json.Marshal(tree)
	return err
}

// SetFlag is the flag that sets any field of a definition.
type SetFlag struct {
	// Given are what it was given: path=value.
	Given []string
}

// Register adds --set.
func (s *SetFlag) Register(flags *pflag.FlagSet) {
	flags.StringArrayVar(&s.Given, "set", nil, "set a field of the definition, as connection.port=5433 or tables[0].filter=...; the value is YAML; may be repeated")
}

// Lay puts what was given with --set over a definition.
func (s *SetFlag) Lay(d *File) error {
	for _, one := range s.Given {
		path, text, found := strings.Cut(one, "=")
		if !found {
			return terminal.Usage("--set %s: write a path, =, and the value", one)
		}
		var value any
		if err := yaml.Unmarshal([]byte(text), &value); err != nil {
			return terminal.Usage("--set %s: the value is no YAML: %w", path, err)
		}
		if text == "" {
			value = ""
		}
		if err := d.Put(path, value); err != nil {
			return err
		}
	}
	return nil
}

// LayFlags puts each flag that was given over a definition from a file. places are the
// fields that flags stand for.
func (d *File) LayFlags(flags *pflag.FlagSet, places map[string]string) (err error) {
	flags.Visit(func(f *pflag.Flag) {
		place, known := places[f.Name]
		if !known || err != nil {
			return
		}
		var value any = f.Value.String()
		switch given := f.Value.(type) {
		case *partFlag:
			value = nil
			if *given {
				value = map[string]any{}
			}
		case *pairsFlag:
			value = map[string]string(*given)
		case pflag.SliceValue:
			value = given.GetSlice()
			if place == "tables" && places["from-position"] != "" {
				rules := []map[string]string{} // a source's tables are rules
				for _, match := range given.GetSlice() {
					rules = append(rules, map[string]string{"match": match})
				}
				value = rules
			}
		default:
			switch f.Value.Type() {
			case "int", "int64":
				value = json.Number(f.Value.String())
			case "bool":
				value = f.Value.String() == "true"
			}
		}
		if err == nil {
			err = d.Put(place, value)
		}
	})
	return err
}

// AnyGiven says whether one of the flags that stand for fields was given.
func AnyGiven(c *cobra.Command, places map[string]string) bool {
	found := false
	c.Flags().Visit(func(f *pflag.Flag) { found = found || places[f.Name] != "" || f.Name == "file" || f.Name == "set" })
	return found
}

// ofRecord are the fields that `show` prints around a definition.
var ofRecord = []string{"name", "version", "running", "reason", "created_at", "updated_at", "where", "definition", "warnings"}

// Record takes a definition out of what `show` printed, with the version it has; a
// bare definition stays as it is.
func (d *File) Record() (version int64, err error) {
	var whole struct {
		Version    *int64          `json:"version"`
		Definition json.RawMessage `json:"definition"`
	}
	if err := json.Unmarshal(d.JSON, &whole); err != nil || whole.Definition == nil || whole.Version == nil {
		return 0, nil //nolint:nilerr // then it is a definition, and the service says what is wrong with it
	}
	var beside map[string]json.RawMessage
	if err := json.Unmarshal(d.JSON, &beside); err != nil {
		return 0, terminal.Usage("the definition %s: %w", d.Name, err)
	}
	for _, name := range slices.Sorted(maps.Keys(beside)) {
		if !slices.Contains(ofRecord, name) {
			line, column := d.find(name)
			return 0, terminal.WithCode(terminal.ExitRefused, fmt.Errorf("%s:%d:%d: %s: this field stands beside definition, where it would change nothing: write it below definition", d.Name, line, column, name))
		}
	}
	d.JSON, d.inside = whole.Definition, "definition"
	return *whole.Version, nil
}
