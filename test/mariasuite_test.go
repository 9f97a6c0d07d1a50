package test

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/demo"
	"rillmark/internal/service/comparing"
)

// suiteFolder is where Debian's package mariadb-test-data has the SQL of the server's own tests;
// `make soak` installs it.
const suiteFolder = "/usr/share/mysql/mysql-test"

// suites are those whose statements are run.
var suites = strings.Fields(`suite/rpl/t/rpl_row*.test suite/rpl/include/*.test suite/binlog/t/binlog_row*.test suite/binlog/include/*.test
	main/alter_table*.test main/type_*.test main/truncate*.test main/create*.test main/partition*.test main/rename*.test main/insert*.test main/update*.test
	main/delete*.test main/multi_update*.test main/trigger*.test main/ctype_*.test main/func_*.test main/foreign*.test main/invisible*.test main/default*.test
	main/temp_table*.test main/xa*.test suite/vcol/t/*.test suite/versioning/t/*.test suite/innodb/t/*alter*.test suite/innodb/t/*instant*.test suite/parts/t/*.test
	suite/period/t/*.test`)

// heldFor are files that make tables of which the source says that it cannot capture them: of
// the character set of file names.
var heldFor = []string{"ctype_filename.test", "ctype_filename_innodb.test"}

var (
	dropped = regexp.MustCompile("(?i)^\\s*drop\\s+(?:table|view)\\s+(?:if\\s+exists\\s+)?[`\"]?(\\w+)[^;]*;\\s*$")
	made    = regexp.MustCompile("(?i)create\\s+(?:or\\s+replace\\s+)?(?:table|view)\\s+(?:if\\s+not\\s+exists\\s+)?[`\"]?(\\w+)")
)

// kept is a test of the server's with its tables left in place at the end: what drops one that is
// not made again is taken out. A statement that is refused does not end it, and what it prints is
// of no use here.
func kept(text string) string {
	lines := strings.SplitAfter(text, "\n")
	later := make(map[string]bool)
	for n := len(lines) - 1; n >= 0; n-- {
		if m := made.FindStringSubmatch(lines[n]); m != nil {
			later[strings.ToLower(m[1])] = true
		} else if m := dropped.FindStringSubmatch(lines[n]); m != nil && !later[strings.ToLower(m[1])] {
			lines[n] = "\n"
		}
	}
	return "--disable_abort_on_error\n--disable_query_log\n--disable_result_log\n--disable_warnings\n" + strings.Join(lines, "")
}

// interpreted runs a test of the server's by the server's own interpreter, as a login that may do
// anything to its database and nothing to the server.
func interpreted(t *testing.T, m *demo.MariaDB, database, file string) {
	t.Helper()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	folder := t.TempDir()
	copied := filepath.Join(folder, "test.test")
	require.NoError(t, os.WriteFile(copied, []byte(kept(string(text))), 0o600))
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second) // some wait for what never comes here
	defer cancel()
	command := exec.CommandContext(ctx, "mariadb-test", "--no-defaults", "--host=127.0.0.1", fmt.Sprint("--port=", m.Port), "--user=suite", "--password=suite", "--database="+database, "--basedir="+suiteFolder+"/",
		"--test-file="+copied, "--tmpdir="+folder, "--logdir="+folder, "--silent", "--sleep=0", "--max-connect-retries=1", "--suite-dir="+filepath.Dir(filepath.Dir(file)))
	command.Dir = suiteFolder
	command.Env = append(os.Environ(), "MYSQL_TEST_DIR="+suiteFolder, "MYSQLTEST_VARDIR="+folder, "MYSQL_TMP_DIR="+folder)
	command.Run() //nolint:errcheck // most end where they want what the server has not been given
}

// TestMariaDBOwnSuite runs the server's own tests by its own interpreter against a captured server:
// each table that is made of what the log said is what a load reads of it, or it is stale by name;
// and so is what outlets have made of it in both kinds of database, or they hold it by name.
func TestMariaDBOwnSuite(t *testing.T) {
	t.Parallel()
	if rounds() == 1 && os.Getenv("RILLMARK_SUITE") == "" {
		t.Skip("make soak runs it")
	}
	if _, err := exec.LookPath("mariadb-test"); err != nil {
		t.Skip("the server's own tests are not here: apt-get install mariadb-test mariadb-test-data, as make soak does")
	}
	m := mariaServer(t, map[string]string{"innodb-lock-wait-timeout": "1", "lock-wait-timeout": "2", "max-statement-time": "4", "log-bin-trust-function-creators": "1"})
	i := newInstance(t, stateServer(t), "").start()
	i.must(http.MethodPost, "/v1/sources/catalogue", mariaSource(t, m, map[string]any{"match": "*.reached"}, map[string]any{"match": "test_*.*"}), nil)
	i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
	var files []string
	only, chosen := os.Getenv("RILLMARK_SUITE"), suites // a part of a file's name, or patterns
	if strings.Contains(only, "*") {
		only, chosen = "", strings.Fields(only)
	}
	for _, pattern := range chosen {
		found, err := filepath.Glob(filepath.Join(suiteFolder, pattern))
		require.NoError(t, err)
		files = append(files, found...)
	}
	require.NotEmpty(t, files)
	compared, stale, verified, held := 0, 0, 0, 0
	admin := mariaConnect(t, m, "")
	mariaRun(t, admin, "CREATE USER suite IDENTIFIED BY 'suite'", "GRANT ALL ON `test\\_suite\\_%`.* TO suite")
	s := &stage{instance: i}
	var outlets []string
	for _, to := range []*side{targetOf(t, "postgresql"), targetOf(t, "mariadb")} {
		outlets = append(outlets, to.engine)
		s.keeps(to.engine, to, map[string]any{"offsets": to.database + ".outlets"}, map[string]any{"source": "catalogue", "tables": []string{"test_suite_*.*"}})
	}
	for n, file := range files {
		if only != "" && !strings.Contains(file, only) || slices.Contains(heldFor, filepath.Base(file)) {
			continue
		}
		database := fmt.Sprintf("test_suite_%d", n)
		mariaRun(t, admin, "CREATE DATABASE "+database+" CHARACTER SET utf8mb4")
		db, err := m.Connect(t.Context(), database)
		require.NoError(t, err)
		mariaRun(t, db, "CREATE TABLE reached (n bigint PRIMARY KEY)") // some make no table here
		interpreted(t, m, database, file)
		finishXA(t, db)
		i.mariaSettled("catalogue", db)
		for _, outlet := range outlets {
			v, h := s.sameInTarget(outlet, database, filepath.Base(file))
			verified, held = verified+v, held+h
		}
		same, not := i.sameAsLoaded(db, database, filepath.Base(file))
		compared, stale = compared+same, stale+not
		require.NoError(t, db.Close())
		mariaRun(t, admin, "DROP DATABASE "+database)
	}
	t.Logf("%d files: %d tables are what a load reads, %d are stale; %d in targets are equal, %d held", len(files), compared, stale, verified, held)
	require.Positive(t, compared)
	require.Positive(t, verified)
}

