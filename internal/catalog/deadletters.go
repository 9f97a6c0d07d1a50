package catalog

import (
	"context"
	"errors"
	"fmt"
	"time"

	"rillmark/internal/change"

	"github.com/jackc/pgx/v5"
)

// The states of a dead letter.
const (
	LetterDead   = "dead"   // it was refused, or has failed too often
	LetterBehind = "behind" // it waits behind one of the same row
)

// DeadLetter is an event that an outlet could not deliver.
type DeadLetter struct {
	ID        int64
	Offset    int64
	Row       []byte // names the row within the outlet; empty for none
	State     string
	Retrying  bool
	EventID   string
	Table     string
	Operation string
	Error     string
	Attempts  int
	FirstAt   time.Time
	LastAt    time.Time
	Event     []byte // in the journal's stored form; empty in lists
}

const letterColumns = "id, event_offset, row_name, state, retrying, event_id, table_name, operation, error, attempts, first_at, last_at"

// LetterFilter chooses dead letters; a zero field chooses all.
type LetterFilter struct {
	IDs   []int64
	Table string
	State string
	// Error is a part of the error's text.
	Error string
	// After is the offset behind which a list goes on.
	After int64
	Limit int
	// Retrying chooses those that are to be tried again.
	Retrying bool
	// WithEvents asks for the events, too.
	WithEvents bool
}

func (f *LetterFilter) where() (string, []any) {
	return `event_offset > $2 AND (cardinality($3::bigint[]) = 0 OR id = ANY($3)) AND ($4 = '' OR table_name = $4)
		AND ($5 = '' OR state = $5) AND ($6 = '' OR position(lower($6) in lower(error)) > 0) AND (NOT $7 OR retrying)`,
		[]any{f.After, append([]int64{}, f.IDs...), f.Table, f.State, f.Error, f.Retrying}
}

// DeadLetters lists an outlet's, in the order of their offsets.
func (c *Catalog) DeadLetters(ctx context.Context, outlet int64, f LetterFilter) ([]DeadLetter, error) {
	where, args := f.where()
	if f.Limit <= 0 {
		f.Limit = 1000
	}
	event := "''::bytea"
	if f.WithEvents {
		event = "event"
	}
	rows, _ := c.Pool.Query(ctx, "SELECT "+letterColumns+", "+event+" FROM rillmark.dead_letter WHERE outlet_id = $1 AND "+where+" ORDER BY event_offset LIMIT $8",
		append(append([]any{outlet}, args...), f.Limit)...)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[DeadLetter])
}

// CountDeadLetters counts an outlet's by state.
func (c *Catalog) CountDeadLetters(ctx context.Context, outlet int64) (dead, behind int64, err error) {
	err = c.Pool.QueryRow(ctx, `SELECT count(*) FILTER (WHERE state = 'dead'), count(*) FILTER (WHERE state = 'behind') FROM rillmark.dead_letter WHERE outlet_id = $1`, outlet).
		Scan(&dead, &behind)
	return dead, behind, err
}

// CountAllDeadLetters counts those of all outlets by state, by the outlets' ids.
func (c *Catalog) CountAllDeadLetters(ctx context.Context) (map[int64][2]int64, error) {
	rows, _ := c.Pool.Query(ctx, "SELECT outlet_id, count(*) FILTER (WHERE state = 'dead'), count(*) FILTER (WHERE state = 'behind') FROM rillmark.dead_letter GROUP BY outlet_id")
	all := make(map[int64][2]int64)
	var id int64
	var counts [2]int64
	_, err := pgx.ForEachRow(rows, []any{&id, &counts[0], &counts[1]}, func() error {
		all[id] = counts
		return nil
	})
	return all, err
}

// DeadRows are the rows that have a dead letter, and how many events wait.
func (c *Catalog) DeadRows(ctx context.Context, outlet int64) (map[string]bool, int, error) {
	rows, _ := c.Pool.Query(ctx, "SELECT row_name, count(*) FROM rillmark.dead_letter WHERE outlet_id = $1 GROUP BY row_name", outlet)
	found := make(map[string]bool)
	total := 0
	var name []byte
	var n int
	_, err := pgx.ForEachRow(rows, []any{&name, &n}, func() error {
		if len(name) > 0 {
			found[string(name)] = true
		}
		total += n
		return nil
	})
	return found, total, err
}

