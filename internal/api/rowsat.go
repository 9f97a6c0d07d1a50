package api

import (
	"bufio"
	"encoding/base64"
	"encoding/csv"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"rillmark/internal/change"
	"rillmark/internal/encode"
	"rillmark/internal/encode/parquetfile"
	"rillmark/internal/service/base"
	"rillmark/internal/service/reading"
)

// The headers that say what the rows are.
const (
	headerOffset    = "Rillmark-Offset"
	headerRows      = "Rillmark-Rows"
	headerCommitted = "Rillmark-Committed-At"
	headerNote      = "Rillmark-Note"
	headerComplete  = "Rillmark-Complete"
)

func (s *Server) rowsAtRoutes() {
	text := func(format string, values ...any) *huma.Schema {
		return &huma.Schema{Type: "string", Format: format, Enum: values}
	}
	op := operation(http.MethodGet, "/v1/sources/{name}/tables/{table}/rows", "rowsAt", "A table's rows as they were at an offset, worked out from the journal", "sources")
	op.Parameters = []*huma.Param{
		{Name: "name", In: "path", Required: true, Schema: text("")}, {Name: "table", In: "path", Required: true, Schema: text("")},
		{Name: "at", In: "query", Description: "An offset, the newest that counts; or what lies before now, time:2026-11-23T09:00:00Z or mark:NAME. Now without it", Schema: text("")},
		{Name: "where", In: "query", Description: "A condition on rows, in CEL", Schema: text("")},
		{Name: "format", In: "query", Description: "ndjson, a JSON object in each line, without it; csv: with the columns' names in the first line, and a null like an empty text; parquet: a Parquet file, compressed with zstd", Schema: text("", "ndjson", "csv", "parquet")},
	}
	header := func(about string) *huma.Header { return &huma.Header{Description: about, Schema: text("")} }
	op.Responses = map[string]*huma.Response{"200": {Description: "The rows, as they come", Headers: map[string]*huma.Header{headerOffset: header("The newest offset that counts"), headerRows: header("How many rows the table had, whatever the condition"),
		headerCommitted: header("When the newest event of the table was committed"), headerComplete: header("true: the rows are what they were; false: some may be missing, or not what they were"), headerNote: header("Why rows may not be what they were")},
		Content: map[string]*huma.MediaType{"application/x-ndjson": {Schema: text("")}, "text/csv": {Schema: text("")}, parquetType: {Schema: text("binary")}}}}
	s.live(op, s.rowsAt)
}

func (s *Server) rowsAt(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	format := query.Get("format")
	if !slices.Contains([]string{"", "ndjson", "csv", "parquet"}, format) {
		answerProblem(w, newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, fmt.Sprintf("format %q: there are ndjson, csv and parquet", format)))
		return
	}
	rows, err := s.service.Reading.RowsAt(r.Context(), chi.URLParam(r, "name"), reading.RowsOf{Table: chi.URLParam(r, "table"), At: query.Get("at"), Where: query.Get("where")})
	if err != nil {
		if r.Context().Err() == nil {
			answerProblem(w, problem(err).(*Problem))
		}
		return
	}
	defer rows.Close()
	h := w.Header()
	h.Set(headerOffset, strconv.FormatInt(rows.Offset, 10))
	h.Set(headerRows, strconv.FormatInt(rows.Rows, 10))
	if !rows.CommittedAt.IsZero() {
		h.Set(headerCommitted, rows.CommittedAt.Format(time.RFC3339Nano))
	}
	h.Set(headerComplete, strconv.FormatBool(rows.Complete))
	if rows.Note != "" {
		h.Set(headerNote, rows.Note)
	}
	h.Set("Cache-Control", "no-store")
	out := bufio.NewWriterSize(&timedWriter{w: w, control: http.NewResponseController(w)}, 64<<10)
	switch format {
	case "csv":
		h.Set("Content-Type", "text/csv; charset=utf-8")
		err = writeCSV(out, rows)
	case "parquet":
		h.Set("Content-Type", parquetType)
		err = writeParquet(out, rows)
	default:
		h.Set("Content-Type", "application/x-ndjson")
		err = writeRows(out, rows)
	}
	if err == nil {
		err = out.Flush()
	}
	if err != nil && r.Context().Err() == nil {
		panic(http.ErrAbortHandler) // the answer is torn, and has to look so
	}
}

// parquetType is the media type of Parquet files.
const parquetType = "application/vnd.apache.parquet"

// writeParquet writes a Parquet file.
func writeParquet(out io.Writer, rows *reading.RowsAt) error {
	shape := encode.Shape{Format: encode.FormatParquet, Metadata: []string{"none"}}
	w := parquetfile.New(out, encode.Flattened(shape, rows.Schema()), "zstd")
	err := rows.Each(func(row []change.Value) error {
		size := 0
		for _, v := range row {
			size += len(v.Text)
		}
		return w.Add(change.CloneImage(row), size)
	})
	if err != nil {
		return err
	}
	return w.Close()
}

// timedWriter gives each write its time.
type timedWriter struct {
	w       io.Writer
	control *http.ResponseController
}

func (t *timedWriter) Write(p []byte) (int, error) {
	t.control.SetWriteDeadline(time.Now().Add(writeTime)) //nolint:errcheck // then the write fails
	return t.w.Write(p)
}

// writeRows writes a JSON object for each row.
func writeRows(out io.Writer, rows *reading.RowsAt) error {
	maker := encode.NewMaker(encode.Shape{Format: encode.FormatRow, Metadata: []string{"none"}}, encode.Capabilities{})
	var batch encode.Batch
	flush := func() error {
		for i := range batch.Messages {
			m := &batch.Messages[i]
			if m.EncodeError != nil {
				return m.EncodeError
			}
			if _, err := out.Write(append(m.Body, '\n')); err != nil {
				return err
			}
		}
		batch.Reset()
		return nil
	}
	e := change.Event{Operation: change.Existing, Table: rows.Table, Schema: rows.Schema()}
	err := rows.Each(func(row []change.Value) error {
		e.After = row
		if err := maker.Append(&batch, &e, true); err != nil {
			return err
		}
		return flush()
	})
	return err
}

// writeCSV writes a line for each row, by RFC 4180.
func writeCSV(out io.Writer, rows *reading.RowsAt) error {
	w := csv.NewWriter(out)
	columns := rows.Schema().Columns
	fields := make([]string, len(columns))
	for i, c := range columns {
		fields[i] = c.Name
	}
	if err := w.Write(fields); err != nil {
		return err
	}
	err := rows.Each(func(row []change.Value) error {
		for i, v := range row {
			switch {
			case v.Presence != change.Present:
				fields[i] = ""
			case columns[i].Rule.Form() == change.FormBase64:
				fields[i] = base64.StdEncoding.EncodeToString(v.Text)
			default:
				fields[i] = string(v.Text)
			}
		}
		return w.Write(fields)
	})
	if err != nil {
		return err
	}
	w.Flush()
	return w.Error()
}
