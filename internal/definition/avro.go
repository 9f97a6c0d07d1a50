package definition

import (
	"rillmark/internal/settings"
	"rillmark/internal/shape"
)

// Avro is how Avro messages say which schema they follow.
type Avro struct {
	Framing  string        `json:"framing,omitempty" title:"Said by" enum:"single-object,registry" default:"single-object" doc:"How a message names its schema; single-object: by the schema's Avro fingerprint, GET /v1/avro-schemas/FINGERPRINT; registry: by the number that a schema registry gave it"`
	Registry string        `json:"registry,omitempty" title:"Registry" when:"framing=registry" example:"http://127.0.0.1:8081" doc:"The registry's address, such as http://127.0.0.1:8081"`
	Schemas  string        `json:"schemas,omitempty" title:"Schemas" when:"framing=registry" enum:"ours,registered" default:"ours" doc:"Which schemas messages follow; ours: those of the tables, each registered as the next one of its subject; registered: the newest one that the registry has of the subject, to whose fields rows are fitted by their names; nothing is registered"`
	Subject  string        `json:"subject,omitempty" title:"Subject" when:"framing=registry" maxLength:"200" example:"{schema}.{table}-value" doc:"Subject of a table, built from {source}, {schema} and {table}; without it the name of the record, such as public.loans"`
	TLS      *settings.TLS `json:"tls,omitempty" title:"TLS of the registry" when:"framing=registry" advanced:"yes" doc:"How an https registry is checked; the system's own certificates are trusted without it"`
}

func (a *Avro) validate() error {
	switch {
	case a == nil:
		return nil
	case a.Framing == "registry" && a.Registry == "":
		return settings.Wrong("avro.registry", "with the framing registry the registry's address is needed")
	case a.Schemas != "" && a.Schemas != "ours" && a.Schemas != AvroRegistered:
		return settings.Wrong("avro.schemas", "unknown schemas %q: there are ours and registered", a.Schemas)
	case a.Framing != "registry" && a.Schemas == AvroRegistered:
		return settings.Wrong("avro.schemas", "registered goes with the framing registry")
	case a.Framing != "registry" && a.Subject != "":
		return settings.Wrong("avro.subject", "goes with the framing registry")
	}
	if a.Registry != "" {
		if err := settings.AbsoluteURL("avro.registry", a.Registry); err != nil {
			return err
		}
		if err := a.TLS.Validate("avro.tls"); err != nil {
			return err
		}
	}
	t, err := shape.ParseTemplate(a.Subject)
	if err != nil {
		return settings.Wrong("avro.subject", "%s", err)
	}
	if _, depends := t.Channel("source", "public.loans"); len(depends) > 0 {
		return settings.Wrong("avro.subject", "a subject is that of a table: it is built from {source}, {schema} and {table}")
	}
	return nil
}

// AvroRegistered has rows fitted to schemas that are registered already.
const AvroRegistered = "registered"
