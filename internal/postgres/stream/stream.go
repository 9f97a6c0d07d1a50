// Package stream is the replication connection to a PostgreSQL server: it makes the slot,
// begins to follow it, hands on its messages, and reports how far they are kept.
package stream

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"rillmark/internal/engine"
	"rillmark/internal/postgres/pgoutput"
	"rillmark/internal/postgres/session"
	"rillmark/internal/postgres/wire"
)

// Stream is the replication connection. next belongs to the reading goroutine,
// report to another; they share nothing but the socket, one for each direction.
type Stream struct {
	config   *session.Config
	conn     *pgconn.PgConn // until started
	System   string
	Timeline int32

	socket net.Conn // once started
	frames *wire.Frames
	in     *wire.Conn
	asked  chan struct{} // the server requests a status reply
	cause  atomic.Pointer[engine.Fault]
}

// nameOf is what the server lists a reader's session under. The reader comes first, since
// the server cuts long names.
func nameOf(reader string) string { return "rillmark stream " + reader + " " }

// Release ends the sessions of former readers of the source's slot that the server has not
// noticed to be gone: it would wait for them for its wal_sender_timeout.
func Release(ctx context.Context, conn *pgx.Conn, slot string, former []string) error {
	for _, reader := range former {
		if _, err := conn.Exec(ctx, `SELECT pg_terminate_backend(a.pid) FROM pg_replication_slots s JOIN pg_stat_activity a ON a.pid = s.active_pid
			WHERE s.slot_name = $1 AND starts_with(a.application_name, $2)`, slot, nameOf(reader)); err != nil {
			return fmt.Errorf("releasing the slot: %w", err)
		}
	}
	return nil
}

// Open connects and identifies the server. reader is who reads, for [Release].
func Open(ctx context.Context, c *session.Config, reader string) (*Stream, error) {
	s := &Stream{config: c, asked: make(chan struct{}, 1)}
	config := c.Session("stream").Config.Copy()
	config.RuntimeParams["replication"] = "database"
	config.RuntimeParams["application_name"] = nameOf(reader) + c.Source
	// After TLS, so that what is read is the protocol and not its encrypted form.
	config.AfterNetConnect = func(_ context.Context, _ *pgconn.Config, conn net.Conn) (net.Conn, error) {
		s.in = wire.NewConn(conn)
		return s.in, nil
	}
	var err error
	if s.conn, err = pgconn.ConnectConfig(ctx, config); err != nil {
		return nil, c.ExplainAt(session.Opening, err)
	}
	results, err := s.conn.Exec(ctx, "IDENTIFY_SYSTEM").ReadAll()
	if err != nil {
		s.Close()
		return nil, c.ExplainAt(session.Opening, err)
	}
	if len(results) != 1 || len(results[0].Rows) != 1 || len(results[0].Rows[0]) < 3 {
		s.Close()
		return nil, errors.New("the server does not identify itself as PostgreSQL does")
	}
	s.System = string(results[0].Rows[0][0])
	fmt.Sscan(string(results[0].Rows[0][1]), &s.Timeline) //nolint:errcheck // zero says that it is unknown
	return s, nil
}

// MakeSlot makes the slot, one that goes with the session where it is temporary,
// and returns the place from which it will send.
func (s *Stream) MakeSlot(ctx context.Context, name string, temporary bool) (session.LSN, error) {
	kind := ""
	if temporary {
		kind = " TEMPORARY"
	}
	results, err := s.conn.Exec(ctx, "CREATE_REPLICATION_SLOT "+session.Quoted(name)+kind+" LOGICAL pgoutput NOEXPORT_SNAPSHOT").ReadAll()
	if err != nil {
		return 0, s.config.ExplainAt(session.MakingSlot, err)
	}
	return session.ParseLSN(string(results[0].Rows[0][1]))
}

// Start begins to stream. The connection belongs to next and report from here.
// binary asks for values in binary form.
func (s *Stream) Start(ctx context.Context, slot string, publications []string, binary bool) error {
	names := make([]string, len(publications))
	for i, p := range publications {
		names[i] = session.Quoted(p)
	}
	// After a slow write the driver reads in the background, and would take the
	// answer to START_REPLICATION for itself: that has to end first.
	if err := s.conn.SyncConn(ctx); err != nil {
		return s.config.Explain(err)
	}
	hijacked, err := s.conn.Hijack()
	if err != nil {
		return err
	}
	s.conn, s.socket, s.frames = nil, hijacked.Conn, wire.NewFrames(s.in, 2*s.config.LargestValue+2) // bytes come as two digits each
	stop := context.AfterFunc(ctx, s.Interrupt)
	defer stop()
	query := &pgproto3.Query{String: "START_REPLICATION SLOT " + session.Quoted(slot) + " LOGICAL 0/0 (proto_version '1', publication_names '" +
		strings.ReplaceAll(strings.Join(names, ","), "'", "''") + "', messages 'true', binary '" + strconv.FormatBool(binary) + "')"}
	request, err := query.Encode(nil)
	if err != nil {
		return err
	}
	if _, err := s.socket.Write(request); err != nil {
		return err
	}
	for {
		kind, body, err := s.frames.Next()
		if err != nil {
			return err
		}
		switch kind {
		case 'W': // CopyBothResponse
			s.in.Coalesce()
			return nil
		case 'E':
			return s.config.ExplainAt(session.Starting, serverError(body))
		}
	}
}

// serverError reads an ErrorResponse.
func serverError(body []byte) error {
	var m pgproto3.ErrorResponse
	if err := m.Decode(body); err != nil {
		return err
	}
	return pgconn.ErrorResponseToPgError(&m)
}

// Next returns the plugin's message, good until the next call, and its place in
// the log; an empty message where the server only gave a sign of life.
func (s *Stream) Next(data *pgoutput.XLogData) (message []byte, start uint64, err error) {
	kind, body, err := s.frames.Next()
	if err != nil {
		if fault := s.cause.Load(); fault != nil {
			return nil, 0, fault
		}
		return nil, 0, s.config.Explain(err)
	}
	switch kind {
	case 'd': // CopyData
		switch {
		case len(body) == 0:
		case body[0] == 'w':
			if err := data.Decode(body[1:]); err != nil {
				return nil, 0, err
			}
			return data.Data, data.Start, nil
		case body[0] == 'k':
			var k pgoutput.Keepalive
			if err := k.Decode(body[1:]); err != nil {
				return nil, 0, err
			}
			if k.ReplyRequested {
				select {
				case s.asked <- struct{}{}:
				default:
				}
			}
		}
	case 'E':
		return nil, 0, s.config.ExplainAt(session.Streaming, serverError(body))
	case 'c', 'C': // CopyDone, CommandComplete
		return nil, 0, &engine.Fault{Code: "source-away", Message: "the source has ended the stream (it is shutting down or its replication is being restarted)"}
	}
	return nil, 0, nil
}

// statusEvery is how often we report to the server how far we are: a tenth of the
// shortest wal_sender_timeout that anybody sets.
const statusEvery = time.Second

// Report sends status replies, which do not wait for anything that is being
// journaled, and ends a stream that has been silent for too long.
func (s *Stream) Report(ctx context.Context, sink engine.Sink) error {
	ticker := time.NewTicker(statusEvery)
	defer ticker.Stop()
	var message, frame []byte
	for {
		silence := time.Since(s.in.LastRead())
		if silence > s.config.SilenceAfter {
			fault := &engine.Fault{Code: "source-silent", Message: fmt.Sprintf("the source has sent nothing for %s, not even a sign of life: the connection hangs", silence.Round(time.Second))}
			s.cause.Store(fault)
			s.Interrupt()
			return fault
		}
		released := sink.Released()
		update := pgoutput.StatusUpdate{Written: released, Flushed: released, Applied: released,
			ClientTime: time.Now().UnixMicro() - session.PostgresEpoch, ReplyRequested: silence > s.config.SilenceAfter/3}
		message = update.Encode(message[:0])
		var err error
		if frame, err = (&pgproto3.CopyData{Data: message}).Encode(frame[:0]); err != nil {
			return err
		}
		s.socket.SetWriteDeadline(time.Now().Add(s.config.SilenceAfter)) //nolint:errcheck // a dead socket fails at the write
		if _, err := s.socket.Write(frame); err != nil {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			return s.config.Explain(err)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-ticker.C:
		case <-s.asked:
		}
	}
}