// sameInTarget compares a database's tables with what an outlet has made of them. One that it
// holds, or that is stale at the source, is named.
func (s *stage) sameInTarget(outlet, database, what string) (verified, held int) {
	s.t.Helper()
	incomplete := make(map[string]string)
	o := s.outletIs(outlet, "has delivered all of "+what, func(o outletStatus) bool {
		require.Contains(s.t, []string{"running", "waiting", "starting"}, o.Phase, "%s: %s", what, o.Error)
		return o.Behind == 0
	})
	for _, one := range o.Incomplete {
		if incomplete[one.Table] = one.Code; one.Offset > 0 && strings.HasPrefix(one.Table, database+".") {
			s.t.Logf("%s: %s holds %s: %s", what, outlet, one.Table, one.Why)
			held++
		}
	}
	for _, letter := range s.letters(outlet).Items {
		if strings.HasPrefix(letter.Table, database+".") {
			s.t.Logf("%s: %s has not %s of %s: %s", what, outlet, letter.Operation, letter.Key, letter.Error)
			incomplete[letter.Table] = "dead-letter"
		}
	}
	out, errs, code := s.cli("verify", outlet, "--tables", database+".*", "--json")
	if code == 3 && strings.Contains(errs, "no such table") {
		return 0, held
	}
	var v comparing.Verification
	require.NoError(s.t, json.Unmarshal([]byte(out), &v), "%s: %s%s", what, out, errs)
	for _, table := range v.Tables {
		if incomplete[table.Table] != "" || table.Skipped != "" {
			continue
		}
		require.True(s.t, table.Equal(), "%s in %s, of %s: %+v; %+v", table.Table, outlet, what, table, v.Differences)
		verified++
	}
	return verified, held
}

// sameAsLoaded compares what the log made of a database's tables with what a load reads of them.
func (i *instance) sameAsLoaded(db *sql.DB, database, what string) (compared, stale int) {
	i.t.Helper()
	rows := func(table string) (lines []string, known bool) {
		code, raw, err := i.call(http.MethodGet, "/v1/sources/catalogue/tables/"+url.PathEscape(table)+"/rows", nil)
		require.NoError(i.t, err)
		if code != http.StatusOK {
			return nil, false // it has no key, or no row was ever in it
		}
		lines = strings.Split(strings.TrimSpace(string(raw)), "\n")
		slices.Sort(lines)
		return lines, true
	}
	i.eventually("the status is of after all that", func() bool {
		for _, table := range i.status().Sources[0].Tables {
			if table.Name == change.TableName(database, "reached") {
				return table.Counts["insert"]+table.Counts["existing"] > 0
			}
		}
		return false
	})
	there := make(map[string]bool) // of tables that were dropped the status has more
	names, err := mariaRows(db)(i.t.Context(), "SELECT table_name FROM information_schema.tables WHERE table_schema = database() AND table_type <> 'VIEW'")
	require.NoError(i.t, err)
	for _, name := range names {
		there[change.TableName(database, name)] = true
	}
	before := make(map[string][]string)
	for _, source := range i.status().Sources {
		for _, table := range source.Tables {
			if !there[table.Name] || strings.HasSuffix(table.Name, ".reached") {
				continue
			}
			switch table.State {
			case "stale":
				stale++
			case "following":
				if lines, known := rows(table.Name); known {
					before[table.Name] = lines
				}
			}
		}
	}
	for table := range before {
		i.must(http.MethodPost, "/v1/sources/catalogue/tables/"+url.PathEscape(table)+"/reload", nil, nil)
	}
	for table, was := range before {
		i.eventually(table+" is loaded", func() bool {
			for _, s := range i.status().Sources[0].Tables {
				if s.Name == table {
					return s.State != "to-load" && s.State != "loading" && s.State != "new"
				}
			}
			return false
		}, func() string { return what })
		is, known := rows(table)
		require.True(i.t, known, table)
		sameRows(i.t, is, was, fmt.Sprintf("%s of %s: what a load reads, and what the log made of it", table, what))
		compared++
	}
	return compared, stale
}
