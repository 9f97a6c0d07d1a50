package api

import (
	"encoding/json"
	"path"
	"reflect"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/destination/kinds"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/engine/engines"
	"rillmark/internal/settings"
)

const schemaPrefix = "#/components/schemas/"

// Kind is a kind of destination, with all that a form, or whoever writes definitions,
// needs to know of it.
type Kind struct {
	Name    string   `json:"name" doc:"As definitions name it; pull: there is no destination, and consumers come and read"`
	Title   string   `json:"title"`
	About   string   `json:"about"`
	Topic   string   `json:"topic,omitempty" doc:"What the names are called that messages go to; absent where there are none"`
	Formats []string `json:"formats" doc:"Those that it takes"`
	Markers bool     `json:"markers" doc:"Whether a message can be a key without a value"`
	// Settings and Outlet have their references resolved: they stand for themselves.
	Settings any `json:"settings,omitempty" doc:"JSON Schema of the section in a destination's definition that has the kind's name"`
	Outlet   any `json:"outlet" doc:"JSON Schema of the definition of an outlet to such a destination"`
}

// newRegistry is where the API's JSON Schemas are made: those of definitions have a
// section for each kind.
func newRegistry() huma.Registry {
	destinationForm, outletForm := formOf(reflect.TypeFor[definition.Destination](), func(k *destination.Kind) any { return k.Settings() }),
		formOf(reflect.TypeFor[definition.Outlet](), func(k *destination.Kind) any {
			if k.Outlet == nil {
				return nil
			}
			return k.Outlet()
		})
	connectionForm := connectionFields()
	names := map[reflect.Type]string{destinationForm: "Destination", outletForm: "Outlet", connectionForm: "Connection"}
	r := huma.NewMapRegistry(schemaPrefix, func(t reflect.Type, hint string) string {
		for t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		if name := names[t]; name != "" {
			return name
		}
		name := huma.DefaultSchemaNamer(t, hint)
		if folder, kind := path.Split(t.PkgPath()); strings.HasSuffix(folder, "/destination/") {
			name = strings.ToUpper(kind[:1]) + kind[1:] + name
		}
		return name
	})
	r.RegisterTypeAlias(reflect.TypeFor[definition.Destination](), destinationForm)
	r.RegisterTypeAlias(reflect.TypeFor[definition.Outlet](), outletForm)
	r.RegisterTypeAlias(reflect.TypeFor[definition.Connection](), connectionForm)
	return r
}

// formOf is a definition's type as it stands in JSON, with a field for each kind's
// section.
func formOf(t reflect.Type, section func(*destination.Kind) any) reflect.Type {
	var fields []reflect.StructField
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if !f.IsExported() || name == "-" {
			continue
		}
		if name == "kind" {
			f.Tag += reflect.StructTag(` enum:"` + strings.ReplaceAll(kinds.Names(), " ", "") + `"`)
		}
		f.Offset, f.Index = 0, nil
		fields = append(fields, f)
	}
	for _, k := range kinds.All {
		if empty := section(k); empty != nil {
			fields = append(fields, reflect.StructField{Name: "Section" + strings.ToUpper(k.Name[:1]) + k.Name[1:], Type: reflect.TypeOf(empty),
				Tag: reflect.StructTag(`json:"` + k.Name + `,omitempty" title:"` + k.Title + `" doc:"` + k.About + `"`)})
		}
	}
	return reflect.StructOf(fields)
}

// connectionFields is a source's connection with the fields of all engines; which are an
// engine's own, its own validation says.
func connectionFields() reflect.Type {
	var fields []reflect.StructField
	at := make(map[string]int)
	of := make(map[string]int) // in how many engines a field is required
	for _, k := range engines.All {
		t := reflect.TypeOf(k.Connection()).Elem()
		for i := range t.NumField() {
			f := t.Field(i)
			if _, known := at[f.Name]; !known {
				f.Offset, f.Index = 0, nil
				at[f.Name], fields = len(fields), append(fields, f)
			} else if was := fields[at[f.Name]].Tag; was.Get("default") != f.Tag.Get("default") {
				fields[at[f.Name]].Tag = reflect.StructTag(strings.ReplaceAll(string(was), `default:"`+was.Get("default")+`" `, ""))
			}
			if !strings.Contains(f.Tag.Get("json"), ",omitempty") {
				of[f.Name]++
			}
		}
	}
	for i, f := range fields {
		if n := of[f.Name]; n > 0 && n < len(engines.All) {
			fields[i].Tag += ` required:"false"`
		}
	}
	return reflect.StructOf(fields)
}

// describeFields adds to the schemas what package settings' tags say and JSON Schema has
// no words for, under names that begin with x-.
func describeFields(r huma.Registry) {
	for name, schema := range r.Map() {
		t := r.TypeFromRef(schemaPrefix + name)
		if t == nil || t.Kind() != reflect.Struct {
			continue
		}
		order := 0
		for i := range t.NumField() {
			tag := t.Field(i).Tag
			name, _, _ := strings.Cut(tag.Get("json"), ",")
			p := schema.Properties[name]
			if p == nil || tag.Get("title") == "" {
				continue
			}
			order++
			p.Title, p.Extensions = tag.Get("title"), map[string]any{"x-order": order}
			for _, one := range []string{"unit", "when", "instead"} {
				if value := tag.Get(one); value != "" {
					p.Extensions["x-"+one] = value
				}
			}
			if tag.Get("advanced") == "yes" {
				p.Extensions["x-advanced"] = true
			}
			switch tag.Get("secret") {
			case "yes":
				p.Format = "password"
			case "by-name":
				p.Extensions["x-secret"] = "by-name"
			}
		}
	}
}

