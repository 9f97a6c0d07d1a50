package explaining

import (
	"context"
	"encoding/json"
	"strconv"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/service/base"
	"rillmark/internal/service/framing"
	"rillmark/internal/shape"
)

// AsyncAPI is an AsyncAPI 3 document of what an outlet sends: a channel for each
// topic, with the messages of each of its tables.
func (s *Explaining) AsyncAPI(ctx context.Context, name string) (map[string]any, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	d := record.Definition
	if err := d.Validate(); err != nil {
		return nil, err
	}
	protocol, host := "http", strings.TrimPrefix(strings.TrimPrefix(s.Config.PublicURL, "https://"), "http://")
	if d.Destination != "" {
		to, err := s.Catalog.Destination(ctx, d.Destination)
		if err != nil {
			return nil, base.Answer(err, "destination", d.Destination)
		}
		if err := d.ValidateFor(&to.Definition); err != nil {
			return nil, err
		}
		protocol, host = to.Definition.Kind, strings.Fields(to.Definition.Where() + " -")[0]
	}
	versions, err := s.NewestVersions(ctx, &d)
	if err != nil {
		return nil, err
	}
	rows, err := s.Forms(ctx, &d)
	if err != nil {
		return nil, err
	}
	if versions, err = base.Formed(rows, versions); err != nil {
		return nil, err
	}
	doc := &asyncDocument{address: s.Config.PublicURL, outlet: &d, name: name, channels: map[string]any{}, operations: map[string]any{}, messages: map[string]any{}, schemas: map[string]any{}}
	framed := framing.New(&d, s.Guard)
	fitted := framing.RowsOf(&d, func() (destination.Destination, error) { return s.Destination(d) })
	for _, version := range versions {
		var registered string
		switch {
		case framed.Registered():
			registered, err = framed.Newest(ctx, version)
		case fitted != nil:
			registered, err = fitted.Newest(ctx, version)
		}
		if err != nil {
			return nil, err
		}
		if err := doc.table(version, registered); err != nil {
			return nil, err
		}
	}
	return map[string]any{
		"asyncapi": "3.0.0",
		"info": map[string]any{"title": "Outlet " + name, "version": "1." + strconv.FormatInt(record.Version, 10) + ".0",
			"description": "Changes of the source " + d.Source + ", in the format " + string(d.Format) + ". " + d.Description},
		"defaultContentType": contentType(d.Format),
		"servers":            map[string]any{"destination": map[string]any{"host": host, "protocol": protocol}},
		"channels":           doc.channels,
		"operations":         doc.operations,
		"components":         map[string]any{"messages": doc.messages, "schemas": doc.schemas},
	}, nil
}

func contentType(format encode.Format) string {
	switch format {
	case encode.FormatCloudEvents:
		return "application/cloudevents+json"
	case encode.FormatAvro:
		return "application/avro"
	case encode.FormatParquet:
		return "application/vnd.apache.parquet"
	default:
		return "application/json"
	}
}

type asyncDocument struct {
	address    string
	name       string
	outlet     *definition.Outlet
	channels   map[string]any
	operations map[string]any
	messages   map[string]any
	schemas    map[string]any
}

// identifier is a name that may stand in a reference.
func identifier(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '.' || r == '_' || r == '-' {
			return r
		}
		return '_'
	}, s)
}

// table describes the messages of a table; registered is the schema that they follow where that is
// not ours.
func (a *asyncDocument) table(v *change.Schema, registered string) error {
	topic := "/v1/outlets/" + a.name + "/events"
	if a.outlet.Destination != "" {
		topic = a.outlet.Destination
	}
	parameters := map[string]any{}
	if a.outlet.Topic != "" {
		t, err := shape.ParseTemplate(a.outlet.Topic)
		if err != nil {
			return err
		}
		var names []string
		topic, names = t.Channel(a.outlet.Source, v.Table)
		for _, name := range names {
			parameters[name] = map[string]any{"description": "From the event"}
		}
	}
	id := identifier(topic)
	message := identifier(v.Table)
	row := "row." + message
	a.schemas[row] = v.JSONSchema(a.address + "/v1/schemas/" + v.Fingerprint().String())
	payload := map[string]any{"$ref": "#/components/schemas/" + row}
	if a.outlet.Format == encode.FormatCloudEvents || a.outlet.Format == encode.FormatData || a.outlet.Format == encode.FormatCloudEventsBinary {
		payload = map[string]any{"type": "object", "description": "The data of the event, with the row in before and after",
			"properties": map[string]any{"operation": map[string]any{"type": "string"}, "table": map[string]any{"const": v.Table},
				"before": map[string]any{"oneOf": []any{payload, map[string]any{"type": "null"}}}, "after": map[string]any{"oneOf": []any{payload, map[string]any{"type": "null"}}}}}
		if a.outlet.Format == encode.FormatCloudEvents {
			payload = map[string]any{"type": "object", "required": []string{"specversion", "id", "source", "type", "data"},
				"properties": map[string]any{"specversion": map[string]any{"const": "1.0"}, "id": map[string]any{"type": "string"}, "source": map[string]any{"type": "string"},
					"type": map[string]any{"type": "string"}, "subject": map[string]any{"const": v.Table}, "data": payload}}
		}
	}
	shown := any(payload)
	if registered != "" && a.outlet.Format == encode.FormatParquet {
		shown = map[string]any{"schemaFormat": contentType(a.outlet.Format), "schema": registered}
	}
	if a.outlet.Format == encode.FormatAvro {
		schema := any(v.AvroSchema())
		if registered != "" {
			schema = json.RawMessage(registered)
		}
		shown = map[string]any{"schemaFormat": "application/vnd.apache.avro;version=1.9.0", "schema": schema}
	}
	a.messages[message] = map[string]any{"name": message, "title": "A change of " + v.Table, "contentType": contentType(a.outlet.Format), "payload": shown}
	channel, _ := a.channels[id].(map[string]any)
	if channel == nil {
		channel = map[string]any{"address": topic, "messages": map[string]any{}}
		if len(parameters) > 0 {
			channel["parameters"] = parameters
		}
		a.channels[id] = channel
		a.operations["send."+id] = map[string]any{"action": "send", "channel": map[string]any{"$ref": "#/channels/" + id}}
	}
	channel["messages"].(map[string]any)[message] = map[string]any{"$ref": "#/components/messages/" + message}
	return nil
}
