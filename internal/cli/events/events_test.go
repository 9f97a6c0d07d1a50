package events

import (
	"bytes"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/cli/terminal"
)

func TestEventsInALine(t *testing.T) {
	var out bytes.Buffer
	a := &Reader{&terminal.Session{Out: &out, Err: &out}}
	line := func(data string) string {
		out.Reset()
		require.NoError(t, a.PrintEvent([]byte(`{"sequence":"00000000000000000042","time":"2026-11-25T09:00:00Z","data":`+data+`}`)))
		return out.String()
	}
	require.Contains(t, line(`{"operation":"update","table":"public.loans","key":{"loan_id":7},"changed":["due_on"],"before":{"due_on":"2026-11-25"},"after":{"loan_id":7,"due_on":"2026-12-09"}}`), "due_on 2026-11-25 → 2026-12-09")
	require.Contains(t, line(`{"operation":"insert","table":"public.loans","key":{"loan_id":9007199254740993},"after":{"loan_id":9007199254740993,"note":"a"}}`), "loan_id 9007199254740993  note a")
	require.Contains(t, line(`{"operation":"delete","table":"public.loans","key":{"loan_id":7},"before":{"loan_id":7,"note":"b"}}`), "note b")
	require.Contains(t, line(`{"operation":"message","message":{"prefix":"p"}}`), "-                 p:")
	require.Contains(t, line(`{"operation":"message","message":{"prefix":"p","content_base64":"AA=="}}`), "p: AA==")
	require.Contains(t, line(`{"operation":"message","message":{"prefix":"statement","content":"UPDATE loans"}}`), "statement: UPDATE loans")
	require.Contains(t, line(`{"operation":"insert","after":{"a":`+strings.Repeat("[", maxShownDepth)+strings.Repeat("]", maxShownDepth)+`}}`), "too deep to be shown")
	require.Less(t, len([]rune(line(`{"operation":"insert","table":"public.works","after":{"text":"`+strings.Repeat("x", 5000)+`"}}`))), 200)
	a.JSON = true
	require.Contains(t, line(`{"operation":"insert"}`), `"sequence":"00000000000000000042"`)
}

func TestSchemaEventsInWords(t *testing.T) {
	version := func(columns ...change.Column) string {
		return string(change.NewSchema(change.PostgreSQL, "public.loans", columns, nil, false).Definition())
	}
	id, note := change.Column{Name: "id", Type: "bigint", Rule: change.RuleInteger, Key: 1}, change.Column{Name: "note", Type: "text", Rule: change.RuleText}
	remark, wide := note, note
	remark.Name, wide.Type = "remark", "character varying"
	for _, c := range []struct{ before, after, renamed, want string }{
		{"null", version(id, note), "null", "first version, 2 columns"},
		{version(id), version(id, note), "null", "added note text"},
		{version(id, note), version(id), "null", "dropped note"},
		{version(id, note), version(id, remark), `[{"from":"note","to":"remark"}]`, "note is now remark"},
		{version(id, note), version(id, wide), "null", "note: type text → character varying"},
		{version(id), "null", "null", "the table is gone"},
	} {
		require.Equal(t, c.want, schemaSays(json.RawMessage(`{"previous":`+c.before+`,"definition":`+c.after+`,"renamed":`+c.renamed+`}`)))
	}
}

// TestRowsIntoAFile: a file is written whole, or not at all, and never written over.
func TestRowsIntoAFile(t *testing.T) {
	to := filepath.Join(t.TempDir(), "loans.ndjson")
	a := &Reader{}
	require.NoError(t, a.copyRows(strings.NewReader("{}\n{}\n"), to))
	written, err := os.ReadFile(to)
	require.NoError(t, err)
	require.Equal(t, "{}\n{}\n", string(written))
	require.ErrorContains(t, a.copyRows(strings.NewReader("x"), to), "is not written over")
	cut := filepath.Join(filepath.Dir(to), "cut.ndjson")
	require.ErrorContains(t, a.copyRows(io.MultiReader(strings.NewReader("{}\n"), failing{}), cut), "was not kept")
	require.NoFileExists(t, cut)
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }
