package main

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
)

// work is a stretch of log that is read again and again, each time by a copy of
// the slot that stood at its beginning.
type work struct {
	name    string
	slot    string
	events  int // rows
	commits int // transactions in the stretch
	write   string
	once    bool // one round is enough: it is about memory
}

// The table of the design's rows: seven columns, some 180 bytes.
const benchTable = `CREATE TABLE bench_loans (
	loan_id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, copy_id bigint NOT NULL, patron_id integer NOT NULL,
	shelf_mark text NOT NULL, note text NOT NULL, price numeric(8,2) NOT NULL, lent_at timestamptz NOT NULL)`

const benchRow = `INSERT INTO bench_loans (copy_id, patron_id, shelf_mark, note, price, lent_at)
	SELECT 9007199254740993 + i, i %% 3000, 'K-' || i %% 97 || '.' || i %% 13, 'lent at the desk, ' || md5(i::text) || ' ' || md5((i * 7)::text), (i %% 4000) / 100.0, clock_timestamp()
	FROM generate_series(%d, %d) i`

func (b *bed) largeWork() work {
	return work{name: fmt.Sprintf("one transaction of %d rows", b.large), slot: "large", events: b.large, commits: 1, write: fmt.Sprintf(benchRow, 1, b.large)}
}

func (b *bed) hugeWork() work {
	return work{name: fmt.Sprintf("one transaction of %d rows", b.huge), slot: "huge", events: b.huge, commits: 1, write: fmt.Sprintf(benchRow, 1, b.huge), once: true}
}

func (b *bed) smallWork() work {
	return work{name: fmt.Sprintf("%d transactions of one row", b.small), slot: "small", events: b.small, commits: b.small,
		write: fmt.Sprintf("DO $$ BEGIN FOR n IN 1..%d LOOP ", b.small) + fmt.Sprintf(benchRow, 0, 0) + "; COMMIT; END LOOP; END $$"}
}

func (b *bed) prepare(ctx context.Context) error {
	if _, err := b.source.Database(ctx, "circulation", "postgres"); err != nil {
		return err
	}
	conn, err := b.source.Connect(ctx, "circulation")
	if err != nil {
		return err
	}
	defer conn.Close(ctx) //nolint:errcheck // nothing is open on it
	statements := []string{benchTable, "CREATE PUBLICATION bench FOR TABLE bench_loans"}
	for n := range fanTables {
		statements = append(statements, fmt.Sprintf("CREATE TABLE bench_fan_%d (LIKE bench_loans INCLUDING ALL)", n), fmt.Sprintf("ALTER PUBLICATION bench ADD TABLE bench_fan_%d", n))
	}
	for _, sql := range statements {
		if _, err := conn.Exec(ctx, sql); err != nil {
			return err
		}
	}
	if _, err := b.state.Database(ctx, "rillmark", "postgres"); err != nil {
		return err
	}
	return nil
}

// compare writes the work once and reads it in turns.
func (b *bed) compare(ctx context.Context, w work) (string, error) {
	conn, err := b.source.Connect(ctx, "circulation")
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx) //nolint:errcheck // nothing is open on it
	fmt.Printf("writing %s …\n", w.name)
	for _, sql := range []string{"SELECT pg_create_logical_replication_slot('" + w.slot + "', 'pgoutput')", "SET synchronous_commit = off", w.write, "CHECKPOINT"} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			return "", err
		}
	}
	defer conn.Exec(context.WithoutCancel(ctx), "SELECT pg_drop_replication_slot('"+w.slot+"')") //nolint:errcheck // the server goes too
	var raws, rates, cpus, peaks []float64
	rounds := b.rounds
	if w.once {
		rounds = 1
	}
	for round := range rounds {
		copied := fmt.Sprintf("%s_%d", w.slot, round)
		for _, kind := range []string{"drain", "ours"} {
			if _, err := conn.Exec(ctx, "SELECT pg_copy_logical_replication_slot($1, $2)", w.slot, copied); err != nil {
				return "", err
			}
			if kind == "drain" {
				took, err := b.drain(ctx, copied, w.commits)
				if err != nil {
					return "", err
				}
				raws = append(raws, float64(w.events)/took.Seconds())
			} else {
				m, err := b.ours(ctx, copied, "public.bench_loans", w.events, fmt.Sprintf("%s-%d", w.slot, round), nil)
				if err != nil {
					return "", err
				}
				rates = append(rates, float64(w.events)/m.took.Seconds())
				cpus = append(cpus, m.cpu)
				peaks = append(peaks, m.peak)
			}
			if err := dropSlot(ctx, conn.PgConn(), copied); err != nil {
				return "", err
			}
		}
		fmt.Printf("  round %d: drain %.0f, ours %.0f events/s, %.2f cores, %.0f MiB\n", round+1, raws[round], rates[round], cpus[round], peaks[round])
	}
	raw, rate := median(raws), median(rates)
	return fmt.Sprintf("| %s | %.0f | %.0f | %.2f | %.2f | %.0f MiB |\n", w.name, raw, rate, rate/raw, median(cpus), median(peaks)), nil
}

