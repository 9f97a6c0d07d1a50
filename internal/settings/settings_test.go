package settings

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// place is a section with one field of each type.
type place struct {
	Address string            `json:"address" title:"Address" example:"a:1"`
	Names   []string          `json:"names,omitempty" flag:"name" doc:"Several" advanced:"yes"`
	Count   int64             `json:"count,omitempty" default:"4" unit:"events" when:"on"`
	On      bool              `json:"on,omitempty"`
	Mode    string            `json:"mode,omitempty" enum:"a,b" doc:"How"`
	Headers map[string]string `json:"headers,omitempty" secret:"by-name"`
	Login   *login            `json:"login,omitempty" title:"Login" instead:"address" advanced:"yes"`
	TLS     *TLS              `json:"tls,omitempty" flag:"tls"`
	kept    string
	Ignored string `json:"-"`
}

type login struct {
	User     string `json:"user"`
	Password string `json:"password" secret:"yes"`
}

// TestFields: each field is described, in its order, a part before its own fields. Only
// a part with a flag of its own has one.
func TestFields(t *testing.T) {
	byPath := make(map[string]Field)
	var paths []string
	for _, f := range Fields(new(place)) {
		byPath[f.Path] = f
		paths = append(paths, f.Path)
	}
	require.Equal(t, []string{"address", "names", "count", "on", "mode", "headers", "login", "login.user", "login.password", "tls", "tls.root", "tls.server_name", "tls.certificate", "tls.key"}, paths)
	require.Equal(t, []Type{Text, List, Number, Switch, Pairs, Part}, []Type{byPath["address"].Type, byPath["names"].Type, byPath["count"].Type, byPath["on"].Type, byPath["headers"].Type, byPath["login"].Type})
	require.Equal(t, []string{"address", "name", "", "login-password", "tls", "tls-root"}, []string{byPath["address"].Flag, byPath["names"].Flag, byPath["login"].Flag, byPath["login.password"].Flag, byPath["tls"].Flag, byPath["tls.root"].Flag})
	require.True(t, byPath["address"].Required)
	require.False(t, byPath["count"].Required)
	require.True(t, byPath["login.password"].Secret)
	require.True(t, byPath["login.user"].Advanced, "what stands in an advanced part is advanced")
	mode, names, inside := byPath["mode"], byPath["names"], byPath["login"]
	require.Equal(t, []string{"How: a, b", "Several", "Login, instead of address"}, []string{mode.About(), names.About(), inside.About()})
	require.Contains(t, Markdown("p", Fields(new(place))), "| `p.address` | `--address` | **needed**; Address |")
}

// TestSecrets: every secret is found under its place, and changed; a clone's stay as
// they are.
func TestSecrets(t *testing.T) {
	one := &place{Headers: map[string]string{"X-Api-Key": "k", "X-Team": "desk"}, Login: &login{User: "u", Password: "p"}, kept: "x", Ignored: "y"}
	copied := Clone(one)
	found := make(map[string]string)
	EachSecret(copied, "at", func(name, secret string) string {
		found[name] = secret
		return "sealed"
	})
	require.Equal(t, map[string]string{"at.headers.x-api-key": "k", "at.login.password": "p"}, found)
	require.Equal(t, []string{"sealed", "sealed", "desk", "u"}, []string{copied.Headers["X-Api-Key"], copied.Login.Password, copied.Headers["X-Team"], copied.Login.User})
	require.Equal(t, []string{"k", "p"}, []string{one.Headers["X-Api-Key"], one.Login.Password})
	EachSecret(new(place), "", func(name, _ string) string {
		t.Errorf("an empty secret is none: %s", name)
		return ""
	})
	require.Nil(t, Clone[*place](nil))
}

// TestFilesOfTLS: files are looked for wherever a section has a part for TLS.
func TestFilesOfTLS(t *testing.T) {
	var wrong *Invalid
	require.ErrorAs(t, CheckFiles(&place{TLS: &TLS{Root: "/nowhere/ca.pem"}}, "at"), &wrong)
	require.Equal(t, "at.tls.root", wrong.Location)
	require.NoError(t, CheckFiles(&place{TLS: &TLS{Root: "${file:/run/ca}"}}, "at"))
	require.NoError(t, CheckFiles(&place{}, "at"))
}
