package test

import (
	"bytes"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestStarters runs the consumers of docs/starters as they stand there.
func TestStarters(t *testing.T) {
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO desk SELECT n, 'x' FROM generate_series(1, 700) n")
	i.reached("circulation", db)
	for language, command := range map[string][]string{
		"go": {"go", "run", "../docs/starters/go"}, "python": {"python3", "../docs/starters/consume.py"}, "node": {"node", "../docs/starters/consume.mjs"},
	} {
		if _, err := exec.LookPath(command[0]); err != nil {
			t.Logf("%s is not at hand", language)
			continue
		}
		i.must(http.MethodPost, "/v1/outlets/"+language, map[string]any{"source": "circulation", "operations": []string{"insert"}}, nil)
		c := exec.Command(command[0], append(command[1:], language, "--once")...)
		c.Env = append(os.Environ(), "RILLMARK_SERVER="+i.address)
		var errs bytes.Buffer
		c.Stderr = &errs
		out, err := c.Output()
		require.NoError(t, err, "%s: %s", language, &errs)
		require.Equal(t, 700, strings.Count(string(out), "insert public.desk"), language)
		require.Contains(t, strings.ReplaceAll(string(out), " ", ""), `{"id":700}`)
		events, _ := i.page(language, 10)
		require.Empty(t, events, "%s has committed", language)
	}
}