// StoreDeadLetters stores dead letters and moves the committed offset in one
// transaction: an event is either still to be delivered, or a dead letter. A negative
// offset leaves the committed one.
func (h *Hold) StoreDeadLetters(ctx context.Context, run int, committed, delivered int64, letters []DeadLetter) error {
	outlet := h.outlet
	return pgx.BeginFunc(ctx, h.instance.catalog.Pool, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, commitSQL+" AND epoch = $5", outlet, run, committed, delivered, h.epoch)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrVersion
		}
		for _, l := range letters {
			_, err := tx.Exec(ctx, `INSERT INTO rillmark.dead_letter AS l (outlet_id, event_offset, row_name, state, event_id, table_name, operation, error, attempts, event)
				VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)
				ON CONFLICT (outlet_id, event_offset) DO UPDATE SET state = excluded.state, error = excluded.error, attempts = greatest(l.attempts, excluded.attempts), last_at = now(), retrying = false`,
				outlet, l.Offset, append([]byte{}, l.Row...), l.State, l.EventID, l.Table, l.Operation, change.Storable(h.instance.catalog.Keeper.Conceal(l.Error)), l.Attempts, l.Event)
			if err != nil {
				return fmt.Errorf("putting the dead letter of offset %d on record: %w", l.Offset, err)
			}
		}
		return nil
	})
}

// RetryDeadLetters asks for letters to be tried again, and with them those that
// wait behind them. It says how many.
func (c *Catalog) RetryDeadLetters(ctx context.Context, outlet int64, f LetterFilter) (int64, error) {
	where, args := f.where()
	tag, err := c.Pool.Exec(ctx, `WITH chosen AS (SELECT id, row_hash FROM rillmark.dead_letter WHERE outlet_id = $1 AND `+where+`)
		UPDATE rillmark.dead_letter l SET retrying = true WHERE outlet_id = $1
			AND (id IN (SELECT id FROM chosen) OR row_name <> '' AND row_hash IN (SELECT row_hash FROM chosen))`, append([]any{outlet}, args...)...)
	return tag.RowsAffected(), err
}

// DiscardDeadLetters forgets letters. Those that wait behind one that goes are
// tried again by themselves.
func (c *Catalog) DiscardDeadLetters(ctx context.Context, outlet int64, f LetterFilter) (int64, error) {
	var gone int64
	err := pgx.BeginFunc(ctx, c.Pool, func(tx pgx.Tx) error {
		where, args := f.where()
		rows, _ := tx.Query(ctx, "DELETE FROM rillmark.dead_letter WHERE outlet_id = $1 AND "+where+" RETURNING row_hash", append([]any{outlet}, args...)...)
		hashes, err := pgx.CollectRows(rows, pgx.RowTo[[]byte])
		if err != nil {
			return err
		}
		gone = int64(len(hashes))
		_, err = tx.Exec(ctx, `UPDATE rillmark.dead_letter l SET retrying = true WHERE outlet_id = $1 AND row_hash = ANY($2)
			AND NOT EXISTS (SELECT FROM rillmark.dead_letter d WHERE d.outlet_id = $1 AND d.row_hash = l.row_hash AND d.state = 'dead')`, outlet, hashes)
		return err
	})
	return gone, err
}

// Redelivered forgets a letter that has arrived.
func (c *Catalog) Redelivered(ctx context.Context, outlet, id int64) error {
	_, err := c.Pool.Exec(ctx, `WITH gone AS (DELETE FROM rillmark.dead_letter WHERE outlet_id = $1 AND id = $2 RETURNING outlet_id)
		UPDATE rillmark.outlet_offset o SET delivered = delivered + 1 FROM gone WHERE o.outlet_id = gone.outlet_id`, outlet, id)
	return err
}

// FailedAgain notes that a letter was refused once more; those behind it wait on.
func (c *Catalog) FailedAgain(ctx context.Context, outlet, id int64, text string) error {
	_, err := c.Pool.Exec(ctx, `WITH one AS (UPDATE rillmark.dead_letter SET attempts = attempts + 1, error = $3, state = 'dead', last_at = now(), retrying = false
			WHERE outlet_id = $1 AND id = $2 RETURNING row_name, row_hash)
		UPDATE rillmark.dead_letter l SET retrying = false FROM one WHERE l.outlet_id = $1 AND one.row_name <> '' AND l.row_hash = one.row_hash AND l.id <> $2`, outlet, id, change.Storable(c.Keeper.Conceal(text)))
	return err
}

// FreeBehind asks for those to be tried again that wait behind nothing any more:
// they came while what they waited for was being delivered. It says how many.
func (c *Catalog) FreeBehind(ctx context.Context, outlet int64) (int64, error) {
	tag, err := c.Pool.Exec(ctx, `UPDATE rillmark.dead_letter l SET retrying = true WHERE outlet_id = $1 AND state = 'behind' AND NOT retrying
		AND NOT EXISTS (SELECT FROM rillmark.dead_letter d WHERE d.outlet_id = $1 AND d.row_hash = l.row_hash AND d.state = 'dead')`, outlet)
	return tag.RowsAffected(), err
}

