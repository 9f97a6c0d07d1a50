package mariadb

import (
	"context"
	"strconv"

	"rillmark/internal/destination/sql"
)

// Absent implements [sql.RowWriter].
func (d *database) Absent(ctx context.Context, b *sql.Binding, sought []sql.Sought) (absent []int, err error) {
	s := &statements{d: d}
	for i, one := range sought {
		if len(s.text) > 0 {
			s.text = append(s.text, " UNION ALL "...)
		}
		s.text = append(strconv.AppendInt(append(s.text, "SELECT "...), int64(i), 10), " FROM DUAL WHERE NOT EXISTS (SELECT 1 FROM "+b.SQL+" WHERE "...)
		if err := s.where(b, one.Image); err != nil {
			return nil, err
		}
		if s.text = append(append(s.text, b.There(one.Moved)...), ')'); (i+1)%maxAbsent != 0 && i+1 < len(sought) {
			continue
		}
		rows, err := d.conn.All(ctx, 1, string(s.text))
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			at, err := strconv.Atoi(row[0])
			if err != nil {
				return nil, err
			}
			absent = append(absent, at)
		}
		s.text = s.text[:0]
	}
	return absent, nil
}

// maxAbsent is for how many rows one statement asks: each is a SELECT of its own in it.
const maxAbsent = 100
