package catalog

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Offset is how far an outlet is.
type Offset struct {
	// Committed is the newest offset that was delivered; 0 before the first.
	Committed int64
	// Run counts the outlet's rewinds, from 1.
	Run         int
	Delivered   int64 // events that went out, repeats included
	CommittedAt time.Time
	// Until is where an outlet ends that runs once; 0 for one that goes on.
	Until int64
	// ReturnTo is the offset that is committed again at that end; nil where the outlet
	// stays there.
	ReturnTo *int64
	// Reported is how far the consumer says it is, where it keeps an offset of its own; 0
	// where it has said nothing. ReportedAt is when it said so.
	Reported   int64
	ReportedAt *time.Time
	// Lost is how many events retention took before they were delivered.
	Lost int64
	// LetPass is the offset up to which changes of tables' definitions may pass.
	LetPass int64
	// Token is the outlet's own, wherever its name and number are met again.
	Token string
	// Claims are what it may have left beside its files, the newest first.
	Claims []string
}

// Reached is how far the outlet's consumer is, by what was committed and what it says.
func (o *Offset) Reached() int64 { return max(o.Committed, o.Reported) }

// Offset reads how far an outlet is.
func (c *Catalog) Offset(ctx context.Context, outlet int64) (Offset, error) {
	var o Offset
	err := c.Pool.QueryRow(ctx, "SELECT committed, run, delivered, committed_at, coalesce(until, 0), return_to, coalesce(reported, 0), reported_at, token::text, let_pass, claims FROM rillmark.outlet_offset WHERE outlet_id = $1", outlet).
		Scan(&o.Committed, &o.Run, &o.Delivered, &o.CommittedAt, &o.Until, &o.ReturnTo, &o.Reported, &o.ReportedAt, &o.Token, &o.LetPass, &o.Claims)
	if errors.Is(err, pgx.ErrNoRows) {
		return o, ErrNotFound
	}
	return o, err
}

const commitSQL = `UPDATE rillmark.outlet_offset SET committed = greatest(committed, $3), delivered = delivered + $4, committed_at = now()
	WHERE outlet_id = $1 AND run = $2`

// Commit moves an outlet's committed offset forward within its run, and counts
// what was delivered. An offset at or below the committed one changes nothing
// but the count; a run that is over is [ErrVersion].
func (c *Catalog) Commit(ctx context.Context, outlet int64, run int, committed, delivered int64) error {
	tag, err := c.Pool.Exec(ctx, commitSQL, outlet, run, committed, delivered)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrVersion
	}
	return err
}

// Report notes how far a consumer says it is. It may go back, as the consumer may.
func (c *Catalog) Report(ctx context.Context, outlet, reported int64) error {
	tag, err := c.Pool.Exec(ctx, "UPDATE rillmark.outlet_offset SET reported = $2, reported_at = now() WHERE outlet_id = $1", outlet, reported)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// Claim puts on record what an outlet leaves beside its files now; what was there before may be
// there still.
func (h *Hold) Claim(ctx context.Context, token string) error {
	tag, err := h.instance.catalog.Pool.Exec(ctx, "UPDATE rillmark.outlet_offset SET claims = array_prepend($3, claims[1:1]) WHERE outlet_id = $1 AND epoch = $2", h.outlet, h.epoch, token)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrHeld
	}
	return err
}

// StateName names the state database among all, its copies included.
func (c *Catalog) StateName(ctx context.Context) (name string, err error) {
	err = c.Pool.QueryRow(ctx, "SELECT concat_ws('/', (SELECT system_identifier FROM pg_control_system()), (SELECT oid FROM pg_database WHERE datname = current_database()), current_setting('port'))").Scan(&name)
	if err != nil {
		err = fmt.Errorf("asking what the state database is: %w", err)
	}
	return name, err
}

// LetPass has an outlet deliver beyond changes of tables' definitions up to an offset.
func (c *Catalog) LetPass(ctx context.Context, outlet, offset int64) error {
	_, err := c.Pool.Exec(ctx, "UPDATE rillmark.outlet_offset SET let_pass = greatest(let_pass, $2) WHERE outlet_id = $1", outlet, offset)
	return err
}

// Offsets reads how far all outlets are, by their ids.
func (c *Catalog) Offsets(ctx context.Context) (map[int64]Offset, error) {
	rows, _ := c.Pool.Query(ctx, `SELECT o.outlet_id, committed, run, delivered, committed_at, coalesce(until, 0), return_to, coalesce(reported, 0), reported_at, coalesce(l.lost, 0)
		FROM rillmark.outlet_offset o LEFT JOIN (SELECT outlet_id, sum(last_offset - first_offset + 1)::bigint AS lost FROM rillmark.outlet_lost GROUP BY outlet_id) l USING (outlet_id)`)
	all := make(map[int64]Offset)
	var id int64
	var o Offset
	_, err := pgx.ForEachRow(rows, []any{&id, &o.Committed, &o.Run, &o.Delivered, &o.CommittedAt, &o.Until, &o.ReturnTo, &o.Reported, &o.ReportedAt, &o.Lost}, func() error {
		all[id] = o
		return nil
	})
	return all, err
}

