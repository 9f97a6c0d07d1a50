package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// resident is the largest size that the service's process has had, in MiB.
func (i *instance) resident() float64 {
	i.t.Helper()
	i.mu.Lock()
	defer i.mu.Unlock()
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", i.command.Process.Pid))
	require.NoError(i.t, err)
	for _, line := range strings.Split(string(raw), "\n") {
		if rest, found := strings.CutPrefix(line, "VmHWM:"); found {
			kib, err := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			require.NoError(i.t, err)
			return kib / 1024
		}
	}
	return 0
}

// TestHugeTransaction cuts a transaction of many blocks by kills: it is resumed
// in its middle, and needs no more memory than small ones.
func TestHugeTransaction(t *testing.T) {
	t.Parallel()
	rows := 400_000 * rounds()
	i, name := begin(t, "source:\n  heartbeat_every: 200ms\n", "CREATE TABLE loans (loan_id integer PRIMARY KEY, note text NOT NULL)")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	// The first quarter by COPY, whose rows share places in the log.
	var copied bytes.Buffer
	for n := 1; n <= rows/4; n++ {
		fmt.Fprintf(&copied, "%d\tlent at the desk\n", n)
	}
	run(t, db, "BEGIN")
	_, err := db.PgConn().CopyFrom(t.Context(), &copied, "COPY loans FROM STDIN")
	require.NoError(t, err)
	run(t, db, fmt.Sprintf("INSERT INTO loans SELECT n, 'lent at the desk, ' || md5(n::text) FROM generate_series(%d, %d) n", rows/4+1, rows), "COMMIT")
	cut := 0
	for from := int64(0); cut < 3; cut++ {
		i.eventually("a part of the transaction is in the journal", func() bool { return i.journaled() > max(from, 10) })
		i.stop(syscall.SIGKILL)
		at := i.journaled()
		if at >= int64(rows) {
			break // it was faster than the kill
		}
		require.Greater(t, at, from, "what was journaled before the kill stays")
		from = at
		// It must be resumed at the same row, whatever has been published since.
		run(t, db, fmt.Sprintf("CREATE TABLE desk_%d (id integer PRIMARY KEY)", cut), fmt.Sprintf("INSERT INTO desk_%d VALUES (1)", cut))
		i.start()
	}
	if i.command == nil {
		i.start()
	}
	require.Positive(t, cut, "at least one kill cut the transaction")
	i.settled("circulation", db)
	require.Less(t, i.resident(), 150.0, "MiB resident")
	i.eventually("what the transaction cost the source's disk is shown", func() bool { return i.status().Sources[0].RetainedLog.Spilled > 10<<20 })
	events := i.journal("circulation")
	f := proveJournal(t, events)
	for n := range cut {
		f.equals(t, db, fmt.Sprintf("desk_%d", n))
	}
	inserts := ofTable(events, "public.loans", "insert")
	require.Len(t, inserts, rows)
	for n, e := range inserts {
		require.Equal(t, strconv.Itoa(n+1), string(e.Data.Key["loan_id"]), "each row comes once, in its order")
	}
	require.Equal(t, inserts[0].Data.Log.Position, inserts[1].Data.Log.Position, "rows of a COPY share their place in the log")
}

// journaled asks the state database itself: the service may be gone.
func (i *instance) journaled() (next int64) {
	conn, err := i.state.Connect(i.t.Context(), i.stateDB)
	require.NoError(i.t, err)
	defer conn.Close(i.t.Context()) //nolint:errcheck // nothing is open on it
	require.NoError(i.t, conn.QueryRow(i.t.Context(), "SELECT next_offset FROM rillmark.journal_head").Scan(&next))
	return next
}

