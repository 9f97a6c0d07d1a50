package change

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"unicode/utf8"
)

// The documents of events that are not rows: see [Event.Body].

// SchemaChange is the document of a schema event.
type SchemaChange struct {
	Fingerprint string  `json:"fingerprint,omitempty"`
	Definition  *Schema `json:"definition"` // nil for a table that is gone
	Previous    *Schema `json:"previous"`
	// Rewrites says that rows have changed without an event.
	Rewrites bool `json:"rewrites"`
	// Filled has the value that each row which was there got in a column that came with the
	// change, where it is known: as [FilledJSON] has it. New columns that are not in it are null.
	Filled map[string]json.RawMessage `json:"filled,omitempty"`
	// Statement and Renamed are there where the source says what was done: Statement has
	// all statements on the table since its last schema event.
	Statement string `json:"statement,omitempty"`
	// Session is the number of the session on the source that ran the last of them, where
	// the source's log has it; else 0.
	Session uint32   `json:"session,omitempty"`
	Renamed []Rename `json:"renamed,omitempty"`
}

// Rename is a column under its old and its new name.
type Rename struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// Encode is the document as JSON.
func (c *SchemaChange) Encode() []byte { return mustMarshal(c) }

// TruncateBody is the document of a truncate.
func TruncateBody(cascade, restartIdentity bool) []byte {
	return mustMarshal(map[string]bool{"cascade": cascade, "restart_identity": restartIdentity})
}

// TooLargeBody is the document of a row of which values were left out: their sizes in
// bytes by column.
func TooLargeBody(sizes map[string]int64) []byte { return mustMarshal(sizes) }

// MessageBody is the document of what an application wrote into the log. A content
// that is JSON is nested, one that is text is a string, any other is base64.
func MessageBody(prefix string, content []byte) []byte {
	body := map[string]any{"prefix": prefix}
	switch {
	case len(content) > 0 && (content[0] == '{' || content[0] == '[') && json.Valid(content):
		var compact bytes.Buffer
		json.Compact(&compact, content) //nolint:errcheck // it is valid
		body["content"] = json.RawMessage(compact.Bytes())
	case utf8.Valid(content):
		body["content"] = string(content)
	default:
		body["content_base64"] = base64.StdEncoding.EncodeToString(content)
	}
	return mustMarshal(body)
}

func mustMarshal(v any) []byte {
	encoded, err := json.Marshal(v)
	if err != nil {
		panic(err) // strings, numbers, booleans and valid JSON always marshal
	}
	return encoded
}