// Replay is which part of the journal a rewound outlet delivers; the zero value is all
// from there on.
type Replay struct {
	// Until is the newest offset that is delivered; 0 without an end. An outlet that is
	// paused runs until it is there.
	Until int64
	// Return has the outlet go back then to where it was, and go on from there if it ran;
	// else it pauses.
	Return bool
}

// Rewound is what a rewind found, and did.
type Rewound struct {
	// From is the committed offset before.
	From int64
	// ReturnTo is committed again at the replay's end; nil where the outlet stays there.
	ReturnTo *int64
	// Resumed is whether the outlet was paused, and runs now for the replay's sake.
	Resumed bool
}

// Rewind sets an outlet's committed offset, back or forward, and begins a new run. Of the ends
// that hold, that of an earlier replay is forgotten, and that of an outlet that runs once stays.
// A replay within a replay returns to where the first one would have returned to, and runs on
// there if the outlet ran before the first one.
//
// Everything is read and set in one transaction: a run may be ending at this moment.
func (c *Catalog) Rewind(ctx context.Context, outlet, committed int64, part Replay, reason string) (done Rewound, err error) {
	err = pgx.BeginFunc(ctx, c.Pool, func(tx pgx.Tx) error {
		var before Offset
		var ranOn bool
		err := tx.QueryRow(ctx, "SELECT committed, coalesce(until, 0), return_to, runs_on FROM rillmark.outlet_offset WHERE outlet_id = $1 FOR UPDATE", outlet).
			Scan(&before.Committed, &before.Until, &before.ReturnTo, &ranOn)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrNotFound
		}
		if err != nil {
			return err
		}
		// The statement before may have waited for the end of a run. Only another statement sees
		// what that has set.
		var running bool
		if err := tx.QueryRow(ctx, "SELECT running FROM rillmark.outlet WHERE id = $1", outlet).Scan(&running); err != nil {
			return err
		}
		done = Rewound{From: before.Committed}
		runsOn, until := false, part.Until
		switch {
		case part.Return:
			done.ReturnTo, runsOn = before.ReturnTo, ranOn
			if done.ReturnTo == nil {
				done.ReturnTo, runsOn = &before.Committed, running
			}
		case until == 0 && running && before.ReturnTo == nil:
			until = before.Until
		}
		if _, err := tx.Exec(ctx, `UPDATE rillmark.outlet_offset SET committed = $2, run = run + 1, committed_at = now(),
				until = nullif($3, 0), return_to = $4, runs_on = $5 WHERE outlet_id = $1`, outlet, committed, until, done.ReturnTo, runsOn); err != nil {
			return err
		}
		if done.Resumed = part.Until > 0 && !running; !done.Resumed {
			return nil
		}
		_, err = tx.Exec(ctx, "UPDATE rillmark.outlet SET running = true, reason = $2, updated_at = now() WHERE id = $1", outlet, reason)
		return err
	})
	return done, err
}

// SetUntil says where an outlet ends that runs once; 0 lets it go on. A replay that has
// a place to return to keeps its own end.
func (c *Catalog) SetUntil(ctx context.Context, outlet, until int64) error {
	_, err := c.Pool.Exec(ctx, "UPDATE rillmark.outlet_offset SET until = nullif($2, 0) WHERE outlet_id = $1 AND return_to IS NULL", outlet, until)
	return err
}

// End is where a run of an outlet ended, and what follows.
type End struct {
	Until int64
	// ReturnTo is the offset that is committed again; nil where the outlet stays there.
	ReturnTo *int64
	// RunsOn is whether the outlet goes on from there; else it is paused.
	RunsOn bool
}

// EndRun puts on record that an outlet has delivered in a run up to an end: it is back
// where it was, if asked for, and pauses unless it is to run on. It is [ErrNotFound] where
// somebody has changed their mind meanwhile: another run has begun, or it has another end.
func (c *Catalog) EndRun(ctx context.Context, outlet int64, run int, until int64, reason string) (end End, err error) {
	err = pgx.BeginFunc(ctx, c.Pool, func(tx pgx.Tx) error {
		err := tx.QueryRow(ctx, "SELECT until, return_to, runs_on FROM rillmark.outlet_offset WHERE outlet_id = $1 AND run = $2 AND until = $3 FOR UPDATE", outlet, run, until).
			Scan(&end.Until, &end.ReturnTo, &end.RunsOn)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrNotFound
		}
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `UPDATE rillmark.outlet_offset SET until = NULL, return_to = NULL, runs_on = false,
				committed = coalesce(return_to, committed), run = CASE WHEN return_to IS NULL THEN run ELSE run + 1 END WHERE outlet_id = $1`, outlet); err != nil {
			return err
		}
		if end.RunsOn {
			reason = ""
		}
		_, err = tx.Exec(ctx, "UPDATE rillmark.outlet SET running = $2, reason = $3, updated_at = now() WHERE id = $1", outlet, end.RunsOn, reason)
		return err
	})
	return end, err
}