// TestLeftBehind lets retention drop what a paused outlet still needs: it is
// told, and goes on only when a person says where.
func TestLeftBehind(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "journal:\n  segment_bytes: 20000\n  retain_bytes: 60000\n  upkeep_every: 200ms\n", "CREATE TABLE loans (loan_id integer PRIMARY KEY, note text)")
	db := connect(t, sourceServer(t), name)
	i.must(http.MethodPost, "/v1/destinations/archive", map[string]any{"kind": "file", "file": map[string]string{"directory": "archive"}}, nil)
	i.must(http.MethodPost, "/v1/outlets/archive", map[string]any{"source": "circulation", "destination": "archive"}, nil)
	i.must(http.MethodPost, "/v1/outlets/desk", map[string]any{"source": "circulation"}, nil)
	i.must(http.MethodPost, "/v1/outlets/archive/pause", map[string]string{"reason": "a test"}, nil)
	i.resume()
	i.settled("circulation", db)
	for deadline := time.Now().Add(patience); ; {
		run(t, db, "TRUNCATE loans", "INSERT INTO loans SELECT n, md5(random()::text) || md5(random()::text) FROM generate_series(1, 500) n")
		if i.status().Sources[0].Journal.First > 1 {
			break
		}
		require.True(t, time.Now().Before(deadline), "retention drops the oldest segment")
	}
	i.stop(syscall.SIGTERM) // what it still has in memory would do
	i.start()
	i.must(http.MethodPost, "/v1/outlets/archive/resume", nil, nil)
	i.eventually("the outlet says what it lost", func() bool {
		for _, o := range i.status().Outlets {
			if o.Name == "archive" {
				return o.Phase == "failed" && o.Code == "left-behind" && strings.Contains(o.Error, "the oldest kept is")
			}
		}
		return false
	})
	require.Equal(t, "offset-outside", i.refused(http.MethodGet, "/v1/outlets/desk/events", nil).Code, "a reader is told too")
	out, errs, code := i.cli("outlet", "rewind", "archive", "--to", "beginning")
	require.Zero(t, code, errs)
	require.Contains(t, out, "passed over", "it says what is not delivered")
	i.reached("circulation", db)
	i.eventually("then it goes on", func() bool {
		for _, o := range i.status().Outlets {
			if o.Name == "archive" && o.Code == "left-behind" { // retention was faster once more
				i.cli("outlet", "rewind", "archive", "--to", "beginning")
			}
			if o.Name == "archive" {
				return o.Phase == "running" && o.Behind == 0
			}
		}
		return false
	})
}

