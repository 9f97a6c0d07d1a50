package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/require"
)

var (
	docBlock = regexp.MustCompile("(?ms)^```([a-z]*)\n(.*?)^```")
	// docFile is the comment that a definition in the documentation begins with.
	docFile = regexp.MustCompile(`(?m)^# .*?([a-z]+\.yaml)`)
	// endless commands go on until somebody ends them.
	endless = regexp.MustCompile(`^rillmark watch (?:[^-]|--(?:tables|operation))*$|/stream'?$`)
)

// TestDocumentedCommandsRun runs the commands of the pages on consumers as they stand
// there, one after the other, on servers that are there.
func TestDocumentedCommandsRun(t *testing.T) {
	t.Setenv("RILLMARK_SECRET_SIGN_KEY", "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLjTe")
	configured, _ := scratch(t)
	i, name := begin(t, configured, "CREATE TABLE loans (loan_id bigint PRIMARY KEY, branch_id integer, note text, copy_id bigint DEFAULT 7, due_on date DEFAULT '2026-12-24', lent_at timestamptz DEFAULT '2026-11-23 09:00+00', renewals smallint DEFAULT 0)", "CREATE TABLE holds (hold_id bigint PRIMARY KEY, state text)", "CREATE TABLE patrons (card text PRIMARY KEY, name text, email text)",
		"INSERT INTO loans SELECT n, n % 7, 'on loan' FROM generate_series(1, 5000) n", "INSERT INTO holds VALUES (1, 'waits')")
	db := connect(t, sourceServer(t), name)
	folder := t.TempDir()
	require.NoError(t, os.Symlink(binary, filepath.Join(folder, "rillmark")))
	address := map[string]string{"127.0.0.1:9092": launch(t, binary, "stand-in", "broker", "--listen", "$ADDR", "--folder", "$DIR").address,
		"127.0.0.1:4222":       launch(t, "nats-server", "-a", "127.0.0.1", "-p", "$PORT", "-js", "-sd", "$DIR").address,
		"127.0.0.1:6379":       launch(t, "redis-server", "--bind", "127.0.0.1", "--port", "$PORT", "--dir", "$DIR", "--save", "").address,
		"https://desk.example": "http://" + launch(t, binary, "stand-in", "function", "--listen", "$ADDR", "--into", "$DIR/taken").address, "http://127.0.0.1:7450": i.address}
	into := database(t, sourceServer(t), "postgres")
	address["--port 5432 --database-name reporting --user postgres"] = fmt.Sprintf("--port %d --database-name %s --user postgres --password '${file:%s}'", sourceServer(t).Port, into, sourceServer(t).PasswordFile())
	i.resume()
	i.settled("circulation", db)
	var versions struct {
		Items []struct{ Fingerprint string }
	}
	i.must(http.MethodGet, "/v1/schemas", nil, &versions)
	address["9d1f6c0e2b7a4d58"] = versions.Items[0].Fingerprint
	lease := ""
	sh := func(line string) (string, error) {
		for from, to := range address {
			line = strings.ReplaceAll(line, from, to)
		}
		line = strings.ReplaceAll(line, "/leases/LEASE/", "/leases/"+lease+"/")
		line = strings.Replace(line, "curl ", "curl --fail-with-body --silent --show-error ", 1)
		if endless.MatchString(line) {
			line = "timeout 0.5 " + line + " || test $? = 124"
		}
		_, port, _ := strings.Cut(address["127.0.0.1:6379"], ":")
		line = strings.Replace(line, "redis-cli ", "redis-cli -p "+port+" ", 1)
		c := exec.Command("sh", "-c", line)
		c.Dir = folder
		c.Env = append(os.Environ(), "PATH="+folder+":"+os.Getenv("PATH"), "RILLMARK_SERVER="+i.address, "SERVER="+i.address)
		out, err := c.CombinedOutput()
		return string(out), err
	}
	read := func(page string) [][]string {
		text, err := os.ReadFile("../docs/" + page)
		require.NoError(t, err)
		blocks := docBlock.FindAllStringSubmatch(string(text), -1)
		for _, block := range blocks {
			if file := docFile.FindStringSubmatch(block[2]); block[1] == "yaml" && file != nil {
				require.NoError(t, os.WriteFile(filepath.Join(folder, file[1]), []byte(block[2]), 0o600))
			}
		}
		return blocks
	}
	model := filepath.Join(i.folder, "files", "archive", "models", "public.loans.parquet")
	require.NoError(t, os.MkdirAll(filepath.Dir(model), 0o750))
	require.NoError(t, parquet.WriteFile(model, []struct{}{}))
	ran := 0
	for _, page := range []string{"outlets/file.md", "consume.md", "outlets/pull.md", "outlets/kafka.md", "outlets/nats.md", "outlets/redis.md", "outlets/postgresql.md", "outlets/http.md", "events.md", "forms.md", "impact.md"} {
		if page == "outlets/http.md" {
			i.must(http.MethodDelete, "/v1/outlets/desk", nil, nil) // the name of another page's outlet
		}
		if page == "outlets/postgresql.md" {
			i.resume() // another page's run has paused it
		}
		for _, block := range read(page) {
			if block[1] != "" {
				continue
			}
			for _, line := range strings.Split(strings.TrimSpace(strings.ReplaceAll(block[2], "\\\n", " ")), "\n") {
				if first, _, _ := strings.Cut(line, " "); !strings.Contains(" rillmark curl kcat redis-cli ", " "+first+" ") {
					continue
				}
				if strings.HasPrefix(line, "rillmark outlet pause archive") {
					// It has been paused by the replay before.
					i.outletIs("archive", "is where it was", func(o outletStatus) bool { return o.Until == 0 })
				}
				var out string
				var err error
				// Topics are there a moment after the outlet.
				for deadline := time.Now().Add(patience); ; {
					if out, err = sh(line); err == nil || time.Now().After(deadline) || !strings.HasPrefix(line, "kcat ") {
						break
					}
				}
				require.NoError(t, err, "%s: %s\n%s", page, line, out)
				ran++
				if strings.HasPrefix(line, "rillmark outlet add desk --source circulation --from now") {
					run(t, db, "UPDATE loans SET note = 'renewed' WHERE loan_id <= 1500")
					i.reached("circulation", db)
				}
				if strings.Contains(line, "mark set circulation before-weeding") {
					run(t, db, "DELETE FROM loans WHERE loan_id > 4500", "UPDATE holds SET state = 'ready'")
					i.reached("circulation", db)
					_, errs, code := i.cli("mark", "set", "circulation", "after-weeding")
					require.Zero(t, code, errs)
					run(t, db, "UPDATE holds SET state = 'fetched'")
					i.reached("circulation", db)
				}
				var leased struct{ Lease string }
				if json.Unmarshal([]byte(out), &leased) == nil && leased.Lease != "" {
					lease = leased.Lease
				}
			}
		}
	}
	require.Greater(t, ran, 35)
}
