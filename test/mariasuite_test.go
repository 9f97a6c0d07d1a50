package test

import (
	"context"
	"database/sql"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/demo"
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

// notForUs are statements that change the server for others, leave it, or say nothing to a log of rows.
var notForUs = regexp.MustCompile(`(?i)^\s*(set\s+(@@)?global|set\s+@@global|reset|purge|shutdown|change\s|start\s+(all\s+)?(slave|replica)|stop\s+(all\s+)?(slave|replica)|kill|install|uninstall|grant|revoke|(create|drop|alter|rename|set)\s+(user|role|password)|use\b|(create|drop|alter)\s+(or\s+replace\s+)?(database|schema|server|tablespace|event)|load\s+(data|xml)|flush|show|explain|analyze|describe|desc\b|select|with\b|check|checksum|handler|help|lock|backup|set\s+.*(sql_log_bin|binlog_format|skip_replication|server_id|gtid_|binlog_row_image|pseudo|timestamp\b|debug)|.*\bsleep\s*\(|.*\bget_lock\s*\(|.*into\s+outfile)`)

// statementsOf are the SQL statements of a test's file; what only its own language can do is left
// out, and so are the DROPs of tables that are not made again.
func statementsOf(text string) []string {
	var all []string
	delimiter, buffer, elsewhere := ";", "", false
	for line := range strings.Lines(text) {
		trimmed := strings.TrimSpace(line)
		if buffer == "" {
			word := strings.ToLower(strings.TrimLeft(trimmed, "- "))
			switch {
			case trimmed == "" || strings.HasPrefix(trimmed, "#"):
				continue
			case strings.HasPrefix(word, "delimiter "):
				delimiter = strings.TrimSuffix(strings.Fields(word)[1], delimiter)
				if delimiter == "" {
					delimiter = ";"
				}
				continue
			case strings.HasPrefix(word, "connection ") || strings.HasPrefix(word, "sync_slave_with_master"):
				elsewhere = !strings.Contains(word, "master") || strings.HasPrefix(word, "sync")
				continue
			case strings.HasPrefix(trimmed, "--"):
				continue
			}
		}
		buffer += line
		if !strings.HasSuffix(trimmed, delimiter) {
			continue
		}
		statement := strings.TrimSuffix(strings.TrimSpace(buffer), delimiter)
		buffer = ""
		if !elsewhere && !strings.Contains(statement, "$") && !notForUs.MatchString(statement) {
			all = append(all, statement)
		}
	}
	drops := regexp.MustCompile("(?i)^\\s*drop\\s+(table|view)\\s+(if\\s+exists\\s+)?[`\"]?(\\w+)")
	return slices.DeleteFunc(all, func(s string) bool {
		m := drops.FindStringSubmatch(s)
		if m == nil {
			return false
		}
		made := regexp.MustCompile("(?i)create\\s+(or\\s+replace\\s+)?table\\s+(if\\s+not\\s+exists\\s+)?[`\"]?" + m[3] + "\\b")
		at := slices.Index(all, s)
		return !slices.ContainsFunc(all[at+1:], func(later string) bool { return made.MatchString(later) })
	})
}

// runSQL runs statements in a session of their own, which nobody has after them; what fails is
// passed over, as is what waits.
func runSQL(t *testing.T, m *demo.MariaDB, database string, statements []string) (ran int) {
	t.Helper()
	db, err := m.Connect(t.Context(), database)
	require.NoError(t, err)
	defer db.Close() //nolint:errcheck // it may be broken
	conn, err := db.Conn(t.Context())
	require.NoError(t, err)
	defer conn.Close() //nolint:errcheck // the same
	for _, s := range statements {
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		_, err := conn.ExecContext(ctx, s)
		cancel()
		if err == nil {
			ran++
		}
		if ctx.Err() == context.DeadlineExceeded {
			return ran // its session has gone with it
		}
	}

	return ran
}

// TestMariaDBOwnSuite runs the SQL of the server's own tests against a captured server: each table
// that is made of what the log said is what a load reads of it, or it is stale by name.
func TestMariaDBOwnSuite(t *testing.T) {
	t.Parallel()
	if _, err := os.Stat(suiteFolder); err != nil {
		t.Skip("the SQL of the server's own tests is not here: apt-get install mariadb-test-data, as make soak does")
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
	compared, stale, ran := 0, 0, 0
	admin := mariaConnect(t, m, "")
	for n, file := range files {
		if only != "" && !strings.Contains(file, only) || slices.Contains(heldFor, filepath.Base(file)) {
			continue
		}
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		database := fmt.Sprintf("test_suite_%d", n)
		mariaRun(t, admin, "CREATE DATABASE "+database+" CHARACTER SET utf8mb4")
		db, err := m.Connect(t.Context(), database)
		require.NoError(t, err)
		ran += runSQL(t, m, database, statementsOf(string(text)))
		finishXA(t, db)
		i.mariaSettled("catalogue", db)
		c, s := i.sameAsLoaded(db, database, filepath.Base(file))
		compared, stale = compared+c, stale+s
		require.NoError(t, db.Close())
		mariaRun(t, admin, "DROP DATABASE "+database)
	}
	t.Logf("%d files, %d statements: %d tables compared, %d stale", len(files), ran, compared, stale)
	require.Positive(t, compared)
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
