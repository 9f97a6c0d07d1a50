package postgresql

import (
	"context"
	"slices"
	"strconv"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/destination/sql"
)

// integerKeys are the keys of rows as numbers, where they are: the server takes those in their
// binary form, at a fraction of what it needs to read texts.
func integerKeys(b *sql.Binding, at int, kind string, rows sql.Rows) (numbers []int64, is bool) {
	switch kind {
	case "bigint", "integer", "smallint":
	default:
		return nil, false
	}
	if b.Write[at] != nil {
		return nil, false
	}
	numbers = make([]int64, rows.N)
	for i := range numbers {
		var err error
		if numbers[i], err = strconv.ParseInt(string(rows.Values(i)[b.From[at]].Text), 10, 64); err != nil {
			return nil, false
		}
	}
	return numbers, true
}

// shortestRun is how many numbers in a row are worth a statement of their own on average.
const shortestRun = 256

// takeOutNumbers deletes rows by the numbers in a column: where those follow each other, as
// they do where a statement has changed many rows, by their first and last, for which the
// server needs a third of the time.
func (d *database) takeOutNumbers(ctx context.Context, b *sql.Binding, column string, numbers []int64, seen seen) error {
	slices.Sort(numbers)
	runs := runsOf(numbers, len(numbers)/shortestRun)
	if runs == nil {
		list, does := "$1::bigint[]", "remove by number"
		if seen.large {
			// Planning for a list that it knows takes the server a fifth of the statement's time,
			// since it estimates the rows of each key. Of a subquery's list it does not.
			list, does = "(SELECT $1::bigint[])::bigint[]", "remove by number from many"
		}
		_, err := d.conn.Exec(ctx, b.Text(does, func() string {
			return "DELETE FROM " + b.SQL + " WHERE " + column + " = ANY (" + list + ")"
		}), numbers)
		return err
	}
	remove := b.Text("remove by numbers in a row", func() string {
		return "DELETE FROM " + b.SQL + " WHERE " + column + " BETWEEN $1::bigint AND $2::bigint"
	})
	var batch pgx.Batch
	for _, r := range runs {
		batch.Queue(remove, r[0], r[1])
	}
	return d.conn.SendBatch(ctx, &batch).Close()
}

// runsOf are the first and last of numbers that follow each other without a gap, of sorted
// ones; nil where those are more than most.
func runsOf(sorted []int64, most int) (runs [][2]int64) {
	for i, n := range sorted {
		switch last := len(runs) - 1; {
		case i > 0 && n-runs[last][1] <= 1 && n-runs[last][1] >= 0:
			runs[last][1] = n
		case len(runs) == most:
			return nil
		default:
			runs = append(runs, [2]int64{n, n})
		}
	}
	return runs
}