// Interrupt makes a call of next that is waiting return.
func (s *Stream) Interrupt() {
	s.socket.SetDeadline(time.Unix(1, 0)) //nolint:errcheck // a dead socket returns by itself
}

func (s *Stream) Close() {
	if s.conn != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		s.conn.Close(ctx) //nolint:errcheck // nothing is lost with it
	}
	if s.socket != nil {
		s.socket.Close() //nolint:errcheck // nothing is lost with it
	}
}

// SlotState is a line of pg_replication_slots.
type SlotState struct {
	Exists    bool
	Plugin    string
	Database  string
	Status    string
	Confirmed session.LSN
}

func ReadSlot(ctx context.Context, q session.Querier, name string) (SlotState, error) {
	var s SlotState
	var confirmed string
	err := q.QueryRow(ctx, `SELECT coalesce(plugin, ''), coalesce(database, ''), coalesce(wal_status, ''), coalesce(confirmed_flush_lsn::text, '0/0')
		FROM pg_replication_slots WHERE slot_name = $1`, name).Scan(&s.Plugin, &s.Database, &s.Status, &confirmed)
	if errors.Is(err, pgx.ErrNoRows) {
		return s, nil
	}
	if err != nil {
		return s, fmt.Errorf("looking for the replication slot %s: %w", name, err)
	}
	s.Exists = true
	s.Confirmed, err = session.ParseLSN(confirmed)
	return s, err
}

func RetainedLog(ctx context.Context, c *session.Config, q session.Querier) (engine.RetainedLog, error) {
	var h engine.RetainedLog
	var bytes, limit, spill *int64
	var status *string
	err := q.QueryRow(ctx, `SELECT s.wal_status, pg_wal_lsn_diff(CASE WHEN pg_is_in_recovery() THEN pg_last_wal_receive_lsn() ELSE pg_current_wal_lsn() END, s.restart_lsn)::bigint,
			(SELECT setting::bigint << 20 FROM pg_settings WHERE name = 'max_slot_wal_keep_size'), st.spill_bytes
		FROM (SELECT) one LEFT JOIN pg_replication_slots s ON s.slot_name = $1 LEFT JOIN pg_stat_replication_slots st ON st.slot_name = s.slot_name`, c.SlotName()).
		Scan(&status, &bytes, &limit, &spill)
	if err != nil || status == nil && bytes == nil {
		return h, err
	}
	h.There = true
	if status != nil {
		h.Status = *status
	}
	if bytes != nil {
		h.Bytes = max(*bytes, 0)
	}
	if limit != nil && *limit > 0 {
		h.Limit = *limit
	}
	if spill != nil {
		h.Spilled = *spill
	}
	h.Level = engine.RetainedFine
	warn, urgent := int64(muchLog), int64(50*muchLog)
	if h.Limit > 0 {
		warn, urgent = h.Limit/2, h.Limit/10*9
	}
	switch {
	case h.Status == "lost":
		h.Level, h.Advice = engine.RetainedUrgent, "the source has removed log that was still needed: "+session.Anew
	case h.Bytes >= urgent || h.Status == "unreserved":
		h.Level, h.Advice = engine.RetainedUrgent, "have capture go on, or raise max_slot_wal_keep_size: soon the source gives the slot up, or its disk is full"
	case h.Bytes >= warn:
		h.Level, h.Advice = engine.RetainedWarning, "see what keeps capture from going on; a source that is no longer needed is removed with `rillmark source remove`"
	}
	return h, nil
}

// muchLog held back is worth a warning where the source sets no bound.
const muchLog = 1 << 30