// Lost is a range of offsets that retention took before it was delivered.
type Lost struct {
	First int64     `json:"first"`
	Last  int64     `json:"last"`
	At    time.Time `json:"at"`
}

// NoteLost records offsets that an outlet has lost.
func (c *Catalog) NoteLost(ctx context.Context, outlet int64, lost Lost) error {
	_, err := c.Pool.Exec(ctx, "INSERT INTO rillmark.outlet_lost (outlet_id, first_offset, last_offset) VALUES ($1, $2, $3)", outlet, lost.First, lost.Last)
	return err
}

// LostOffsets lists what an outlet has lost, the newest last.
func (c *Catalog) LostOffsets(ctx context.Context, outlet int64) ([]Lost, error) {
	rows, _ := c.Pool.Query(ctx, "SELECT first_offset, last_offset, at FROM rillmark.outlet_lost WHERE outlet_id = $1 ORDER BY at DESC LIMIT 20", outlet)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Lost])
}

// Mark is a named place in a journal.
type Mark struct {
	Source    string    `json:"source"`
	Name      string    `json:"name"`
	Offset    int64     `json:"offset" doc:"The offset that is next after the mark"`
	Reason    string    `json:"reason,omitempty"`
	CreatedAt time.Time `json:"created_at"`
}

// SetMark sets a mark, or moves one.
func (c *Catalog) SetMark(ctx context.Context, source int64, name string, offset int64, reason string) error {
	_, err := c.Pool.Exec(ctx, `INSERT INTO rillmark.mark (source_id, name, at_offset, reason) VALUES ($1, $2, $3, $4)
		ON CONFLICT (source_id, name) DO UPDATE SET at_offset = excluded.at_offset, reason = excluded.reason, created_at = now()`, source, name, offset, reason)
	return err
}

// Marks lists the marks of a source, or of all where it is 0, by offset.
func (c *Catalog) Marks(ctx context.Context, source int64) ([]Mark, error) {
	rows, _ := c.Pool.Query(ctx, `SELECT s.name, m.name, m.at_offset, m.reason, m.created_at FROM rillmark.mark m JOIN rillmark.source s ON s.id = m.source_id
		WHERE $1 = 0 OR m.source_id = $1 ORDER BY s.name, m.at_offset, m.name`, source)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Mark])
}

// MarkOffset finds a mark's place.
func (c *Catalog) MarkOffset(ctx context.Context, source int64, name string) (int64, error) {
	var offset int64
	err := c.Pool.QueryRow(ctx, "SELECT at_offset FROM rillmark.mark WHERE source_id = $1 AND name = $2", source, name).Scan(&offset)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return offset, err
}

// RemoveMark forgets a mark.
func (c *Catalog) RemoveMark(ctx context.Context, source int64, name string) error {
	tag, err := c.Pool.Exec(ctx, "DELETE FROM rillmark.mark WHERE source_id = $1 AND name = $2", source, name)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// KeepHistory stores the points of an outlet's last hour, in JSON.
func (c *Catalog) KeepHistory(ctx context.Context, outlet int64, points []byte) error {
	_, err := c.Pool.Exec(ctx, `INSERT INTO rillmark.outlet_history (outlet_id, points) SELECT id, $2 FROM rillmark.outlet WHERE id = $1
		ON CONFLICT (outlet_id) DO UPDATE SET points = excluded.points, updated_at = now()`, outlet, points)
	return err
}

// OutletHistory is what was stored of an outlet's last hour; nil where nothing was.
func (c *Catalog) OutletHistory(ctx context.Context, outlet int64) (points []byte, err error) {
	err = c.Pool.QueryRow(ctx, "SELECT points FROM rillmark.outlet_history WHERE outlet_id = $1", outlet).Scan(&points)
	if errors.Is(err, pgx.ErrNoRows) {
		err = nil
	}
	return points, err
}

// LetterFate is why an event is a dead letter, or waits behind one.
type LetterFate struct {
	State    string    `json:"state" enum:"dead,behind"`
	Error    string    `json:"error,omitempty"`
	Attempts int       `json:"attempts"`
	FirstAt  time.Time `json:"first_at"`
	LastAt   time.Time `json:"last_at"`
}

// LetterAt is the dead letter of an offset; [ErrNotFound] where that is none.
func (c *Catalog) LetterAt(ctx context.Context, outlet, offset int64) (*LetterFate, error) {
	rows, _ := c.Pool.Query(ctx, "SELECT state, error, attempts, first_at, last_at FROM rillmark.dead_letter WHERE outlet_id = $1 AND event_offset = $2", outlet, offset)
	one, err := pgx.CollectExactlyOneRow(rows, pgx.RowToAddrOfStructByPos[LetterFate])
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return one, err
}
