package journal

import (
	"context"
	"encoding/binary"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
)

// inserter runs one statement again and again, as each transaction asks for while nothing is
// behind. It says the statement's messages itself (PostgreSQL protocol, extended query): what a
// client for all statements looks at on its way costs as much as the network.
type inserter struct {
	conn *pgx.Conn
	name string // of the statement that is prepared; empty before
	bind pgproto3.Bind
	text []byte // of the numbers in it
}

// can reports whether statements may stay prepared on the connection: with some poolers in
// between they may not, and the address of the database says so.
func (i *inserter) can() bool {
	return i.conn.Config().DefaultQueryExecMode == pgx.QueryExecModeCacheStatement
}

// begin says which statement is run next. Its parameters follow in their order.
func (i *inserter) begin(ctx context.Context, statement string) error {
	i.text, i.bind.Parameters = i.text[:0], i.bind.Parameters[:0]
	if i.name == statement {
		return nil
	}
	if i.name != "" {
		if err := i.conn.Deallocate(ctx, i.name); err != nil {
			return err
		}
		i.name = ""
	}
	made, err := i.conn.Prepare(ctx, statement, statement)
	if err != nil {
		return err
	}
	i.name, i.bind.PreparedStatement = statement, made.Name
	i.bind.ParameterFormatCodes = []int16{pgx.BinaryFormatCode} // of all
	return nil
}

// bytes is a parameter of type bytea or text, good until the statement has run; NULL for nil.
func (i *inserter) bytes(p []byte) { i.bind.Parameters = append(i.bind.Parameters, p) }

// numbers are parameters of type bigint.
func (i *inserter) numbers(all ...int64) {
	for _, n := range all {
		from := len(i.text)
		i.text = binary.BigEndian.AppendUint64(i.text, uint64(n))
		i.bytes(i.text[from:])
	}
}

// postgresEpoch is the beginning of the year 2000 in microseconds of Unix.
const postgresEpoch = 946_684_800_000_000

// times are parameters of type timestamptz.
func (i *inserter) times(all ...time.Time) {
	for _, t := range all {
		i.numbers(t.UnixMicro() - postgresEpoch)
	}
}

// askWait is how long a server may take to be asked to end a statement.
const askWait = 2 * time.Second

// run runs the statement, and gives how many rows it inserted. After an error the connection
// is of no more use.
func (i *inserter) run(ctx context.Context) (rows int64, err error) {
	session := i.conn.PgConn()
	stop := context.AfterFunc(ctx, func() {
		session.Conn().SetDeadline(time.Unix(1, 0)) //nolint:errcheck // a socket that is gone ends the reading, too
	})
	rows, err = i.exchange(session.Frontend())
	clear(i.bind.Parameters) // a block's bytes are not kept for the next one
	if stop() {
		return rows, err
	}
	// The server may still be at it, or wait for a lock.
	asking, cancel := context.WithTimeout(context.WithoutCancel(ctx), askWait)
	defer cancel()
	return 0, errors.Join(context.Cause(ctx), err, session.CancelRequest(asking))
}

func (i *inserter) exchange(f *pgproto3.Frontend) (rows int64, err error) {
	f.SendBind(&i.bind)
	f.SendExecute(&pgproto3.Execute{})
	f.SendSync(&pgproto3.Sync{})
	if err := f.Flush(); err != nil {
		return 0, err
	}
	for {
		message, away := f.Receive()
		if away != nil {
			return 0, errors.Join(err, away)
		}
		switch m := message.(type) {
		case *pgproto3.CommandComplete:
			rows = pgconn.NewCommandTag(string(m.CommandTag)).RowsAffected()
		case *pgproto3.ErrorResponse:
			err = pgconn.ErrorResponseToPgError(m)
		case *pgproto3.ReadyForQuery:
			return rows, err
		}
	}
}
