package test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/require"
)

// TestParquetModel: Parquet files have the columns and types of a file that somebody else has
// made; what does not fit is named before it is sent, and a reader that is not ours reads the rest.
// It runs once on a directory and once on a bucket.
func TestParquetModel(t *testing.T) {
	t.Parallel()
	configured, _ := scratch(t)
	i, name := begin(t, configured, "CREATE TABLE loans (id bigint PRIMARY KEY, branch integer, fee numeric(6,2), at timestamptz, tags text[], note text)",
		"INSERT INTO loans VALUES (9007199254740993, 3, -1.25, '2026-11-27 09:30+00', '{a,NULL}', 'x')")
	db := connect(t, sourceServer(t), name)
	bucket := bucketTarget(t)
	at := bucket.destination["file"].(map[string]any)["bucket"].(map[string]any)["name"].(string)
	folders := map[string]string{"files": filepath.Join(i.folder, "files", "lake"), "bucket": filepath.Join(bucket.folder, at, "events")}
	i.must(http.MethodPost, "/v1/destinations/files", map[string]any{"kind": "file", "file": map[string]any{"directory": "lake"}}, nil)
	i.must(http.MethodPost, "/v1/destinations/bucket", bucket.destination, nil)
	type lending struct {
		ID       int32      `parquet:"id"`
		BranchID int64      `parquet:"branch_id"`
		Fee      int64      `parquet:"fee,decimal(2:10)"`
		At       *time.Time `parquet:"at,optional,timestamp(millisecond)"`
		Tags     []*string  `parquet:"tags,optional,list"`
		Desk     *string    `parquet:"desk,optional"`
	}
	i.resume()
	i.settled("circulation", db)
	for to, folder := range folders {
		definition := map[string]any{"source": "circulation", "destination": to, "format": "parquet", "file": map[string]any{"model": "models/{table}.parquet", "rotate_every": "1s"}, "operations": []string{"existing", "insert", "update"}}
		checked := func() (verdict, says string) {
			t.Helper()
			var found struct {
				Items []struct{ Name, Verdict, Found, Why string }
			}
			i.must(http.MethodPost, "/v1/outlets/"+to+"/check", definition, &found)
			for _, c := range found.Items {
				if c.Name == "schema of public.loans" {
					return c.Verdict, c.Found + " " + c.Why
				}
			}
			return "", ""
		}
		i.must(http.MethodPost, "/v1/outlets/"+to, definition, nil)
		i.outletIs(to, "waits for the model", func(o outletStatus) bool {
			return o.Code == "model" && strings.Contains(o.Error, "models/public.loans.parquet")
		})
		model := filepath.Join(folder, "models", "public.loans.parquet")
		require.NoError(t, os.MkdirAll(filepath.Dir(model), 0o750))
		require.NoError(t, os.WriteFile(model, []byte("these are no columns"), 0o600))
		verdict, says := checked()
		require.Equal(t, "missing", verdict)
		require.Contains(t, says, "cannot be read as a Parquet file")
		require.NoError(t, parquet.WriteFile(model, []lending{}))
		verdict, says = checked()
		require.Equal(t, "missing", verdict)
		require.Contains(t, says, `branch_id: no column has the name, and the model takes no null there; "branch" may be it`)
		i.outletIs(to, "waits until rows fit", func(o outletStatus) bool { return o.Code == "model" && strings.Contains(o.Error, "branch_id") })

		definition["rows"] = []map[string]any{{"match": "public.loans", "columns": []map[string]any{{"match": "branch", "name": "branch_id"}}}}
		verdict, says = checked()
		require.Equal(t, "note", verdict)
		require.Contains(t, says, "id: numbers that do not fit into 32 bits become dead letters")
		require.Contains(t, says, "note, _operation, _offset: the model has no such column: not sent")
		edit(i, "outlets", to, func(d map[string]any) { d["rows"] = definition["rows"] })
		i.outletIs(to, "has a dead letter", func(o outletStatus) bool { return o.Dead == 1 })
		require.Contains(t, i.letters(to).Items[0].Error, "column id of the model: 9007199254740993 is no integer of 32 bits")
	}
	run(t, db, "INSERT INTO loans VALUES (2, 1, -1.25, '2026-11-27 09:30:00.5+00', '{a,NULL}', 'x'), (3, 1, 1, NULL, NULL, 'y'), (4, 1, 1, NULL, '{}', 'z')",
		"INSERT INTO loans VALUES (5, 1, NULL, NULL, NULL, '')", "DELETE FROM loans WHERE id = 4", "TRUNCATE loans")
	i.reached("circulation", db)
	for to, folder := range folders {
		i.outletIs(to, "has two dead letters", func(o outletStatus) bool { return o.Dead == 2 })
		i.caughtUp(to)
		require.Equal(t, "[map[at:2026-11-27T09:30:00.500Z branch_id:1 desk:<nil> fee:-1.25 id:2 tags:[a <nil>]] map[at:<nil> branch_id:1 desk:<nil> fee:1 id:3] map[at:<nil> branch_id:1 desk:<nil> fee:1 id:4 tags:[]]]",
			fmt.Sprint(npmReader(t, "parquet", manifest(t, folder, to))))
		out, errs, code := i.cli("outlet", "preview", to, "--from", "1")
		require.Zero(t, code, errs)
		require.Contains(t, out, `{"id":2,"branch_id":1,"fee":"-1.25","at":"2026-11-27T09:30:00.500000Z","tags":["a",null]}`, "what does not go out is not shown")
		out, errs, code = i.cli("outlet", "document", to)
		require.Zero(t, code, errs)
		require.Contains(t, out, "DECIMAL(10,2)", "the document has the model's schema")
	}

	// What a change of the table would do is said before; a model that goes is not missed where its rows are known to fit.
	var impact impactOf
	i.must(http.MethodPost, "/v1/sources/circulation/impact", map[string]any{"sql": "ALTER TABLE loans DROP COLUMN fee"}, &impact)
	require.Contains(t, fmt.Sprintf("%+v", verdictOf(t, &impact, "files")), "would not fit the model models/public.loans.parquet: fee: no column has the name")
	require.NoError(t, os.Remove(filepath.Join(folders["files"], "models", "public.loans.parquet")))
	run(t, db, "INSERT INTO loans VALUES (6, 1, 1, NULL, NULL, '')")
	i.reached("circulation", db)
	i.caughtUp("files")
	require.Len(t, npmReader(t, "parquet", manifest(t, folders["files"], "files")), 4)
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(folders["files"], "models", "public.loans.parquet")))
	for where, change := range map[string]func(d, file map[string]any){
		"goes with format parquet":                        func(d, _ map[string]any) { d["format"] = "avro" },
		"a model has a place for each column":             func(d, _ map[string]any) { d["columns"] = "changed" },
		"models do not have: there is {table}":            func(_, file map[string]any) { file["model"] = "{source}.parquet" },
		"is no name below a directory":                    func(_, file map[string]any) { file["model"] = "../{table}.parquet" },
		"path escapes from parent":                        func(_, file map[string]any) { file["model"] = "models/{table}.parquet" },
		"like any other: leave deletes out of operations": func(d, file map[string]any) { delete(d, "operations"); file["model"] = "old.parquet" },
	} {
		require.NoError(t, parquet.WriteFile(filepath.Join(folders["files"], "old.parquet"), []struct {
			ID int64 `parquet:"id"`
		}{}))
		file := map[string]any{"model": "models/{table}.parquet"}
		d := map[string]any{"source": "circulation", "destination": "files", "format": "parquet", "file": file}
		change(d, file)
		_, raw, err := i.call(http.MethodPost, "/v1/outlets/wrong/check", d)
		require.NoError(t, err)
		require.Contains(t, string(raw), where)
	}
}
