package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"

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
		return nil, usage("%q is no path in a definition: write connection.host, or tables[0].match", text)
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

// put sets one field of the definition.
func (d *definitionFile) put(path string, value any) error {
	steps, err := parsePath(path)
	if err != nil {
		return err
	}
	var tree any
	if len(d.json) > 0 {
		decoder := json.NewDecoder(bytes.NewReader(d.json))
		decoder.UseNumber() // numbers keep every digit
		if err := decoder.Decode(&tree); err != nil {
			return err
		}
	}
	if tree, err = put(tree, steps, value); err != nil {
		return usage("%s: %w", path, err)
	}
	d.json, err = json.Marshal(tree)
	return err
}

// setFlag is the flag that sets any field of a definition.
type setFlag struct{ given []string }

func (s *setFlag) register(flags *pflag.FlagSet) {
	flags.StringArrayVar(&s.given, "set", nil, "set a field of the definition, as connection.port=5433 or tables[0].filter=...; the value is YAML; may be repeated")
}

// lay puts what was given with --set over a definition.
func (s *setFlag) lay(d *definitionFile) error {
	for _, one := range s.given {
		path, text, found := strings.Cut(one, "=")
		if !found {
			return usage("--set %s: write a path, =, and the value", one)
		}
		var value any
		if err := yaml.Unmarshal([]byte(text), &value); err != nil {
			return usage("--set %s: the value is no YAML: %w", path, err)
		}
		if text == "" {
			value = ""
		}
		if err := d.put(path, value); err != nil {
			return err
		}
	}
	return nil
}

// layFlags puts each flag that was given over a definition from a file. places are the
// fields that flags stand for.
func (d *definitionFile) layFlags(flags *pflag.FlagSet, places map[string]string) (err error) {
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
			err = d.put(place, value)
		}
	})
	return err
}

// anyGiven says whether one of the flags that stand for fields was given.
func anyGiven(c *cobra.Command, places map[string]string) bool {
	found := false
	c.Flags().Visit(func(f *pflag.Flag) { found = found || places[f.Name] != "" || f.Name == "file" || f.Name == "set" })
	return found
}

// record takes a definition out of what `show` printed, with the version it has; a
// bare definition stays as it is.
func (d *definitionFile) record() (version int64, err error) {
	var whole struct {
		Version    *int64          `json:"version"`
		Definition json.RawMessage `json:"definition"`
	}
	if err := json.Unmarshal(d.json, &whole); err != nil || whole.Definition == nil || whole.Version == nil {
		return 0, nil //nolint:nilerr // then it is a definition, and the service says what is wrong with it
	}
	d.json, d.inside = whole.Definition, "definition"
	return *whole.Version, nil
}

// printYAML prints an answer as YAML, its fields in their order.
func (a *app) printYAML(raw []byte) error {
	text, err := yaml.JSONToYAML(raw)
	if err != nil {
		return err
	}
	_, err = a.out.Write(text)
	return err
}

// withYAML gives a command that shows a record the flag --yaml, whose output `edit`
// takes back.
func (a *app) withYAML(plural string, c *cobra.Command) *cobra.Command {
	var asYAML bool
	shown := c.RunE
	c.Flags().BoolVar(&asYAML, "yaml", false, "print the record as YAML, which `edit --file` takes")
	c.RunE = func(c *cobra.Command, args []string) error {
		if !asYAML {
			return shown(c, args)
		}
		raw, err := a.call(c.Context(), http.MethodGet, "/v1/"+plural+"/"+url.PathEscape(args[0]), nil, nil)
		if err != nil {
			return err
		}
		return a.printYAML(raw)
	}
	return c
}
