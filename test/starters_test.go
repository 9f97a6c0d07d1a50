package test

import (
	"bytes"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestStarters runs the consumers of docs/starters as they stand there.
func TestStarters(t *testing.T) {
	t.Parallel()
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

// TestCopyStarter keeps a copy in SQLite with its own offset, through updates, a changed
// key, a renamed column and a truncate; the outlet is told how far it is.
func TestCopyStarter(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "source: {heartbeat_every: 200ms, refresh_every: 200ms}\n", deskTable)
	db := connect(t, sourceServer(t), name)
	i.must(http.MethodPost, "/v1/outlets/copy", map[string]any{"source": "circulation"}, nil)
	i.resume()
	i.settled("circulation", db)
	file := filepath.Join(i.folder, "copy.db")
	take := func() {
		t.Helper()
		c := exec.Command("python3", "../docs/starters/copy_sqlite.py", "copy", file, "--once")
		c.Env = append(os.Environ(), "RILLMARK_SERVER="+i.address)
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	run(t, db, "INSERT INTO desk SELECT n, 'x' || n FROM generate_series(1, 700) n")
	i.reached("circulation", db)
	take()
	run(t, db, "UPDATE desk SET note = 'changed' WHERE id <= 3", "UPDATE desk SET id = 1000 WHERE id = 5", "DELETE FROM desk WHERE id = 6", "ALTER TABLE desk RENAME note TO remark", "UPDATE desk SET remark = 'after' WHERE id = 7")
	i.reached("circulation", db)
	take()
	take() // nothing new changes nothing
	out, err := exec.Command("python3", "-c", `import json, sqlite3, sys
rows = {json.loads(k)["id"]: json.loads(i) for k, i in sqlite3.connect(sys.argv[1]).execute("SELECT key, image FROM row WHERE name = 'public.desk'")}
print(len(rows), rows[1]["remark"], rows[1000]["remark"], rows[7]["remark"], rows[700]["remark"], 5 in rows, 6 in rows)`, file).CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Equal(t, "699 changed x5 after x700 False False\n", string(out))
	i.eventually("it is not behind, by its own account", func() bool {
		o := i.status().Outlets
		return len(o) == 1 && o[0].Reported != nil && o[0].Behind == 0 && o[0].Committed == 0
	})
	code, raw, err := i.call(http.MethodPost, "/v1/outlets/copy/progress", map[string]any{"offset": 1 << 40})
	require.NoError(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, code, "%s", raw)
	require.Contains(t, string(raw), "never handed out")
}