// TestAValueThatIsTooLarge writes values that nobody wants in an event, one of them
// so large that the server cannot even write it as text: each is refused with its
// key and size, in the stream and in the load, in bounded memory, and the source
// goes on.
func TestAValueThatIsTooLarge(t *testing.T) {
	t.Parallel()
	// Lists of numbers, times and the like come in binary form beside it.
	i, name := captured(t, "source:\n  heartbeat_every: 200ms\n", []map[string]any{{"match": "public.*"}}, map[string]any{"largest_value": 1 << 20},
		"CREATE TABLE scans (id integer PRIMARY KEY, page bytea, note text, price numeric, at timestamptz, tags text[], doc jsonb, ok boolean, small smallint, id8 bigint, address inet)",
		"ALTER TABLE scans ALTER COLUMN page SET STORAGE EXTERNAL", "INSERT INTO scans (id, page, note) VALUES (1, decode(repeat('ff', 2000000), 'hex'), 'there before')", "INSERT INTO scans (id, page) VALUES (2, '\\x00ff')")
	db := connect(t, sourceServer(t), name)
	existing := ofTable(i.journal("circulation"), "public.scans", "existing")
	require.Len(t, existing, 2)
	large := func(e *event) string {
		var d struct {
			Data struct {
				TooLarge json.RawMessage `json:"too_large"`
			}
		}
		require.NoError(t, json.Unmarshal(e.raw, &d))
		return string(d.Data.TooLarge)
	}
	require.Equal(t, []string{"page"}, existing[0].Data.Omitted)
	require.JSONEq(t, `{"page": 2000000}`, large(existing[0]))
	require.Equal(t, `"there before"`, string(existing[0].Data.After["note"]))
	require.Equal(t, `"AP8="`, string(existing[1].Data.After["page"]))
	state, note := i.table("public.scans")
	require.Equal(t, "stale", state)
	require.Contains(t, note, "largest_value")

	row := "'a', 12345678901234567890.5, '2026-11-23 09:14:07.5+02', ARRAY['x', NULL], '{\"a\": 1}', true, -3, 9007199254740993, '10.0.0.1/8'"
	run(t, db, "INSERT INTO scans VALUES (3, decode(repeat('ab', 3000000), 'hex'), "+row+")",
		"BEGIN; INSERT INTO scans VALUES (4, NULL, "+row+"); INSERT INTO scans SELECT 5, decode(repeat(repeat('cd', 1000000), 300), 'hex') || decode(repeat(repeat('cd', 1000000), 300), 'hex'), "+row+"; INSERT INTO scans VALUES (6, '\\x0102', "+row+"); COMMIT",
		"UPDATE scans SET note = 'b' WHERE id = 6")
	i.reached("circulation", db)
	events := i.journal("circulation")
	proveJournal(t, events)
	inserts := ofTable(events, "public.scans", "insert")
	require.Len(t, inserts, 4)
	require.JSONEq(t, `{"page": 3000000}`, large(inserts[0]))
	require.JSONEq(t, `{"page": 600000000}`, large(inserts[2]))
	for _, e := range inserts {
		delete(e.Data.After, "id")
		delete(e.Data.After, "page")
		got, _ := json.Marshal(e.Data.After)
		require.JSONEq(t, `{"note":"a","price":"12345678901234567890.5","at":"2026-11-23T07:14:07.500000Z","tags":["x",null],"doc":{"a":1},"ok":true,"small":-3,"id8":9007199254740993,"address":"10.0.0.1/8"}`, string(got))
	}
	require.Equal(t, "null", string(parseEvent(t, inserts[1].raw).Data.After["page"]))
	require.Equal(t, `"AQI="`, string(parseEvent(t, inserts[3].raw).Data.After["page"]))
	require.Less(t, i.resident(), 150.0, "MiB resident")
	log, err := os.ReadFile(i.logFile())
	require.NoError(t, err)
	require.Contains(t, string(log), "id 5: the value of column page, of 600000000 bytes, is larger than largest_value and left out")
	require.Equal(t, 1, strings.Count(string(log), "read again in binary form"), "it goes back to text, and stays there")
}

// TestAValueThatIsTooLargeToReadAgain: a row that enters a filter without a value that the
// log left out is read again; where that value is too large, its event says so.
func TestAValueThatIsTooLargeToReadAgain(t *testing.T) {
	t.Parallel()
	i, name := captured(t, "", []map[string]any{{"match": "public.*", "filter": "shown"}}, map[string]any{"largest_value": 1 << 20},
		"CREATE TABLE scans (id integer PRIMARY KEY, page bytea, shown boolean)", "ALTER TABLE scans ALTER COLUMN page SET STORAGE EXTERNAL",
		"INSERT INTO scans VALUES (1, decode(repeat('ff', 2000000), 'hex'), false), (2, decode(repeat('ff', 100000), 'hex'), false)")
	db := connect(t, sourceServer(t), name)
	state, _ := i.table("public.scans")
	require.Equal(t, "following", state)
	run(t, db, "UPDATE scans SET shown = true")
	i.reached("circulation", db)
	i.eventually("both rows are read again", func() bool { return len(ofTable(i.journal("circulation"), "public.scans", "existing")) == 2 })
	events := i.journal("circulation")
	proveJournal(t, events)
	read := ofTable(events, "public.scans", "existing")
	require.Equal(t, []string{"page"}, read[0].Data.Omitted)
	require.Contains(t, string(read[0].raw), `"too_large":{"page":2000000}`)
	require.Empty(t, read[1].Data.Omitted)
	i.eventually("the table says what it lacks", func() bool {
		state, note := i.table("public.scans")
		return state == "stale" && strings.Contains(note, "largest_value")
	})
}
