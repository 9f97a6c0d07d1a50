package catalog

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestKeeper: what is sealed can be opened with the same key alone, is never shown, and
// stays what it is whatever it looks like.
func TestKeeper(t *testing.T) {
	file := filepath.Join(t.TempDir(), "keys", "key")
	k, err := NewKeeper(file)
	require.NoError(t, err)
	again, err := NewKeeper(file)
	require.NoError(t, err)
	for _, secret := range []string{"pass word", "with $$ and ${env:HOME} in it", "ü\n", "(sealed)"} {
		if IsReference(secret) {
			continue
		}
		sealed := k.seal("source/a/password", secret)
		require.NotContains(t, sealed, secret)
		require.Equal(t, Sealed, Show(sealed))
		kept, err := k.resealed("source/a/password", sealed)
		require.NoError(t, err)
		require.Equal(t, sealed, kept, "what is sealed is not sealed twice")
		opened, err := again.open("source/a/password", sealed)
		require.NoError(t, err)
		require.Equal(t, secret, opened)
		for _, place := range []string{"source/b/password", "destination/a/password", "source/a/hash_key", ""} {
			_, err = k.open(place, sealed)
			require.ErrorContains(t, err, "sealed for another place", "it is good for its place alone")
		}
	}
	require.NotEqual(t, k.seal("p", "a"), k.seal("p", "a"), "equal secrets do not look equal")
	require.Equal(t, "${env:RILLMARK_SECRET_A}", k.seal("p", "${env:RILLMARK_SECRET_A}"))
	require.Equal(t, "plain", Show("plain"))
	other, err := NewKeeper(filepath.Join(t.TempDir(), "key"))
	require.NoError(t, err)
	_, err = other.open("p", k.seal("p", "a"))
	require.ErrorContains(t, err, "the service's key is not the one")
	for _, damaged := range []string{sealedPrefix + "!", sealedPrefix + "YQ=="} {
		_, err = k.open("p", damaged)
		require.ErrorContains(t, err, "damaged")
	}
	require.Equal(t, "keeper keeper", fmt.Sprintf("%v %#v", k, k))

	require.NoError(t, os.Chmod(file, 0o640))
	_, err = NewKeeper(file)
	require.ErrorContains(t, err, "can be read by others")
	require.NoError(t, os.Chmod(file, 0o600))
	require.NoError(t, os.WriteFile(file, []byte("short"), 0o600))
	_, err = NewKeeper(file)
	require.ErrorContains(t, err, "32 bytes in base64")
}

// TestReferences: a definition reaches what the configuration allows, and nothing else.
func TestReferences(t *testing.T) {
	inside, outside := t.TempDir(), t.TempDir()
	for _, file := range []string{filepath.Join(inside, "password"), filepath.Join(outside, "password")} {
		require.NoError(t, os.WriteFile(file, []byte("from a file\n"), 0o600))
	}
	require.NoError(t, os.Symlink(filepath.Join(outside, "password"), filepath.Join(inside, "link")))
	t.Setenv("RILLMARK_SECRET_A", "va$$lue ${env:RILLMARK_SECRET_B}")
	t.Setenv("RILLMARK_TOKEN", "the service's own")
	t.Setenv("DESK_PASSWORD", "of the desk")
	k, err := NewKeeper(filepath.Join(t.TempDir(), "key"))
	require.NoError(t, err)
	k.References.Folders = []string{inside}
	for _, c := range []struct{ text, want, told string }{
		{"postgres://user:${env:RILLMARK_SECRET_A}@host", "postgres://user:va$$lue ${env:RILLMARK_SECRET_B}@host", ""},
		{"a$$b $${env:X}", "a$b ${env:X}", ""},
		{"${file:" + inside + "/password}", "from a file", ""},
		{"${env:RILLMARK_SECRET_NONE}", "", "has no variable"},
		{"${env:RILLMARK_TOKEN}", "", "may not refer to the variable"},
		{"${env:DESK_PASSWORD}", "", "may not refer to the variable"},
		{"${file:" + outside + "/password}", "", "may not refer to the file"},
		{"${file:" + inside + "/link}", "", "may not refer to the file"},
		{"${file:" + inside + "/../" + filepath.Base(outside) + "/password}", "", "may not refer to the file"},
		{"${file:password}", "", "may not refer to the file"},
	} {
		got, err := k.Expand(c.text)
		if c.told == "" {
			require.NoError(t, err, c.text)
			require.Equal(t, c.want, got)
			continue
		}
		require.ErrorContains(t, err, c.told, c.text)
	}
	k.References.Prefixes = []string{"RILLMARK_", "DESK_"}
	_, err = k.Expand("${env:RILLMARK_TOKEN}")
	require.Error(t, err, "the service's own token is in no prefix")
	got, err := k.Expand("${env:DESK_PASSWORD}")
	require.NoError(t, err)
	require.Equal(t, "of the desk", got)

	d := &secretiveParts{Password: k.seal("source/a/password", "s $$"), Nested: &struct{ List []string }{[]string{"${env:DESK_PASSWORD}", "plain"}}, Headers: map[string]string{"x": k.seal("source/a/headers.x", "h")}}
	require.NoError(t, k.OpenAll("source/a", d, d))
	require.Equal(t, []string{"s $$", "of the desk", "plain", "h"}, []string{d.Password, d.Nested.List[0], d.Nested.List[1], d.Headers["x"]})
	// What stands for others is not shown, but where the definition itself shows the same word.
	d = &secretiveParts{Password: k.seal("source/b/password", "library"), Nested: &struct{ List []string }{[]string{"library", "${env:DESK_PASSWORD}"}}, Headers: map[string]string{"x": k.seal("source/b/headers.x", "made-up/secret")}}
	require.NoError(t, k.OpenAll("source/b", d, d))
	require.Equal(t, "user library at ${env:DESK_PASSWORD}: (sealed), (sealed)", k.Conceal("user library at of the desk: made-up/secret, made-up%2Fsecret"))
	d = &secretiveParts{Headers: map[string]string{"x": k.seal("source/a/password", "h")}}
	require.ErrorContains(t, k.OpenAll("source/a", d), "headers.x: a sealed secret cannot be opened")
}

type secretiveParts struct {
	Password string
	Nested   *struct{ List []string }
	Headers  map[string]string
}

func (d *secretiveParts) EachSecret(change func(name, secret string) string) {
	d.Password = change("password", d.Password)
	for name, secret := range d.Headers {
		d.Headers[name] = change("headers."+name, secret)
	}
}

func (*secretiveParts) Reaches() string { return "" }
