package change

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTreatmentsOfFormerVersions: a version that was kept with the treatment in its type's
// name is read as the same version, under the same fingerprint.
func TestTreatmentsOfFormerVersions(t *testing.T) {
	former := []byte(`{"engine":"postgresql","table":"public.patrons","columns":[{"name":"id","type":"bigint","rule":"integer","bits":64,"nullable":false,"key":1},` +
		`{"name":"email","type":"text (hashed)","rule":"text","nullable":true},{"name":"pin","type":"numeric(8,2) (masked)","rule":"text","nullable":false}],"left_out":["born"]}`)
	read, err := ParseSchema(former)
	require.NoError(t, err)
	require.Equal(t, "d14c872160897f05", read.Fingerprint().String())
	require.Equal(t, []Treatment{"", Hashed, Masked}, []Treatment{read.Columns[0].Treatment, read.Columns[1].Treatment, read.Columns[2].Treatment})
	require.Equal(t, "numeric(8,2)", read.Columns[2].Type)
	require.Equal(t, "numeric(8,2) (masked)", read.Columns[2].TypeName())
	again, err := ParseSchema(read.Definition())
	require.NoError(t, err)
	require.Equal(t, read.Fingerprint(), again.Fingerprint())
	made := NewSchema(PostgreSQL, "public.patrons", read.Columns, []string{"born"}, false)
	require.Equal(t, read.Fingerprint(), made.Fingerprint())
	described, err := json.Marshal(read.JSONSchema("http://rillmark.example/v1/schemas/"))
	require.NoError(t, err)
	require.Contains(t, string(described), `"x-treatment":"hashed","x-type":"text"`)
}

// TestUnsigned: all 64 bits of a number without a sign have their place in each form.
func TestUnsigned(t *testing.T) {
	c := Column{Name: "n", Type: "bigint unsigned", Rule: RuleUnsigned, Bits: 64}
	schema, err := json.Marshal(columnSchema(c))
	require.NoError(t, err)
	require.Contains(t, string(schema), `"maximum":18446744073709551615,"minimum":0`)
	require.Equal(t, FormRaw, c.Rule.Form())
	precision, scale, fixed := c.DecimalSize()
	require.Equal(t, []any{20, 0, true}, []any{precision, scale, fixed})
	avro, err := json.Marshal(avroTypes(c, "e"))
	require.NoError(t, err)
	require.JSONEq(t, `[{"type":"bytes","logicalType":"decimal","precision":20,"scale":0},"string"]`, string(avro))
	require.Equal(t, "12", string(Engine("other").AppendPosition(nil, 12)), "an unknown engine's places are not guessed at")
	require.Equal(t, "0/19A2F48", string(PostgreSQL.AppendPosition(nil, 0x19A2F48)))
}
