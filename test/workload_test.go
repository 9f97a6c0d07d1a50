package test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/demo"
	"rillmark/internal/seeded"
)

// The tables of the kill tests: a single key, a key of two columns in another
// order than the table's, a key of text, and values large enough to be stored
// apart, which an update that leaves them alone does not carry.
const workloadTables = `
CREATE TABLE copies (copy_id bigint PRIMARY KEY, shelf_mark text NOT NULL, price numeric(8,2), acquired_at timestamptz NOT NULL DEFAULT now(), cover bytea);
CREATE TABLE loans (note text, patron_id integer, copy_id bigint, lent timestamp NOT NULL DEFAULT localtimestamp, body jsonb, PRIMARY KEY (copy_id, patron_id));
CREATE TABLE shelves (mark text PRIMARY KEY, essay text NOT NULL, visits integer NOT NULL DEFAULT 0, tags text[]);
ALTER TABLE shelves ALTER COLUMN essay SET STORAGE EXTERNAL;
ALTER TABLE loans REPLICA IDENTITY FULL;`

func fillWorkload(t *testing.T, db *pgx.Conn, copies int) {
	t.Helper()
	run(t, db, workloadTables,
		fmt.Sprintf(`INSERT INTO copies SELECT i, 'S-' || i %% 50, (i %% 9000) / 100.0, now(), decode(md5(i::text), 'hex') FROM generate_series(1, %d) i`, copies),
		fmt.Sprintf(`INSERT INTO loans SELECT 'first', i %% 40, i, localtimestamp, jsonb_build_object('n', 9007199254740993 + i) FROM generate_series(1, %d) i`, copies/2),
		fmt.Sprintf(`INSERT INTO shelves SELECT 'm' || i, repeat(md5(i::text), 120), 0, ARRAY['a', NULL, i::text] FROM generate_series(1, %d) i`, copies/20))
}

// writers change the tables until they are told to stop. A server that goes away
// is connected to again.
type writers struct {
	stop context.CancelFunc
	done sync.WaitGroup
}

func startWriters(t *testing.T, c *demo.Cluster, database string, n, copies int) *writers {
	ctx, cancel := context.WithCancel(context.Background())
	w := &writers{stop: cancel}
	for i := range n {
		w.done.Add(1)
		random := seeded.Random(t, uint64(i))
		go func() {
			defer w.done.Done()
			for ctx.Err() == nil {
				conn, err := c.Connect(ctx, database)
				if err != nil {
					continue
				}
				for err == nil && ctx.Err() == nil {
					err = writeOne(ctx, conn, random, copies)
				}
				conn.Close(context.Background()) //nolint:errcheck // it may be broken
				var server *pgconn.PgError
				if errors.As(err, &server) && !strings.HasPrefix(server.Code, "57") && !strings.HasPrefix(server.Code, "40") && server.Code != "23505" {
					t.Errorf("a writer's statement failed: %v", err) // nothing we publish may make it fail
					return
				}
			}
		}()
	}
	t.Cleanup(w.end)
	return w
}

func (w *writers) end() {
	w.stop()
	w.done.Wait()
}

// writeOne is one transaction of one to a few hundred changes; some are rolled
// back, whole or to a savepoint.
func writeOne(ctx context.Context, conn *pgx.Conn, random *rand.Rand, copies int) error {
	tx, err := conn.Begin(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback(context.Background()) //nolint:errcheck // after a commit it does nothing
	for range 1 + random.IntN(4) {
		id, other := 1+random.IntN(copies), 1+random.IntN(copies*2)
		var sql string
		args := []any{id}
		switch random.IntN(12) {
		case 0, 1:
			sql, args = "INSERT INTO copies VALUES ($1, 'new', $2::text::numeric, clock_timestamp(), NULL) ON CONFLICT DO NOTHING", []any{other, fmt.Sprintf("%d.%02d", id%500, id%100)}
		case 2:
			sql = "DELETE FROM copies WHERE copy_id = $1"
		case 3, 4:
			sql = "UPDATE copies SET shelf_mark = shelf_mark || '!', acquired_at = clock_timestamp() WHERE copy_id = $1 AND length(shelf_mark) < 60"
		case 5:
			sql, args = "UPDATE copies SET copy_id = $2 WHERE copy_id = $1 AND NOT EXISTS (SELECT FROM copies WHERE copy_id = $2)", []any{id, other}
		case 6:
			sql, args = "INSERT INTO loans VALUES ('again', $2, $1) ON CONFLICT DO NOTHING", []any{id, random.IntN(40)}
		case 7:
			sql = "UPDATE loans SET note = NULL, body = body || '{\"seen\": true}' WHERE copy_id = $1"
		case 8:
			sql, args = "UPDATE loans SET patron_id = patron_id + 1000 WHERE copy_id = $1 AND patron_id < 1000", []any{id}
		case 9:
			sql, args = "UPDATE shelves SET visits = visits + 1 WHERE mark = 'm' || $1::int", []any{id % (copies / 20)} // the essay is not carried
		case 10:
			sql, args = "UPDATE shelves SET mark = 'm' || $2::int WHERE mark = 'm' || $1::int AND NOT EXISTS (SELECT FROM shelves WHERE mark = 'm' || $2::int)",
				[]any{id % (copies / 20), random.IntN(copies / 10)} // a changed key that leaves the essay out
		default:
			sql, args = "UPDATE shelves SET essay = repeat(md5($2::text), 100), tags = NULL WHERE mark = 'm' || $1::int", []any{id % (copies / 20), fmt.Sprint(other)}
		}
		if random.IntN(15) == 0 {
			if _, err := tx.Exec(ctx, "SAVEPOINT s"); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, sql, args...); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, "ROLLBACK TO s"); err != nil {
				return err
			}
			continue
		}
		if _, err := tx.Exec(ctx, sql, args...); err != nil {
			return err
		}
	}
	switch random.IntN(150) {
	case 0, 1, 2, 3:
		return tx.Rollback(ctx)
	case 4: // a transaction of many rows, so that kills cut through one
		if _, err := tx.Exec(ctx, "UPDATE copies SET price = price + 0.01 WHERE copy_id % 3 = $1", random.IntN(3)); err != nil {
			return err
		}
	}
	return tx.Commit(ctx)
}
