package demo

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// happened is how many changes of each table and operation there were.
type happened map[string]map[string]int

func (h happened) add(table, operation string, n int) {
	if h[table] == nil {
		h[table] = make(map[string]int)
	}
	h[table][operation] += n
}

// line is what the comparison needs of a delivered event.
type line struct {
	ID       string
	Sequence string
	Data     struct {
		Operation string
		Table     string
		Key       json.RawMessage
		Before    map[string]json.RawMessage
		After     map[string]json.RawMessage
		Changed   []string
	}
}

// example plays a scripted minute: a few changes by hand, each shown as it is
// delivered; then a piece of the working day, in which the service is killed and
// started again; then it compares. Its error is that something differs.
func (s *stage) example(ctx context.Context) error {
	if err := s.delivered(ctx); err != nil {
		return err
	}
	s.say("\nThe rows that were there are loaded. Now a change by hand:\n")
	for _, sql := range []string{
		"INSERT INTO patrons (card_number, name, email, branch_id) VALUES ((SELECT max(card_number) + 1 FROM patrons), 'Ottoline Fairbrook', 'ottoline@post.example', 4)",
		"UPDATE patrons SET email = NULL, active = false WHERE name = 'Ottoline Fairbrook'",
		"DELETE FROM patrons WHERE name = 'Ottoline Fairbrook'",
	} {
		s.say("  SQL   %s", sql)
		if err := s.showDelivered(ctx, sql); err != nil {
			return err
		}
	}
	s.say("\nA piece of the working day, with the service killed (SIGKILL) twice on the way:\n")
	if err := s.playAndKill(ctx); err != nil {
		return err
	}
	if err := s.delivered(ctx); err != nil {
		return err
	}
	return s.compare(ctx)
}

