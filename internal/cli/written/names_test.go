package written

import (
	"testing"

	"github.com/spf13/pflag"
	"github.com/stretchr/testify/require"
)

// TestNames: a list in a flag is taken apart at its commas, names in quotes stay whole.
func TestNames(t *testing.T) {
	for text, want := range map[string][]string{
		"public.loans":                  {"public.loans"},
		"public.loans, public.*":        {"public.loans", "public.*"},
		`named."do.t"`:                  {`named."do.t"`},
		`named."a,b",public."c\"d,e",x`: {`named."a,b"`, `public."c\"d,e"`, "x"},
		"":                              nil,
	} {
		var got []string
		flags := pflag.NewFlagSet("", pflag.ContinueOnError)
		flags.Var(NamesIn(&got), "tables", "")
		require.NoError(t, flags.Parse([]string{"--tables", text}), text)
		require.Equal(t, want, got, text)
	}
	var got []string
	flags := pflag.NewFlagSet("", pflag.ContinueOnError)
	flags.Var(NamesIn(&got), "tables", "")
	require.NoError(t, flags.Parse([]string{"--tables", "a,b", "--tables", "c"}))
	require.Equal(t, []string{"a", "b", "c"}, got)
	require.ErrorContains(t, flags.Parse([]string{"--tables", `a."b`}), "not closed")
}
