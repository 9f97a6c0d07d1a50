package mariadb

import (
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
)

// TestTypeFor: a type holds its column's values, and a key fits into an index.
func TestTypeFor(t *testing.T) {
	for _, one := range []struct {
		engine change.Engine
		column change.Column
		want   string
	}{
		{change.PostgreSQL, change.Column{Type: "numeric(8,2)", Rule: change.RuleDecimal}, "decimal(8,2)"},
		{change.PostgreSQL, change.Column{Type: "numeric(8,-2)", Rule: change.RuleDecimal}, "longtext"},
		{change.PostgreSQL, change.Column{Type: "numeric(70,2)", Rule: change.RuleDecimal}, "longtext"},
		{change.PostgreSQL, change.Column{Type: "numeric", Rule: change.RuleDecimal}, "longtext"},
		{change.PostgreSQL, change.Column{Type: "character varying(40)", Rule: change.RuleText}, "varchar(40)"},
		{change.PostgreSQL, change.Column{Type: "text", Rule: change.RuleText, Key: 1}, "varchar(764)"},
		{change.PostgreSQL, change.Column{Type: "bytea", Rule: change.RuleBinary, Key: 1}, "varbinary(3056)"},
		{change.PostgreSQL, change.Column{Type: "bigint", Rule: change.RuleInteger, Bits: 64, Treatment: change.Masked}, "longtext"},
		{change.MariaDB, change.Column{Type: "int(10) unsigned zerofill", Rule: change.RuleInteger, Bits: 64}, "int(10) unsigned zerofill"},
		{change.MariaDB, change.Column{Type: "enum", Rule: change.RuleEnum, Labels: []string{"a", "it's"}}, "enum('a','it''s')"},
		{change.MariaDB, change.Column{Type: "longtext", Rule: change.RuleJSON}, "json"},
	} {
		one.column.Name = "c"
		schema := change.NewSchema(one.engine, "t", []change.Column{one.column}, nil, false)
		require.Equal(t, one.want, typeFor(schema, &schema.Columns[0], true), "%+v", one.column)
	}
}

// TestLiterals: no value ends its literal, and what is no number is not written as one.
func TestLiterals(t *testing.T) {
	require.Equal(t, `'it''s \ '''`, literal(`it's \ '`))
	for text, want := range map[string]string{"-1.5": "-1.5", "1e+300": "1e+300", "NaN": "'NaN'", "": "", "1;DROP": "'1;DROP'", "e5": "'e5'"} {
		got, err := number(nil, []byte(text))
		require.NoError(t, err)
		require.Equal(t, want, string(got))
	}
	require.Equal(t, `a\tb\nc\\N\0`, string(appendLoaded(nil, []byte("a\tb\nc\\N\x00"))))
	_, err := geometry(nil, []byte{1, 2})
	require.Error(t, err)
}