// schemaMap is a named schema as plain JSON, with its references resolved.
func schemaMap(r huma.Registry, name string) map[string]any {
	raw, err := json.Marshal(r.Map()[name])
	var schema map[string]any
	if err == nil {
		err = json.Unmarshal(raw, &schema)
	}
	if err != nil {
		panic(err) // the registry's own schemas
	}
	return resolved(r, schema).(map[string]any)
}

func resolved(r huma.Registry, v any) any {
	switch v := v.(type) {
	case map[string]any:
		if ref, is := v["$ref"].(string); is {
			delete(v, "$ref")
			for key, value := range schemaMap(r, strings.TrimPrefix(ref, schemaPrefix)) {
				if _, own := v[key]; !own {
					v[key] = value
				}
			}
			return v
		}
		for key, value := range v {
			v[key] = resolved(r, value)
		}
	case []any:
		for i, value := range v {
			v[i] = resolved(r, value)
		}
	}
	return v
}

// kindsOf lists the kinds with their schemas, and reading by consumers as the last.
func kindsOf(r huma.Registry) []Kind {
	properties := func(schema map[string]any) map[string]any { return schema["properties"].(map[string]any) }
	var all []Kind
	for _, k := range kinds.All {
		one := Kind{Name: k.Name, Title: k.Title, About: k.About, Topic: k.Topic, Formats: formatNames(k.Formats), Markers: k.Markers,
			Settings: properties(schemaMap(r, "Destination"))[k.Name]}
		all = append(all, one)
	}
	all = append(all, Kind{Name: "pull", Title: "Consumers come and read", About: "Nothing is sent: consumers read over HTTP, or with the client, and commit their offset", Formats: formatNames(definition.PullFormats)})
	for i := range all {
		schema := schemaMap(r, "Outlet")
		fields := properties(schema)
		for _, k := range kinds.All {
			if k.Name != all[i].Name {
				delete(fields, k.Name)
			}
		}
		var without []string
		if all[i].Topic == "" {
			without = append(without, "topic", "schema_topic", "partition")
		}
		if all[i].Name == "pull" {
			without = append(without, "batch", "retry", "refused", "destination")
		}
		if !all[i].Markers {
			without = append(without, "deletes")
		}
		fields["format"].(map[string]any)["enum"] = all[i].Formats
		if slices.Equal(all[i].Formats, []string{string(encode.FormatTable)}) {
			without = append(without, append(definition.OfMessages, "format")...)
		}
		for _, name := range without {
			delete(fields, name)
		}
		all[i].Outlet = schema
	}
	return all
}

// Engine is what an engine is and offers, with all that a form needs to know of it.
type Engine struct {
	Name         change.Engine       `json:"name" doc:"As a source's definition names it"`
	Title        string              `json:"title"`
	Capabilities []engine.Capability `json:"capabilities" doc:"scripts: an administrator's scripts; trial: following without storing; condition: reloads of the rows that a condition chooses; retained_log: how much log the source keeps for us"`
	// Connection and Source have their references resolved.
	Connection any `json:"connection" doc:"JSON Schema of the section connection of a source's definition"`
	Source     any `json:"source" doc:"JSON Schema of the rest of a source's definition"`
}

// enginesOf lists the engines with their schemas.
func enginesOf(r huma.Registry) []Engine {
	all := make([]Engine, len(engines.All))
	for i, k := range engines.All {
		source := schemaMap(r, "Source")
		fields := source["properties"].(map[string]any)
		connection := fields["connection"].(map[string]any)
		its := make(map[string]bool)
		required := []string{}
		for _, f := range settings.Fields(k.Connection()) {
			its[f.Path] = true
			if f.Required {
				required = append(required, f.Path)
			}
			if one, is := connection["properties"].(map[string]any)[f.Path].(map[string]any); is {
				if f.Default != "" {
					one["default"] = plainDefault(&f)
				}
				one["description"] = f.Doc
				if f.Example != "" {
					one["examples"] = []any{f.Example}
				}
			}
		}
		connection["required"] = required
		for name := range connection["properties"].(map[string]any) {
			if !its[name] {
				delete(connection["properties"].(map[string]any), name)
			}
		}
		delete(fields, "connection")
		all[i] = Engine{k.Name, k.Title, engine.Capabilities(k.Bare), connection, source}
	}
	return all
}

// plainDefault is a field's default as JSON has it.
func plainDefault(f *settings.Field) any {
	var v any
	if f.Type == settings.Number && json.Unmarshal([]byte(f.Default), &v) == nil {
		return v
	}
	return f.Default
}

func formatNames[F ~string](formats []F) []string {
	names := make([]string, len(formats))
	for i, f := range formats {
		names[i] = string(f)
	}
	return names
}
