package test

import (
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/destination/kinds"
	"rillmark/internal/settings"
)

// TestWhatReferencesHoldIsNotShown: a secret in any text of any kind of destination is in no answer, no
// preview and no line of the log.
func TestWhatReferencesHoldIsNotShown(t *testing.T) {
	const planted = "zq7planted/4 secret"
	t.Setenv("RILLMARK_SECRET_PLANTED", planted)
	i, name := begin(t, "", "CREATE TABLE loans (id int PRIMARY KEY, note text)")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO loans VALUES (1, 'a')")
	i.reached("circulation", db)
	bare := map[string]map[string]any{
		"http": {"url": "http://127.0.0.1:1/"}, "kafka": {"brokers": []string{"127.0.0.1:1"}}, "nats": {"servers": []string{"nats://127.0.0.1:1"}}, "redis": {"address": "127.0.0.1:1"},
		"postgresql": {"host": "127.0.0.1", "port": 1, "database": "d", "user": "u", "tls": "disable"}, "mariadb": {"host": "127.0.0.1", "port": 1, "user": "u", "tls": "disable"},
		"file": {"bucket": map[string]any{"endpoint": "http://127.0.0.1:1", "name": "b", "region": "r", "access_key": "a", "secret_key": "s"}},
	}
	var said strings.Builder
	keep := func(raw []byte, err error) {
		require.NoError(t, err)
		said.Write(raw)
		said.WriteByte('\n')
	}
	n := 0
	for _, k := range kinds.All {
		require.Contains(t, bare, k.Name)
		for _, f := range settings.Fields(k.Settings()) {
			if f.Type == settings.Part || len(f.Choices) > 0 {
				continue
			}
			for _, text := range []string{"${env:RILLMARK_SECRET_PLANTED}", "http://127.0.0.1:1/${env:RILLMARK_SECRET_PLANTED}", "127.0.0.1:1${env:RILLMARK_SECRET_PLANTED}"} {
				section := copied(bare[k.Name])
				at := section
				path := strings.Split(f.Path, ".")
				for _, part := range path[:len(path)-1] {
					inner, is := at[part].(map[string]any)
					if !is {
						inner = map[string]any{}
						at[part] = inner
					}
					at = inner
				}
				switch f.Type {
				case settings.Text:
					at[path[len(path)-1]] = text
				case settings.List:
					at[path[len(path)-1]] = []string{text}
				case settings.Pairs:
					at[path[len(path)-1]] = map[string]string{"X-Planted": text, "X-Token": text}
				default:
					continue
				}
				if k.Name == "file" && path[0] != "bucket" {
					delete(section, "bucket")
				}
				to := map[string]any{"kind": k.Name, k.Name: section}
				one := fmt.Sprintf("d%d", n)
				n++
				_, raw, err := i.call(http.MethodPost, "/v1/destinations/"+one+"/check", to)
				keep(raw, err)
				outlet := map[string]any{"source": "circulation", "destination": one}
				_, raw, err = i.call(http.MethodPost, "/v1/preview", map[string]any{"outlet": outlet, "destination": to})
				keep(raw, err)
				code, raw, err := i.call(http.MethodPost, "/v1/destinations/"+one, to)
				keep(raw, err)
				if code != http.StatusCreated && code != http.StatusOK && code != http.StatusNoContent {
					continue
				}
				_, raw, err = i.call(http.MethodPost, "/v1/outlets/"+one, outlet)
				keep(raw, err)
				_, raw, err = i.call(http.MethodPost, "/v1/outlets/"+one+"/check", nil)
				keep(raw, err)
			}
		}
	}
	require.Greater(t, n, 100)
	i.eventually("each outlet has said something", func() bool {
		for _, o := range i.status().Outlets {
			if o.Phase == "running" && o.Behind > 0 {
				return false
			}
		}
		return true
	})
	for _, path := range []string{"/v1/status", "/v1/outlets", "/v1/destinations", "/v1/log?limit=1000", "/metrics"} {
		_, raw, err := i.call(http.MethodGet, path, nil)
		keep(raw, err)
	}
	log, err := os.ReadFile(i.logFile())
	require.NoError(t, err)
	said.Write(log)
	for line := range strings.Lines(said.String()) {
		for _, form := range []string{"zq7planted"} {
			require.NotContains(t, line, form)
		}
	}
	require.Contains(t, said.String(), "RILLMARK_SECRET_PLANTED")
}

// copied is a section whose parts are its own.
func copied(section map[string]any) map[string]any {
	all := make(map[string]any, len(section))
	for name, value := range section {
		if inner, is := value.(map[string]any); is {
			value = copied(inner)
		}
		all[name] = value
	}
	return all
}
