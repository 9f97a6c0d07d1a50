package rehearsal

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestObjectOf: which table or type a statement changes, as the server folds and quotes names, and what is
// refused before any server sees it.
func TestObjectOf(t *testing.T) {
	for statement, want := range map[string]string{
		"ALTER TABLE loans ADD note text":                                     "public.loans",
		"alter table if exists only Public . Loans rename to lendings":        "public.loans",
		"/* a /* nested */ comment */ ALTER -- here\n TABLE\tloans ADD x int": "public.loans",
		`ALTER TABLE "Loans" ADD x int`:                                       "public.Loans",
		`ALTER TABLE desk."odd ""name""" ADD x int`:                           `desk.odd "name"`,
		`ALTER TABLE "a.b"."c" ADD x int`:                                     "a.b.c",
		"ALTER TABLE loans* ADD x int":                                        "public.loans",
		"ALTER TABLE bücher ADD x int":                                        "public.bücher",
		"DROP TABLE IF EXISTS desk.visits CASCADE":                            "desk.visits",
		"ALTER TYPE state ADD VALUE 'x'":                                      "public.state (type)",
		"drop domain if exists desk.\"Fee\" cascade":                          "desk.Fee (type)",
	} {
		o, err := objectOf(statement)
		require.NoError(t, err, statement)
		if o.isType {
			o.name += " (type)"
		}
		require.Equal(t, want, o.schema+"."+o.name, statement)
	}
	for statement, told := range map[string]string{
		"":                         "no ALTER TABLE",
		"SELECT 1":                 "no ALTER TABLE",
		"ALTER TYPE":               "names no type",
		"DROP DOMAIN a, b":         "several domains",
		"DROP SCHEMA public":       "no ALTER TABLE",
		"-- only a comment":        "no ALTER TABLE",
		"/* never ends":            "no ALTER TABLE",
		"ALTER TABLE":              "names no table",
		"ALTER TABLE 1x ADD y int": "names no table",
		`ALTER TABLE "loans`:       "names no table",
		`ALTER TABLE ""`:           "names no table",
		"ALTER TABLE desk.":        "is cut off",
		"ALTER TABLE a.b.c ADD x":  "more than two parts",
		"DROP TABLE loans, holds":  "several tables",
		"ALTER TABLE ALL IN TABLESPACE pg_default SET TABLESPACE x": "all tables of a tablespace",
		"ALTER TABLE loans " + strings.Repeat("x", maxStatement):    "more than 16384 bytes",
	} {
		_, err := objectOf(statement)
		require.ErrorContains(t, err, told, statement)
	}
}
