// Package written is definitions as people write them: in files, in flags that are made of the
// definitions' own fields, and by the path of a field.
package written

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"rillmark/internal/cli/terminal"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// File is a definition that a person wrote in YAML (or JSON, which is
// YAML): what is sent, and where each part of it stands.
type File struct {
	// Name is the file's, for people.
	Name string
	tree *ast.File
	// JSON is the definition as it is sent.
	JSON []byte
	// inside is where the definition stands in the file; empty for all of it.
	inside string
}

// ReadDefinition reads a file, or standard input for a dash.
func ReadDefinition(s *terminal.Session, path string) (*File, error) {
	var raw []byte
	var err error
	if path == "-" {
		raw, err = io.ReadAll(s.In)
	} else {
		raw, err = os.ReadFile(path)
	}
	if err != nil {
		return nil, terminal.Usage("the definition cannot be read: %w", err)
	}
	d := &File{Name: path}
	if d.tree, err = parser.ParseBytes(raw, 0); err != nil {
		return nil, terminal.Usage("the definition %s is not right:\n%s", path, yaml.FormatError(err, false, false))
	}
	var value any
	if err := yaml.Unmarshal(raw, &value); err != nil {
		return nil, terminal.Usage("the definition %s is not right:\n%s", path, yaml.FormatError(err, false, false))
	}
	if _, isMap := value.(map[string]any); !isMap {
		return nil, terminal.Usage("the definition %s is not a list of fields and values, such as `engine: postgresql`", path)
	}
	if d.JSON, err = json.Marshal(value); err != nil {
		return nil, terminal.Usage("the definition %s: %w", path, err)
	}
	return d, nil
}

// explain adds line and column to what the service says of a definition.
func (d *File) explain(err error) error {
	var refused *terminal.Refusal
	if !errors.As(err, &refused) || len(refused.Errors) == 0 {
		return err
	}
	lines := make([]string, len(refused.Errors))
	for i, e := range refused.Errors {
		lines[i] = d.line(strings.TrimPrefix(strings.TrimPrefix(e.Location, "body"), "."), e.Message)
	}
	return refusedAs(lines)
}

// ExplainedParts is Explained where each file is a member of what was sent, by its name; what names
// none of them is about the member main.
func ExplainedParts(err error, main string, parts map[string]*File) error {
	var refused *terminal.Refusal
	if !errors.As(err, &refused) || len(refused.Errors) == 0 {
		return err
	}
	lines := make([]string, len(refused.Errors))
	for i, e := range refused.Errors {
		place, of := strings.TrimPrefix(strings.TrimPrefix(e.Location, "body"), "."), main
		if member, rest, _ := strings.Cut(place, "."); parts[member] != nil {
			place, of = rest, member
		}
		lines[i] = parts[of].line(place, e.Message)
	}
	return refusedAs(lines)
}

// line says where a place stands, and what is wrong there.
func (d *File) line(place, message string) string {
	line, column := d.find(strings.Trim(d.inside+"."+place, "."))
	if place != "" {
		place += ": "
	}
	return fmt.Sprintf("%s:%d:%d: %s%s", d.Name, line, column, place, message)
}

func refusedAs(lines []string) error {
	return terminal.WithCode(terminal.ExitRefused, fmt.Errorf("the definition is not right\n  %s", strings.Join(lines, "\n  ")))
}

// find is where a path such as tables[1].match stands; where it is missing, the
// nearest that is there.
func (d *File) find(place string) (line, column int) {
	for {
		path, err := yaml.PathString("$." + place)
		if place == "" {
			path, err = yaml.PathString("$")
		}
		if err == nil {
			if node, err := path.FilterFile(d.tree); err == nil && node != nil {
				if token := first(node).GetToken(); token != nil {
					return token.Position.Line, token.Position.Column
				}
			}
		}
		cut := strings.LastIndexAny(place, ".[")
		if place == "" {
			return 1, 1
		}
		place = place[:max(cut, 0)]
	}
}

// first is where a value begins: fields and values at the first field's name, which is before
// the colon that stands for them in the tree.
func first(node ast.Node) ast.Node {
	switch n := node.(type) {
	case *ast.MappingNode:
		if len(n.Values) > 0 {
			return n.Values[0].Key
		}
	case *ast.MappingValueNode:
		return n.Key
	}
	return node
}

// Explained is explain where there is a definition to look into.
func (d *File) Explained(err error) error {
	if err == nil || d == nil || d.tree == nil {
		return err
	}
	return d.explain(err)
}
