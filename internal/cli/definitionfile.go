package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// definitionFile is a definition that a person wrote in YAML (or JSON, which is
// YAML): what is sent, and where each part of it stands.
type definitionFile struct {
	name string
	tree *ast.File
	json []byte
	// inside is where the definition stands in the file; empty for all of it.
	inside string
}

// readDefinition reads a file, or standard input for a dash.
func (a *app) readDefinition(path string) (*definitionFile, error) {
	var raw []byte
	var err error
	if path == "-" {
		raw, err = io.ReadAll(a.in)
	} else {
		raw, err = os.ReadFile(path)
	}
	if err != nil {
		return nil, usage("the definition cannot be read: %w", err)
	}
	d := &definitionFile{name: path}
	if d.tree, err = parser.ParseBytes(raw, 0); err != nil {
		return nil, usage("the definition %s is not right:\n%s", path, yaml.FormatError(err, false, false))
	}
	var value any
	if err := yaml.Unmarshal(raw, &value); err != nil {
		return nil, usage("the definition %s is not right:\n%s", path, yaml.FormatError(err, false, false))
	}
	if _, isMap := value.(map[string]any); !isMap {
		return nil, usage("the definition %s is not a list of fields and values, such as `engine: postgresql`", path)
	}
	if d.json, err = json.Marshal(value); err != nil {
		return nil, usage("the definition %s: %w", path, err)
	}
	return d, nil
}

// explain adds line and column to what the service says of a definition.
func (d *definitionFile) explain(err error) error {
	var refused *refusal
	if !errors.As(err, &refused) || len(refused.Errors) == 0 {
		return err
	}
	lines := make([]string, len(refused.Errors))
	for i, e := range refused.Errors {
		place := strings.TrimPrefix(strings.TrimPrefix(e.Location, "body"), ".")
		line, column := d.find(strings.Trim(d.inside+"."+place, "."))
		if place != "" {
			place += ": "
		}
		lines[i] = fmt.Sprintf("%s:%d:%d: %s%s", d.name, line, column, place, e.Message)
	}
	return &coded{exitRefused, fmt.Errorf("the definition is not right\n  %s", strings.Join(lines, "\n  "))}
}

// find is where a path such as tables[1].match stands; where it is missing, the
// nearest that is there.
func (d *definitionFile) find(place string) (line, column int) {
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
