package postgresql

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/destination/sql"
)

// Absent implements [sql.RowWriter].
func (d *database) Absent(ctx context.Context, b *sql.Binding, sought []sql.Sought) (absent []int, err error) {
	text := func(moved bool) string {
		return b.Text(fmt.Sprint("there ", moved), func() string {
			return "SELECT 1 FROM " + b.SQL + " WHERE " + keyed(b) + b.There(moved) + " LIMIT 1"
		})
	}
	pipeline := d.conn.PgConn().StartPipeline(ctx)
	defer func() { err = errors.Join(err, pipeline.Close()) }()
	for from := 0; from < len(sought); from += maxQueued {
		piece := sought[from:min(from+maxQueued, len(sought))]
		params := make([][][]byte, len(piece)) // all of them before the first is sent: none may be without its answer
		for n, one := range piece {
			if params[n], err = row(b, one.Image, b.Key); err != nil {
				return nil, err
			}
		}
		for n, one := range piece {
			pipeline.SendQueryParams(text(one.Moved), params[n], nil, nil, nil)
		}
		if err := pipeline.Sync(); err != nil {
			return nil, err
		}
		for at := from; ; {
			results, err := pipeline.GetResults()
			if err != nil {
				return nil, err
			}
			reader, is := results.(*pgconn.ResultReader)
			if !is {
				break // the end of the piece
			}
			if !reader.NextRow() {
				absent = append(absent, at)
			}
			if _, err := reader.Close(); err != nil {
				return nil, err
			}
			at++
		}
	}
	return absent, nil
}