// dropSlot waits for the server to let go of the slot.
func dropSlot(ctx context.Context, conn *pgconn.PgConn, slot string) error {
	for deadline := time.Now().Add(10 * time.Second); ; {
		_, err := conn.Exec(ctx, "SELECT pg_drop_replication_slot('"+slot+"')").ReadAll()
		var server *pgconn.PgError
		if errors.As(err, &server) && server.Code == "55006" && time.Now().Before(deadline) {
			time.Sleep(50 * time.Millisecond)
			continue
		}
		return err
	}
}

// drain reads a slot's stream up to its last commit and discards it.
func (b *bed) drain(ctx context.Context, slot string, commits int) (time.Duration, error) {
	config, err := pgconn.ParseConfig(b.source.Address("circulation"))
	if err != nil {
		return 0, err
	}
	config.RuntimeParams["replication"] = "database"
	conn, err := pgconn.ConnectConfig(ctx, config)
	if err != nil {
		return 0, err
	}
	hijacked, err := conn.Hijack()
	if err != nil {
		return 0, err
	}
	defer hijacked.Conn.Close() //nolint:errcheck // it was only read
	began := time.Now()
	hijacked.Frontend.Send(&pgproto3.Query{String: "START_REPLICATION SLOT " + slot + " LOGICAL 0/0 (proto_version '1', publication_names 'bench', messages 'true')"})
	if err := hijacked.Frontend.Flush(); err != nil {
		return 0, err
	}
	// Whole pieces are read into one buffer and messages are stepped over in it:
	// nothing that reads the stream could do less.
	in := &pausing{Conn: hijacked.Conn}
	buf := make([]byte, 1<<20)
	filled := 0
	for lastReply := time.Now(); commits > 0; {
		n, err := in.Read(buf[filled:min(filled+256<<10, len(buf))])
		if err != nil {
			return 0, err
		}
		filled += n
		at := 0
		for filled-at >= 5 {
			frame := 1 + int(binary.BigEndian.Uint32(buf[at+1:]))
			if frame > len(buf) {
				return 0, errors.New("a message is larger than the drain's buffer")
			}
			if filled-at < frame {
				break
			}
			switch {
			case buf[at] == 'E':
				return 0, errors.New("the server refuses to stream")
			case buf[at] == 'd' && frame > 30 && buf[at+5] == 'w' && buf[at+30] == 'C':
				commits--
			}
			at += frame
		}
		filled = copy(buf, buf[at:filled])
		if time.Since(lastReply) > time.Second {
			lastReply = time.Now()
			reply := make([]byte, 34)
			reply[0] = 'r'
			frame, err := (&pgproto3.CopyData{Data: reply}).Encode(nil)
			if err == nil {
				_, err = hijacked.Conn.Write(frame)
			}
			if err != nil {
				return 0, err
			}
		}
	}
	return time.Since(began), nil
}

// pausing waits a little after a short read, as a reader should: reading eagerly
// makes the server send tiny pieces.
type pausing struct {
	net.Conn
	short bool
}

func (p *pausing) Read(b []byte) (int, error) {
	if p.short {
		time.Sleep(500 * time.Microsecond)
	}
	n, err := p.Conn.Read(b)
	p.short = n < len(b)/4
	return n, err
}
