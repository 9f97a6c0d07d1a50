package encode

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/expression"
	"rillmark/internal/shape"
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

// TestFormsInFormats: every format writes rows in their form, under the version that it
// registers; a row that is refused is known under the key that goes out.
func TestFormsInFormats(t *testing.T) {
	formulas, err := expression.NewFormulas(nil)
	require.NoError(t, err)
	table, err := shape.ParsePattern("public.loans")
	require.NoError(t, err)
	column := func(match string, treat shape.Treat, name string) shape.ColumnForm {
		p, err := shape.ParseColumnPattern(match)
		require.NoError(t, err)
		return shape.ColumnForm{Match: p, Treat: treat, Name: name}
	}
	rows := &shape.Rows{Formulas: formulas, HashKey: []byte("key"), Forms: []shape.RowForm{{Match: table,
		Columns: []shape.ColumnForm{column("tags", shape.Drop, ""), column("branch", shape.Hash, "place"), column("note", shape.Keep, "remark"), column("cover", shape.Mask, "")},
		New:     []shape.NewColumn{{Name: "loud", Is: "note.upperAscii()"}, {Name: "strict", Is: "100 / note.size()"}}}}}
	hashed := string(shape.NewHasher([]byte("key"))(nil, []byte("Alder Quay")))
	for _, format := range []Format{FormatCloudEvents, FormatCloudEventsBinary, FormatData, FormatRow, FormatAvro, FormatParquet, FormatTable} {
		t.Run(string(format), func(t *testing.T) {
			m := NewMaker(Shape{Format: format, Rows: rows, Changed: format == FormatRow, Along: func(s *change.Schema) []int { return []int{4, 5} }}, Capabilities{Key: true, Order: true})
			m.Frame = func(*change.Schema) ([]byte, error) { return nil, nil }
			registered := make(map[change.Fingerprint]*change.Schema)
			m.Register = func(s *change.Schema) error {
				registered[s.Fingerprint()] = s
				return nil
			}
			var b Batch
			require.NoError(t, m.Append(&b, update(), true))
			refused := update()
			refused.After[6] = change.Of("")
			require.NoError(t, m.Append(&b, refused, true))
			require.NoError(t, m.Append(&b, &change.Event{Operation: change.Definition, Table: "public.loans", Schema: loans, Body: []byte(`{"definition":null,"previous":null}`)}, false))
			require.Len(t, b.Messages, 2)
			require.Len(t, registered, 1, "the version that goes out, and no other")
			key := `[9007199254740993,"` + hashed + `"]`
			for _, msg := range b.Messages {
				require.Equal(t, key, string(msg.Key))
				require.Equal(t, "public.loans\x00"+key, string(msg.OrderingKey))
			}
			require.ErrorContains(t, b.Messages[1].EncodeError, `"strict" cannot be computed: division by zero`)
			msg := b.Messages[0]
			require.NoError(t, msg.EncodeError)
			for _, s := range registered {
				require.Nil(t, s.Column("tags"))
				require.NotNil(t, s.Column("remark"))
				require.Equal(t, "bigint", s.Column("strict").Type)
			}
			switch format {
			case FormatParquet, FormatTable:
				require.Equal(t, []string{hashed, "***", "A \"LINE\"\n"}, []string{string(msg.Row[0].Text), string(msg.Row[4].Text), string(msg.Row[6].Text)})
			case FormatAvro:
				require.Contains(t, string(msg.Body), hashed)
			case FormatRow:
				require.JSONEq(t, `{"loan_id":9007199254740993,"place":"`+hashed+`","weight":1.5,"cover":"***","remark":"a \"line\"\n","loud":"A \"LINE\"\n","strict":11,"_operation":"update","_offset":4821}`, string(msg.Body), "what has changed, and what comes along and goes out")
			default:
				require.Contains(t, string(msg.Body), `"after":{"place":"`+hashed+`","loan_id":9007199254740993,"price \"net\"":"1.10","weight":1.5,"cover":"***","remark":"a \"line\"\n","loud":"A \"LINE\"\n","strict":11}`)
				require.NotContains(t, string(msg.Body), "Alder")
				require.NotContains(t, string(msg.Body), "tags")
			}
		})
	}
}
