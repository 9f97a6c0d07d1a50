package encode

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
)

// TestFormats: what each format makes of one update, for a destination that carries keys
// and headers.
func TestFormats(t *testing.T) {
	row := `{"branch":"Alder Quay","loan_id":9007199254740993,"price \"net\"":"1.10","weight":1.5,"cover":"AP8=","tags":{"a": [1]},"note":"a \"line\"\n","_operation":"update","_offset":4821}`
	for format, want := range map[Format]struct {
		contentType, body string
		headers           []string
		flat              bool
	}{
		FormatCloudEvents:       {"application/cloudevents+json", `{"specversion":"1.0","id":"circulation/1/4821",`, []string{"rillmark-id"}, false},
		FormatCloudEventsBinary: {"application/json", `{"operation":"update",`, []string{"specversion", "id", "source", "type", "subject", "time", "dataschema", "sequence", "partitionkey"}, false},
		FormatData:              {"application/json", `{"operation":"update",`, []string{"rillmark-id", "rillmark-type", "rillmark-table"}, false},
		FormatRow:               {"application/json", row, []string{"rillmark-id", "rillmark-type", "rillmark-table", "rillmark-schema"}, true},
		FormatAvro:              {"application/avro", "frame", []string{"rillmark-id", "rillmark-type", "rillmark-table", "rillmark-schema"}, true},
		FormatParquet:           {"", "", []string{"rillmark-id", "rillmark-type", "rillmark-table", "rillmark-schema"}, true},
	} {
		t.Run(string(format), func(t *testing.T) {
			require.Equal(t, want.flat, format.Flat())
			m := NewMaker(Shape{Address: "http://rillmark.example", Format: format}, Capabilities{Key: true, Order: true, Headers: true})
			m.Frame = func(*change.Schema) ([]byte, error) { return []byte("frame"), nil }
			var registered []string
			m.Register = func(s *change.Schema) error {
				registered = append(registered, s.Table)
				return nil
			}
			var b Batch
			for range 2 {
				require.NoError(t, m.Append(&b, update(), true))
			}
			require.Len(t, b.Messages, 2)
			msg := b.Messages[1]
			require.Equal(t, want.contentType, msg.ContentType)
			require.GreaterOrEqual(t, len(msg.Body), len(want.body))
			require.Equal(t, want.body, string(msg.Body[:len(want.body)]))
			if want.contentType != "" && format != FormatAvro {
				require.True(t, json.Valid(msg.Body), "%s", msg.Body)
			}
			var names []string
			for _, h := range msg.Headers {
				names = append(names, h.Name)
				require.Equal(t, format == FormatCloudEventsBinary, h.Attribute, h.Name)
			}
			require.Equal(t, want.headers, names)
			require.Equal(t, `[9007199254740993,"Alder Quay"]`, string(msg.Key))
			require.Equal(t, "public.loans\x00"+string(msg.Key), string(msg.OrderingKey))
			if want.flat {
				require.Equal(t, []string{"public.loans"}, registered, "its version once, before its first message")
				require.Equal(t, msg.Schema, b.Messages[0].Schema)
			}
			if format == FormatParquet {
				require.Equal(t, "a \"line\"\n", string(msg.Row[6].Text))
				require.Len(t, msg.Row, len(msg.Schema.Columns))
			}
		})
	}
}
