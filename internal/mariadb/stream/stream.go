// Package stream follows a MariaDB server's log over one connection: it asks for it from a
// position on, checks each event, and knows where in the server's files it stands.
package stream

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"rillmark/internal/engine"
	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/wire"
)

// Stream is a log as it comes. It is not safe for several goroutines, but for Interrupt.
type Stream struct {
	config *session.Config
	conn   *wire.Conn
	// checksum says whether events of the file at hand have one.
	checksum bool
	file     string
	place    Place
	// rotated is true once a file's end has been read: the beginning of the next one then
	// says which groups came before.
	rotated bool
}

// Options say how a log is read.
type Options struct {
	// ID is the number of the reader, Name what the server lists it under.
	ID   uint32
	Name string
	From GTIDs
	// Statements asks for the texts of the statements that changed rows.
	Statements bool
}

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
	return s, nil
}

func (s *Stream) start(ctx context.Context, o Options) error {
	if err := s.idIsFree(ctx, o); err != nil {
		return err
	}
	for _, statement := range []string{
		"SET NAMES utf8mb4, net_write_timeout = 86400, net_read_timeout = 86400, wait_timeout = 86400",
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
		return s.noRight(err)
	}
	flags := uint16(0)
	if o.Statements {
		flags |= wire.DumpStatements
	}
	return s.conn.Dump(o.ID, "", 4, flags)
}

// idIsFree looks whether another reader has our number: the server would throw it out. A
// login without the right to look is not told of others.
func (s *Stream) idIsFree(ctx context.Context, o Options) error {
	hosts, err := s.conn.All(ctx, "SHOW REPLICA HOSTS")
	if session.IsDenied(err) {
		return nil
	}
	if err != nil {
		return err
	}
	own, err := s.conn.One(ctx, "SELECT @@global.server_id")
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

func (s *Stream) noRight(err error) error {
	if code := wire.Code(err); code == 1045 || code == 1227 {
		return &engine.Fault{Code: "no-replication-right", Cause: err, Message: fmt.Sprintf("user %q may not read the log of %s", s.config.User, s.config.Where()),
			Fix: "GRANT REPLICATION SLAVE ON *.* TO " + s.config.User}
	}
	return err
}

// Interrupt ends whatever waits for the log. It may be called by another goroutine.
func (s *Stream) Interrupt() { s.conn.Interrupt() }

// Close ends the session.
func (s *Stream) Close() { s.conn.Close() }

// Place is where the log goes on behind the event at hand, File its file's name.
func (s *Stream) Place() Place { return s.place }

// File is the name of the file at hand.
func (s *Stream) File() string { return s.file }

// Rotated reports whether a file's end has been read.
func (s *Stream) Rotated() bool { return s.rotated }

// Event is one event, good until the next.
type Event struct {
	binlog.Header
	Body []byte
	// Raw is the whole event, without its checksum.
	Raw []byte
}

// Next is the next event. What only says how the log is written is taken here.
func (s *Stream) Next() (Event, error) {
	for {
		raw, err := s.conn.NextEvent()
		if err != nil {
			return Event{}, s.noRight(err)
		}
		if len(raw) > 4 && binlog.Type(raw[4]) == binlog.TypeFormatDescription {
			d, err := binlog.DecodeFormatDescription(raw)
			if err != nil {
				return Event{}, s.broken(err)
			}
			s.checksum = d.Checksum
			s.advance(raw)
			return Event{Header: binlog.Header{Type: binlog.TypeFormatDescription}}, nil
		}
		// The first event names the file before its format is known: it has a checksum
		// where the server's others have one, and is right with or without.
		h, body, err := binlog.Split(raw, s.checksum)
		if err != nil && !s.checksum && s.file == "" {
			return Event{}, s.broken(err)
		}
		if err != nil {
			return Event{}, s.broken(err)
		}
		s.advance(raw)
		if h.Type == binlog.TypeRotate {
			if err := s.rotate(h, body); err != nil {
				return Event{}, err
			}
			continue
		}
		return Event{h, body, raw[:binlog.HeaderSize+len(body)]}, nil
	}
}

func (s *Stream) rotate(h binlog.Header, body []byte) error {
	if s.file == "" && len(body) > 12 {
		// Whether the first event has a checksum is not said before the second.
		if named := string(body[8 : len(body)-4]); !validFile(string(body[8:])) && validFile(named) {
			body = body[:len(body)-4]
		}
	}
	r, err := binlog.DecodeRotate(body)
	if err != nil {
		return s.broken(err)
	}
	if s.file != "" && r.File != s.file {
		s.rotated = true
	}
	if r.File != s.file {
		s.file = r.File
		s.place = Place{FileNumber(r.File), r.Offset}
	}
	return nil
}

// validFile reports whether a name ends with a file's number.
func validFile(name string) bool {
	at := strings.LastIndexByte(name, '.')
	if at < 0 || len(name)-at < 2 {
		return false
	}
	return strings.Trim(name[at+1:], "0123456789") == ""
}

// advance moves on behind an event. Its header has the low half of the offset only.
func (s *Stream) advance(raw []byte) {
	h := binlog.Header{End: uint32(raw[13]) | uint32(raw[14])<<8 | uint32(raw[15])<<16 | uint32(raw[16])<<24, Flags: uint16(raw[17]) | uint16(raw[18])<<8}
	if h.End == 0 || h.Flags&binlog.FlagArtificial != 0 || binlog.Type(raw[4]) == binlog.TypeHeartbeat {
		return
	}
	end := s.place.Offset&^(1<<32-1) | uint64(h.End)
	if end < s.place.Offset {
		end += 1 << 32
	}
	s.place.Offset = end
}

func (s *Stream) broken(err error) error {
	if errors.Is(err, binlog.ErrChecksum) {
		return &engine.Fault{Code: "log-damaged", Cause: err, Message: fmt.Sprintf("the event behind %s:%d of the log was damaged on its way, or on the server's disk", s.file, s.place.Offset),
			Fix: "it is read again; where it stays so, the server's log is damaged: " + session.Anew}
	}
	return s.CannotDecode(err)
}

// CannotDecode is the fault of an event that is not what it says.
func (s *Stream) CannotDecode(err error) error {
	return &engine.Fault{Code: "cannot-decode", Final: true, Cause: err,
		Message: fmt.Sprintf("the event that ends at %s:%d of the log cannot be decoded", s.file, s.place.Offset), Fix: "report it with this line; nothing was lost, capture waits there"}
}
