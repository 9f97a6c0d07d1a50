package postgresql

import (
	"testing"

	"github.com/jackc/pgx/v5/pgtype"
	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
)

// TestPackings: what another reader of the server's binary forms makes of each value is that
// value, and what has no such form is left to text.
func TestPackings(t *testing.T) {
	m := pgtype.NewMap()
	for _, c := range []struct {
		kind  string
		rule  change.Rule
		oid   uint32
		fits  []string
		other map[string]string // those that read back in another text
		not   []string
	}{
		{"smallint", change.RuleInteger, pgtype.Int2OID, []string{"0", "-32768", "32767"}, nil, []string{"32768", "", "x", "1.0"}},
		{"integer", change.RuleInteger, pgtype.Int4OID, []string{"-2147483648", "2147483647"}, nil, []string{"2147483648"}},
		{"bigint", change.RuleUnsigned, pgtype.Int8OID, []string{"9223372036854775807"}, nil, []string{"9223372036854775808"}},
		{"numeric(8,2)", change.RuleDecimal, pgtype.NumericOID, []string{"0", "1", "-1", "10000", "9999", "-123456789.125", "0.1", "0.0001", "-0.00001234", "100000000", "1000000000000.00000001", "99999999999999999999999999999999.9"},
			map[string]string{"-0": "0", "0.00": "0"}, []string{"NaN", "Infinity", "1e5", "", "-", ".5", "5.", "1.2.3"}},
		{"boolean", change.RuleBoolean, pgtype.BoolOID, nil, map[string]string{"true": "t", "false": "f"}, []string{"t"}},
		{"real", change.RuleFloat, pgtype.Float4OID, []string{"1.5", "-0.25", "NaN"}, nil, []string{"x", "1e99"}},
		{"double precision", change.RuleFloat, pgtype.Float8OID, []string{"0.1", "-2.5"}, map[string]string{"Infinity": "+Inf", "-Infinity": "-Inf"}, []string{""}},
		{"uuid", change.RuleUUID, pgtype.UUIDOID, []string{"00112233-4455-6677-8899-aabbccddeeff"}, nil, []string{"00112233445566778899aabbccddeeff", "0011223g-4455-6677-8899-aabbccddeeff"}},
		{"date", change.RuleDate, pgtype.DateOID, []string{"2000-01-01", "1999-12-31", "2024-02-29", "0001-01-01", "9999-12-31", "1969-12-31"}, nil, []string{"2023-02-29", "0000-01-01", "infinity", "10000-01-01", "2026-1-1"}},
		{"timestamp(3) without time zone", change.RuleTimestamp, pgtype.TimestampOID, nil, map[string]string{"2026-11-23T09:00:00.000001": "2026-11-23 09:00:00.000001", "1999-12-31T23:59:59.999999": "1999-12-31 23:59:59.999999"},
			[]string{"infinity", "2026-11-23T24:00:00.000000", "2026-11-23T09:00:00.000000Z", "2026-11-23T09:00:60.000000"}},
		{"timestamp with time zone", change.RuleTimestampTZ, pgtype.TimestamptzOID, nil, map[string]string{"0001-01-01T00:00:00.000000Z": "0001-01-01 00:00:00Z"}, []string{"2026-11-23T09:00:00.000000", "-infinity"}},
		{"character varying(20)", change.RuleText, pgtype.VarcharOID, []string{"", "é\n\t\\", "\u0001"}, nil, nil},
		{"jsonb", change.RuleJSON, pgtype.JSONBOID, []string{`{"a": [1]}`, "null"}, nil, nil},
		{"bytea", change.RuleBinary, pgtype.ByteaOID, nil, map[string]string{"\x00\xff": `\x00ff`}, nil},
	} {
		pack := packingOf(&change.Column{Rule: c.rule}, c.kind)
		require.NotNil(t, pack, c.kind)
		want := make(map[string]string)
		for _, text := range c.fits {
			want[text] = text
		}
		for text, read := range c.other {
			want[text] = read
		}
		for text, read := range want {
			packed, fits := pack([]byte("before"), []byte(text))
			require.True(t, fits, "%s %q", c.kind, text)
			kind, known := m.TypeForOID(c.oid)
			require.True(t, known)
			value, err := kind.Codec.DecodeDatabaseSQLValue(m, c.oid, pgtype.BinaryFormatCode, packed[len("before"):])
			require.NoError(t, err, "%s %q", c.kind, text)
			shown, err := m.Encode(c.oid, pgtype.TextFormatCode, value, nil)
			require.NoError(t, err, "%s %q", c.kind, text)
			require.Equal(t, read, string(shown), "%s %q", c.kind, text)
		}
		for _, text := range c.not {
			_, fits := pack(nil, []byte(text))
			require.False(t, fits, "%s %q", c.kind, text)
		}
	}
	for kind, rule := range map[string]change.Rule{"integer": change.RuleText, "text": change.RuleEngineText, "interval": change.RuleDuration, "integer[]": change.RuleArray, "mood": change.RuleEnum, "money": change.RuleEngineText} {
		require.Nil(t, packingOf(&change.Column{Rule: rule}, kind), kind)
	}
	require.Nil(t, packingOf(&change.Column{Rule: change.RuleInteger, Treatment: change.Masked}, "integer"), "a masked value is no number")
	require.NotNil(t, packingOf(&change.Column{Rule: change.RuleInteger, Treatment: change.Hashed}, "text"))
}