// showDelivered runs one statement and shows its event as the file has it.
func (s *stage) showDelivered(ctx context.Context, sql string) error {
	earlier, err := s.tail()
	if err != nil {
		return err
	}
	last := int64(0)
	if len(earlier) > 0 {
		last = earlier[len(earlier)-1].offset()
	}
	began := time.Now()
	if _, err := s.db.Exec(ctx, sql); err != nil {
		return err
	}
	for time.Since(began) < 10*time.Second {
		lines, err := s.tail()
		if err != nil {
			return err
		}
		for _, l := range lines {
			if l.offset() > last && l.Data.Table == "public.patrons" {
				s.say("  file  %s  %s %s%s, %d ms after the statement\n", l.ID, l.Data.Operation, l.Data.Key, l.changes(), time.Since(began).Milliseconds())
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(time.Millisecond):
		}
	}
	return fmt.Errorf("the change was not delivered within ten seconds: %s", sql)
}

func (l *line) offset() int64 {
	n, _ := strconv.ParseInt(l.Sequence, 10, 64) // 0 for a line that is not ours
	return n
}

// changes names the columns that differ, with both values.
func (l *line) changes() string {
	if len(l.Data.Changed) == 0 {
		return ""
	}
	parts := make([]string, len(l.Data.Changed))
	for i, name := range l.Data.Changed {
		parts[i] = fmt.Sprintf("%s %s → %s", name, l.Data.Before[name], l.Data.After[name])
	}
	return ": " + strings.Join(parts, ", ")
}

// tail reads the whole lines in the last piece of the newest file.
func (s *stage) tail() ([]line, error) {
	raw, err := s.tailBytes()
	if err != nil {
		return nil, err
	}
	var lines []line
	for _, one := range bytes.SplitAfter(raw, []byte("\n")) {
		var l line
		if bytes.HasSuffix(one, []byte("\n")) && json.Unmarshal(one, &l) == nil {
			lines = append(lines, l)
		}
	}
	return lines, nil
}

func (s *stage) tailBytes() ([]byte, error) {
	names, err := s.fileNames()
	if err != nil || len(names) == 0 {
		return nil, err
	}
	f, err := os.Open(names[len(names)-1])
	if err != nil {
		return nil, err
	}
	defer f.Close() //nolint:errcheck // it was only read
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	from := max(info.Size()-64<<10, 0)
	return io.ReadAll(io.NewSectionReader(f, from, info.Size()-from))
}

func (s *stage) fileNames() ([]string, error) {
	names, err := filepath.Glob(filepath.Join(s.Folder, "delivered", archiveName, "*.ndjson*"))
	sort.Strings(names)
	return names, err
}

// playAndKill plays some hundred transactions and kills the service twice.
func (s *stage) playAndKill(ctx context.Context) error {
	steps := make(map[string]int)
	for n := range 900 {
		what, err := s.library.Step(ctx)
		if err != nil {
			return err
		}
		steps[what]++
		if n == 250 || n == 600 {
			s.say("  after %d transactions: kill -9 %d, and start it again", n, s.service.Process.Pid)
			s.stopService(syscall.SIGKILL)
			if err := s.startService(ctx); err != nil {
				return err
			}
		}
	}
	names := make([]string, 0, len(steps))
	for name := range steps {
		names = append(names, name)
	}
	sort.Strings(names)
	for i, name := range names {
		names[i] = fmt.Sprintf("%s %d", name, steps[name])
	}
	s.say("  played: %s", strings.Join(names, ", "))
	return nil
}

// delivered waits until the journal has all that the source has committed, and
// the file all that the journal has.
func (s *stage) delivered(ctx context.Context) error {
	mark := fmt.Sprintf("example-%d", time.Now().UnixNano())
	marked := false
	for deadline := time.Now().Add(90 * time.Second); time.Now().Before(deadline); {
		st, err := s.status(ctx)
		if err == nil && len(st.Sources) == 1 && len(st.Outlets) > 0 && st.following() {
			if !marked {
				if _, err := s.db.Exec(ctx, "SELECT pg_logical_emit_message(true, 'example', $1)", mark); err != nil {
					return err
				}
				marked = true
			}
			if there, err := s.hasMessage(mark); err == nil && there {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(50 * time.Millisecond):
		}
	}
	return fmt.Errorf("what was changed has not been delivered within 90 seconds; see %s", filepath.Join(s.Folder, "service.log"))
}

type exampleStatus struct {
	Sources []struct {
		Phase   string
		Journal struct{ Next int64 }
		Tables  []struct {
			Name   string
			State  string
			Counts map[string]int
		}
	}
	Outlets []struct {
		Name      string
		Committed int64
	}
}

func (e *exampleStatus) following() bool {
	for _, t := range e.Sources[0].Tables {
		if t.State != "following" {
			return false
		}
	}
	return e.Sources[0].Phase == "running" && len(e.Sources[0].Tables) > 0
}

func (s *stage) status(ctx context.Context) (*exampleStatus, error) {
	out, err := s.client(ctx, "status", "--json")
	if err != nil {
		return nil, err
	}
	st := new(exampleStatus)
	return st, json.Unmarshal([]byte(out), st)
}

// lines reads all events that the file outlet has delivered.
func (s *stage) lines() ([]line, error) {
	names, err := s.fileNames()
	if err != nil {
		return nil, err
	}
	var all []line
	for _, name := range names {
		f, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		in := bufio.NewReader(f)
		for {
			raw, err := in.ReadBytes('\n')
			if err != nil {
				break // what has no end yet is still being written
			}
			var l line
			if err := json.Unmarshal(raw, &l); err != nil {
				f.Close() //nolint:errcheck // it was only read
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			all = append(all, l)
		}
		f.Close() //nolint:errcheck // it was only read
	}
	return all, nil
}

// hasMessage reports whether the newest events in the file have a message.
func (s *stage) hasMessage(mark string) (bool, error) {
	raw, err := s.tailBytes()
	return bytes.Contains(raw, []byte(mark)), err
}

// tables are the library's.
var tables = []string{"branches", "copies", "fees", "holds", "loans", "notices", "patrons"}

// counts is how many rows each table has.
func (s *stage) counts(ctx context.Context) (map[string]int, error) {
	counts := make(map[string]int)
	for _, t := range tables {
		var n int
		if err := s.db.QueryRow(ctx, "SELECT count(*) FROM "+pgx.Identifier{t}.Sanitize()).Scan(&n); err != nil {
			return nil, err
		}
		counts["public."+t] = n
	}
	return counts, nil
}

// compare holds the delivered events against the source: offsets without a gap,
// each id once or repeated with the same content, and as many rows of each table
// as folding the events leaves.
func (s *stage) compare(ctx context.Context) error {
	lines, err := s.lines()
	if err != nil {
		return err
	}
	seen := make(map[string]bool)
	rows := make(map[string]map[string]bool)
	total := make(happened)
	last, repeats := int64(0), 0
	for _, l := range lines {
		if seen[l.ID] {
			repeats++
			continue
		}
		seen[l.ID] = true
		n := l.offset()
		if n != last+1 {
			return fmt.Errorf("after offset %d the file has %q: something is missing", last, l.Sequence)
		}
		last = n
		if rows[l.Data.Table] == nil {
			rows[l.Data.Table] = make(map[string]bool)
		}
		total.add(l.Data.Table, l.Data.Operation, 1)
		switch key := string(l.Data.Key); l.Data.Operation {
		case "existing", "insert":
			rows[l.Data.Table][key] = true
		case "delete":
			delete(rows[l.Data.Table], key)
		case "truncate", "void":
			clear(rows[l.Data.Table])
		}
	}
	want, err := s.counts(ctx)
	if err != nil {
		return err
	}
	s.say("\n  %-18s %9s %9s %9s %9s   %9s %9s", "table", "existing", "insert", "update", "delete", "source", "folded")
	equal := true
	for _, t := range tables {
		name := "public." + t
		o := total[name]
		verdict := "equal"
		if len(rows[name]) != want[name] {
			verdict, equal = "DIFFERENT", false
		}
		s.say("  %-18s %9d %9d %9d %9d   %9d %9d   %s", name, o["existing"], o["insert"], o["update"], o["delete"], want[name], len(rows[name]), verdict)
	}
	s.say("\n  %d events in the file, offsets 1 to %d without a gap, %d repeats", len(lines), last, repeats)
	if !equal {
		return fmt.Errorf("the folded events and the source differ")
	}
	s.say("  All equal.")
	return nil
}
