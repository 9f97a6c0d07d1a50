package postgres

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"rillmark/internal/engine"
	"rillmark/internal/postgres/pgoutput"
	"rillmark/internal/postgres/wire"
)

// stream is the replication connection. next belongs to the reading goroutine,
// report to another; they share nothing but the socket, one for each direction.
type stream struct {
	config   *Config
	conn     *pgconn.PgConn // until started
	system   string
	timeline int32

	socket net.Conn // once started
	frames *wire.Frames
	in     *wire.Conn
	asked  chan struct{} // the server wants a status reply
	cause  atomic.Pointer[engine.Fault]
}

// openStream connects and identifies the server.
func (c *Config) openStream(ctx context.Context) (*stream, error) {
	s := &stream{config: c, asked: make(chan struct{}, 1)}
	config := c.session("stream").Config.Copy()
	config.RuntimeParams["replication"] = "database"
	// After TLS, so that what is read is the protocol and not its encrypted form.
	config.AfterNetConnect = func(_ context.Context, _ *pgconn.Config, conn net.Conn) (net.Conn, error) {
		s.in = wire.NewConn(conn)
		return s.in, nil
	}
	var err error
	if s.conn, err = pgconn.ConnectConfig(ctx, config); err != nil {
		return nil, c.explainAt(opening, err)
	}
	results, err := s.conn.Exec(ctx, "IDENTIFY_SYSTEM").ReadAll()
	if err != nil {
		s.close()
		return nil, c.explainAt(opening, err)
	}
	if len(results) != 1 || len(results[0].Rows) != 1 || len(results[0].Rows[0]) < 3 {
		s.close()
		return nil, errors.New("the server does not identify itself as PostgreSQL does")
	}
	s.system = string(results[0].Rows[0][0])
	fmt.Sscan(string(results[0].Rows[0][1]), &s.timeline) //nolint:errcheck // zero says that it is unknown
	return s, nil
}

// makeSlot makes the slot, one that goes with the session where it is temporary,
// and returns the place from which it will send.
func (s *stream) makeSlot(ctx context.Context, name string, temporary bool) (LSN, error) {
	kind := ""
	if temporary {
		kind = " TEMPORARY"
	}
	results, err := s.conn.Exec(ctx, "CREATE_REPLICATION_SLOT "+quoted(name)+kind+" LOGICAL pgoutput NOEXPORT_SNAPSHOT").ReadAll()
	if err != nil {
		return 0, s.config.explainAt(makingSlot, err)
	}
	return ParseLSN(string(results[0].Rows[0][1]))
}

// start begins to stream. The connection belongs to next and report from here.
// binary asks for values in binary form.
func (s *stream) start(ctx context.Context, slot string, publications []string, binary bool) error {
	names := make([]string, len(publications))
	for i, p := range publications {
		names[i] = quoted(p)
	}
	// After a slow write the driver reads in the background, and would take the
	// answer to START_REPLICATION for itself: that has to end first.
	if err := s.conn.SyncConn(ctx); err != nil {
		return s.config.explain(err)
	}
	hijacked, err := s.conn.Hijack()
	if err != nil {
		return err
	}
	s.conn, s.socket, s.frames = nil, hijacked.Conn, wire.NewFrames(s.in, 2*s.config.LargestValue+2) // bytes come as two digits each
	stop := context.AfterFunc(ctx, s.interrupt)
	defer stop()
	query := &pgproto3.Query{String: "START_REPLICATION SLOT " + quoted(slot) + " LOGICAL 0/0 (proto_version '1', publication_names '" +
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
			return s.config.explainAt(starting, serverError(body))
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

// next returns the plugin's message, good until the next call, and its place in
// the log; an empty message where the server only gave a sign of life.
func (s *stream) next(data *pgoutput.XLogData) (message []byte, start uint64, err error) {
	kind, body, err := s.frames.Next()
	if err != nil {
		if fault := s.cause.Load(); fault != nil {
			return nil, 0, fault
		}
		return nil, 0, s.config.explain(err)
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
		return nil, 0, s.config.explainAt(streaming, serverError(body))
	case 'c', 'C': // CopyDone, CommandComplete
		return nil, 0, &engine.Fault{Code: "source-away", Message: "the source has ended the stream (it is shutting down or its replication is being restarted)"}
	}
	return nil, 0, nil
}

// statusEvery is how often the server is told how far we are: a tenth of the
// shortest wal_sender_timeout that anybody sets.
const statusEvery = time.Second

// report sends status replies, which do not wait for anything that is being
// journaled, and ends a stream that has been silent for too long.
func (s *stream) report(ctx context.Context, sink engine.Sink) error {
	ticker := time.NewTicker(statusEvery)
	defer ticker.Stop()
	var message, frame []byte
	for {
		silence := time.Since(s.in.LastRead())
		if silence > s.config.SilenceAfter {
			fault := &engine.Fault{Code: "source-silent", Message: fmt.Sprintf("the source has sent nothing for %s, not even a sign of life: the connection hangs", silence.Round(time.Second))}
			s.cause.Store(fault)
			s.interrupt()
			return fault
		}
		released := sink.Released()
		update := pgoutput.StatusUpdate{Written: released, Flushed: released, Applied: released,
			ClientTime: time.Now().UnixMicro() - postgresEpoch, ReplyRequested: silence > s.config.SilenceAfter/3}
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
			return s.config.explain(err)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-ticker.C:
		case <-s.asked:
		}
	}
}

// interrupt makes a call of next that is waiting return.
func (s *stream) interrupt() {
	s.socket.SetDeadline(time.Unix(1, 0)) //nolint:errcheck // a dead socket returns by itself
}

func (s *stream) close() {
	if s.conn != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		s.conn.Close(ctx) //nolint:errcheck // nothing is lost with it
	}
	if s.socket != nil {
		s.socket.Close() //nolint:errcheck // nothing is lost with it
	}
}
