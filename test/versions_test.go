package test

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The tests run on Debian's PostgreSQL. Those whose names end in On18, and with
// RILLMARK_POSTGRESQL=17 all of them, have source servers of another version.

// versionOf is the version that a test asks for; empty for Debian's.
func versionOf(t *testing.T) string {
	test, _, _ := strings.Cut(t.Name(), "/")
	if found := onVersion.FindStringSubmatch(test); found != nil {
		return found[1]
	}
	return os.Getenv("RILLMARK_POSTGRESQL")
}

var onVersion = regexp.MustCompile(`On(\d\d)$`)

// versionIn is the version of the server of a cluster's folder.
func versionIn(folder string) string { return folder[strings.LastIndexByte(folder, '-')+1:] }

// servers is where scripts/setup.sh puts them.
const servers = "servers/node_modules/postgresql-"

// hasVersion skips a test for whose version there is no server here.
func hasVersion(t *testing.T) {
	t.Helper()
	if version := versionOf(t); version != "" {
		if _, err := os.Stat(servers + version); err != nil {
			t.Skip("there is no PostgreSQL " + version + " here")
		}
	}
}

// programs is the folder of the programs of a version, where the user that servers run as may enter.
func programs(t *testing.T, version string) string {
	t.Helper()
	to := filepath.Join(shared.folder, "postgresql-"+version)
	if _, err := os.Stat(to); err == nil {
		return filepath.Join(to, "bin")
	}
	require.NoError(t, os.CopyFS(to, os.DirFS(servers+version+"/native")))
	raw, err := os.ReadFile(servers + version + "/native/pg-symlinks.json")
	require.NoError(t, err)
	var links []struct{ Source, Target string }
	require.NoError(t, json.Unmarshal(raw, &links))
	for _, one := range links {
		at := filepath.Join(to, strings.TrimPrefix(one.Target, "native/"))
		if _, err := os.Lstat(at); err != nil {
			require.NoError(t, os.Symlink(filepath.Base(one.Source), at))
		}
	}
	bins, err := filepath.Glob(filepath.Join(to, "bin", "*"))
	require.NoError(t, err)
	for _, one := range bins {
		require.NoError(t, os.Chmod(one, 0o755))
	}
	return filepath.Join(to, "bin")
}

// What is closest to the server runs on the newest version, too, where it could be fetched.

func TestKillOn18(t *testing.T) {
	hasVersion(t)
	TestKill(t)
}

func TestLoadBesideWritersOn18(t *testing.T) {
	hasVersion(t)
	TestLoadBesideWriters(t)
}

func TestRandomSchemaChangesOn18(t *testing.T) {
	hasVersion(t)
	TestRandomSchemaChanges(t)
}

func TestScriptsWithHostileNamesOn18(t *testing.T) {
	hasVersion(t)
	TestScriptsWithHostileNames(t)
}

// TestGeneratedColumnsOn18: a publication of version 18 can send columns that loads do not read. Such a
// publication is refused, with the statement that changes it. After that statement the source runs.
func TestGeneratedColumnsOn18(t *testing.T) {
	hasVersion(t)
	t.Parallel()
	server := sourceServer(t)
	name := database(t, server, "postgres")
	db := connect(t, server, name)
	run(t, db, "CREATE TABLE loans (id int PRIMARY KEY, fee int, twice int GENERATED ALWAYS AS (fee * 2) STORED)", "INSERT INTO loans VALUES (1, 2)", "CREATE PUBLICATION theirs FOR TABLE loans WITH (publish_generated_columns = stored)")
	i := newInstance(t, stateServer(t), "").start()
	d := sourceDefinition(server, name)
	d["connection"].(map[string]any)["publication"] = "theirs"
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	dropSlotAtEnd(t, server)
	out, _, code := i.cli("source", "check", "circulation")
	require.NotZero(t, code)
	require.Contains(t, out, `ALTER PUBLICATION "theirs" SET (publish_generated_columns = none)`)
	i.resume()
	i.eventually("it says what is in the way", func() bool { return i.status().Sources[0].Code == "publication-generated" })
	run(t, db, `ALTER PUBLICATION "theirs" SET (publish_generated_columns = none)`)
	i.settled("circulation", db)
	run(t, db, "INSERT INTO loans VALUES (2, 3)")
	i.reached("circulation", db)
	events := ofTable(i.journal("circulation"), "public.loans", "schema", "existing", "insert")
	require.Len(t, events, 3, "one definition, and two rows")
}
