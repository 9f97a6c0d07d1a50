package catalog

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
)

// LogEntry is one line of the log of the run.
type LogEntry struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	Level   string    `json:"level" enum:"info,warn,error"`
	Subject string    `json:"subject" doc:"source/NAME, outlet/NAME, destination/NAME or service"`
	Event   string    `json:"event" doc:"A stable word for what happened"`
	Message string    `json:"message"`
}

// AppendLog stores lines of the log of the run.
func (c *Catalog) AppendLog(ctx context.Context, entries []LogEntry) error {
	rows := make([][]any, len(entries))
	for i, e := range entries {
		rows[i] = []any{e.At, e.Level, e.Subject, e.Event, change.Storable(e.Message)}
	}
	_, err := c.Pool.CopyFrom(ctx, pgx.Identifier{"rillmark", "run_log"}, []string{"at", "level", "subject", "event", "message"}, pgx.CopyFromRows(rows))
	return err
}

// Log reads the newest lines, newest first, of a subject or of all, from since on.
func (c *Catalog) Log(ctx context.Context, subject string, since time.Time, limit int) ([]LogEntry, error) {
	rows, _ := c.Pool.Query(ctx, `SELECT id, at, level, subject, event, message FROM rillmark.run_log
		WHERE ($1 = '' OR subject = $1) AND at >= $2 ORDER BY id DESC LIMIT $3`, subject, since, limit)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[LogEntry])
}

// RedeliveredAt is when an event was delivered that had been a dead letter, and what was said as it
// became one, as far as the log of the run goes back; zero where it says nothing of it.
func (c *Catalog) RedeliveredAt(ctx context.Context, outlet, eventID string) (at time.Time, why string, err error) {
	rows, _ := c.Pool.Query(ctx, `SELECT at, message FROM rillmark.run_log WHERE subject = $1 AND event = 'dead-letter' AND starts_with(message, $2 || ' ') ORDER BY id`, "outlet/"+outlet, eventID)
	var when time.Time
	var message string
	_, err = pgx.ForEachRow(rows, []any{&when, &message}, func() error {
		if message == eventID+Redelivered {
			at = when
		} else {
			why = message
		}
		return nil
	})
	return at, why, err
}

// Redelivered is what the log of the run says behind the id of a dead letter that was delivered.
const Redelivered = " was delivered at last"

// TrimLog drops lines that are older than age, and the oldest above most.
func (c *Catalog) TrimLog(ctx context.Context, age time.Duration, most int) error {
	_, err := c.Pool.Exec(ctx, `DELETE FROM rillmark.run_log WHERE at < now() - $1::interval
		OR id <= (SELECT id FROM rillmark.run_log ORDER BY id DESC OFFSET $2 LIMIT 1)`, age, most)
	return err
}
