package postgres

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/engine"
	"rillmark/internal/postgres/chunk"
	"rillmark/internal/postgres/loads"
	"rillmark/internal/postgres/session"
)

// place writes a mark into the source's log and waits until the stream has
// brought it, seen having run there.
func (r *run) place(ctx context.Context, conn *pgx.Conn, seen func() error) error {
	nonce := newNonce()
	waiting := &mark{seen: seen, done: make(chan struct{})}
	r.under(func() { r.marks[nonce] = waiting })
	defer r.under(func() { delete(r.marks, nonce) })
	if _, err := conn.Exec(ctx, "SELECT pg_logical_emit_message(true, $1, $2)", markPrefix, nonce); err != nil {
		return err
	}
	select {
	case <-waiting.done:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// catchUp ends a run that is to end so: with nothing left to load, once all that was
// committed before is in the journal.
func (r *run) catchUp(ctx context.Context) error {
	for loaded := false; !loaded; {
		var more <-chan struct{}
		r.under(func() {
			loaded, more = r.loads.AllLoaded(), r.loads.More()
		})
		if loaded {
			break
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-more:
		}
	}
	conn, err := r.markSession(ctx, "mark")
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	if err := r.place(ctx, conn, func() error { return nil }); err != nil {
		if session.MayNotWrite(err) {
			return &engine.Fault{Code: "no-marks", Final: true, Cause: err, Message: "the login may not write messages into the source's log, by which a run that ends when it has caught up knows that it has",
				Fix: session.GrantMessages(conn, r.config.Connection.User) + ", or let the source run without an end"}
		}
		return err
	}
	return r.sink.Locked(func() error {
		if err := r.sink.StoreWhole(ctx); err != nil {
			return err
		}
		return engine.ErrCaughtUp
	})
}

// markSession is a session for marks: a commit of one must not hang behind a
// standby that does not answer.
func (r *run) markSession(ctx context.Context, purpose string) (*pgx.Conn, error) {
	conn, err := r.config.Connect(ctx, purpose)
	if err != nil {
		return nil, err
	}
	if _, err := conn.Exec(ctx, "SET synchronous_commit = local"); err != nil {
		conn.Close(ctx) //nolint:errcheck // the first error is the one to tell
		return nil, err
	}
	return conn, nil
}

// keepHeartbeat writes a heartbeat now and then, so that a quiet database's slot
// moves on and so that a resumed stream proves to be the one we know.
func (r *run) keepHeartbeat(ctx context.Context) error {
	conn, err := r.markSession(ctx, "heartbeat")
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	ticker := time.NewTicker(r.config.HeartbeatEvery)
	defer ticker.Stop()
	for {
		var text string
		if err := conn.QueryRow(ctx, "SELECT pg_current_snapshot()::text").Scan(&text); err != nil {
			return err
		}
		seen, err := chunk.ParseSnapshot(text)
		if err != nil {
			return err
		}
		nonce := newNonce()
		// A heartbeat that never came by is forgotten with the run; a few are
		// all there can be, as the stream ends after a while of silence.
		r.under(func() {
			r.notYetVisible.Prune(&seen)
			r.marks[nonce] = &mark{done: make(chan struct{}), seen: func() error {
				r.at.Nonce, r.at.NonceCommit = nonce, session.LSN(r.tx.FinalLSN)
				r.notYetVisible.Heartbeat()
				r.sink.Touch()
				return r.backToText(ctx)
			}}
		})
		_, err = conn.Exec(ctx, "SELECT pg_logical_emit_message(true, $1, $2)", markPrefix, nonce)
		if session.MayNotWrite(err) {
			return r.withoutHeartbeat(ctx, session.GrantMessages(conn, r.config.Connection.User))
		}
		if err != nil {
			return fmt.Errorf("writing a heartbeat into the source's log: %w", err)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-ticker.C:
		}
	}
}

// withoutHeartbeat goes on where messages may not be written: the slot is then
// confirmed up to the newest stored transaction, and a restored source cannot be
// told from the one we know.
func (r *run) withoutHeartbeat(ctx context.Context, grant string) error {
	r.under(func() { r.at.Nonce, r.at.NonceCommit = "", 0 })
	r.sink.Report(engine.Report{Level: "warn", Event: "no-heartbeat", Message: "the login may not write messages into the source's log: a quiet source holds its log back, tables cannot be loaded, and a restored source cannot be recognised. " +
		grant})
	ticker := time.NewTicker(r.config.HeartbeatEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-ticker.C:
			r.under(func() { r.notYetVisible = loads.NotYetVisible{} }) // without marks nothing is loaded that would ask for it
		}
	}
}
