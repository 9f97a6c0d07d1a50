package postgresql

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
)

// Absent implements [sql.RowWriter].
func (d *database) Absent(ctx context.Context, b *sql.Binding, images [][]change.Value) (absent []int, err error) {
	text := b.Text("there", func() string {
		text := "SELECT 1 FROM " + b.SQL + " WHERE " + keyed(b)
		if b.Keep == sql.Versions {
			text += " AND " + sql.Until + " = 'infinity'"
		}
		return text + " LIMIT 1"
	})
	pipeline := d.conn.PgConn().StartPipeline(ctx)
	defer func() { err = errors.Join(err, pipeline.Close()) }()
	for from := 0; from < len(images); from += maxQueued {
		piece := images[from:min(from+maxQueued, len(images))]
		for _, image := range piece {
			params, err := row(b, image, b.Key)
			if err != nil {
				return nil, err
			}
			pipeline.SendQueryParams(text, params, nil, nil, nil)
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
