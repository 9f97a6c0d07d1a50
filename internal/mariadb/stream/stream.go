// Package stream follows a MariaDB server's log over one connection: it asks for it from a
// position on, checks each event, and knows where in the server's files it stands.
package stream

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"sync"

	"rillmark/internal/engine"
	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/wire"
)

// Stream is a log as it comes. It is not safe for several goroutines, but for Interrupt.
//
// A goroutine of its own takes events off the connection, checks them and hands them over
// in batches, so that what is read and what is made of it take turns on two cores.
type Stream struct {
	config *session.Config
	conn   *wire.Conn
	// at is where the event at hand stands.
	at      standing
	batch   *batch
	next    int // of batch
	batches chan *batch
	spare   chan *batch
	closing chan struct{}
	ended   chan struct{}
	once    sync.Once
}

// standing is where in the server's files an event ends.
type standing struct {
	file  string
	place Place
	// rotated is true once a file's end has been read: the beginning of the next one then
	// says which groups came before.
	rotated bool
}

// batch is events one after the other, and what ended the log behind them.
type batch struct {
	data   []byte
	events []batched
	err    error
}

type batched struct {
	binlog.Header
	end int // of its body in data
	at  standing
}

const (
	// batchBytes and batchEvents are the most that is handed over at once.
	batchBytes  = 256 << 10
	batchEvents = 2048
	// batchesAhead are read ahead at most.
	batchesAhead = 2
)

// Options say how a log is read.
type Options struct {
	// ID is the number of the reader, Name what the server lists it under.
	ID   uint32
	Name string
	From GTIDs
	// Statements has the texts of the statements come, too, that changed rows.
	Statements bool
}

// sendAnnotations asks for the texts of statements (section "COM_BINLOG_DUMP").
const sendAnnotations = 2

// Open asks for the log behind a position.
func Open(ctx context.Context, c *session.Config, o Options) (*Stream, error) {
	conn, err := c.OpenForLog(ctx)
	if err != nil {
		return nil, err
	}
	s := &Stream{config: c, conn: conn}
	if err := s.start(ctx, o); err != nil {
		conn.Close()
		return nil, c.Explain(err)
	}
	s.batches, s.spare = make(chan *batch, batchesAhead), make(chan *batch, batchesAhead+2)
	s.closing, s.ended = make(chan struct{}), make(chan struct{})
	for range batchesAhead + 2 {
		s.spare <- new(batch)
	}
	go func() {
		defer close(s.ended)
		(&reader{conn: conn, user: c.User, where: c.Where()}).run(s)
	}()
	return s, nil
}

func (s *Stream) start(ctx context.Context, o Options) error {
	if err := s.idIsFree(ctx, o); err != nil {
		return err
	}
	for _, statement := range []string{
		"SET NAMES utf8mb4, net_write_timeout = 86400, net_read_timeout = 86400, wait_timeout = 31536000",
		"SET @mariadb_slave_capability = 4, @master_binlog_checksum = @@global.binlog_checksum, @rpl_semi_sync_slave = 0",
		fmt.Sprintf("SET @master_heartbeat_period = %d", s.config.HeartbeatEvery.Nanoseconds()),
		"SET @slave_connect_state = " + wire.Text(o.From.String()) + ", @slave_gtid_strict_mode = 0, @slave_gtid_ignore_duplicates = 0",
	} {
		if err := s.conn.Exec(ctx, statement); err != nil {
			return err
		}
	}
	stop := context.AfterFunc(ctx, s.conn.Interrupt)
	defer stop()
	if err := s.conn.Register(o.ID, o.Name); err != nil {
		return noRight(err, s.config.User, s.config.Where())
	}
	flags := uint16(0)
	if o.Statements {
		flags = sendAnnotations
	}
	return s.conn.Dump(o.ID, flags)
}

// idIsFree looks whether another reader has our number: the server would throw it out. A
// login without the right to look is not told of others.
func (s *Stream) idIsFree(ctx context.Context, o Options) error {
	hosts, err := s.conn.All(ctx, 1, "SHOW REPLICA HOSTS")
	if session.IsDenied(err) {
		return nil
	}
	if err != nil {
		return err
	}
	own, err := s.conn.Row(ctx, 1, "SELECT @@global.server_id")
	if err != nil {
		return err
	}
	ours := o.Name[:strings.LastIndexByte(o.Name, '-')+1] // sessions of earlier runs may be listed still
	id := strconv.FormatUint(uint64(o.ID), 10)
	if own[0] == id {
		return &engine.Fault{Code: "reader-id-in-use", Message: fmt.Sprintf("the number %s, by which this source reads the log, is the server's own", id), Fix: "give this source another reader_id in its connection"}
	}
	for _, h := range hosts {
		if len(h) > 1 && h[0] == id && !strings.HasPrefix(h[1], ours) {
			return &engine.Fault{Code: "reader-id-in-use", Message: fmt.Sprintf("another reader of the log of %s has the number %s (it calls itself %q)", s.config.Where(), id, h[1]),
				Fix: "give this source another reader_id in its connection"}
		}
	}
	return nil
}

func noRight(err error, user, where string) error {
	if code := wire.Code(err); code == 1045 || code == 1227 {
		return &engine.Fault{Code: "no-replication-right", Cause: err, Message: fmt.Sprintf("user %q may not read the log of %s", user, where),
			Fix: "GRANT REPLICATION SLAVE ON *.* TO " + user}
	}
	return err
}

// Session is the number of the session on the server.
func (s *Stream) Session() uint32 { return s.conn.ID }

// Interrupt ends whatever waits for the log. It may be called by another goroutine.
func (s *Stream) Interrupt() { s.conn.Interrupt() }

// Close ends the session; a second call does nothing.
func (s *Stream) Close() {
	s.once.Do(func() {
		s.conn.Interrupt()
		close(s.closing)
		<-s.ended
		s.conn.Close()
	})
}

// Place is where the log goes on behind the event at hand.
func (s *Stream) Place() Place { return s.at.place }

// File is the name of the file at hand.
func (s *Stream) File() string { return s.at.file }

// Rotated reports whether a file's end has been read.
func (s *Stream) Rotated() bool { return s.at.rotated }

// Event is one event. Its body is good until the next one.
type Event struct {
	binlog.Header
	Body []byte
}

// Next is the next event. What only says how the log is written is taken here.
func (s *Stream) Next() (Event, error) {
	for s.batch == nil || s.next == len(s.batch.events) {
		if s.batch != nil {
			if s.batch.err != nil {
				return Event{}, s.batch.err
			}
			s.spare <- s.batch
		}
		s.batch, s.next = <-s.batches, 0
	}
	start := 0
	if s.next > 0 {
		start = s.batch.events[s.next-1].end
	}
	e := &s.batch.events[s.next]
	s.next++
	s.at = e.at
	return Event{e.Header, s.batch.data[start:e.end:e.end]}, nil
}

// CannotDecode is the fault of an event that is not what it says.
func (s *Stream) CannotDecode(err error) error { return cannotDecode(&s.at, err) }

func cannotDecode(at *standing, err error) error {
	return &engine.Fault{Code: "cannot-decode", Final: true, Cause: err,
		Message: fmt.Sprintf("the event that ends at %s:%d of the log cannot be decoded", at.file, at.place.Offset), Fix: "report it with this line; nothing was lost, capture waits there"}
}
