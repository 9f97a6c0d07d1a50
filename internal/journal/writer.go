package journal

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/change"
)

// ErrFenced says that another writer has taken the journal over. Nothing that
// this writer appends can be stored any more.
var ErrFenced = errors.New("another writer has taken this journal over")

// Writer is the one writer of a source's journal. It is not safe for several
// goroutines.
type Writer struct {
	store      *Store
	conn       *pgx.Conn
	source     int64
	generation int
	epoch      int64
	next       int64
	segment    segment
	stored     int64 // bytes in the segment
	tail       *tail
	counts     *counter
	insert     string
	insertOne  string
	inserter   inserter
	closed     bool
	broken     error // what made an append fail
}

// lockClass keeps our advisory locks apart from others: "rill" in ASCII.
const lockClass = 0x72696c6c

// ErrHeld says that another process writes this journal right now.
var ErrHeld = errors.New("another instance holds this source's journal")

// TakeOver makes an instance the one writer of a source's journal: it raises the epoch, so
// that an append of whoever was before fails with [ErrFenced]. An advisory lock shows at
// once that a writer has gone. One that is frozen, or cut off, keeps its lock for as long
// as its connection stands; when its instance's line has run out, its session is ended.
func (s *Store) TakeOver(ctx context.Context, source int64, instance string) (Appender, Head, error) {
	return s.takeOver(ctx, source, instance, false)
}

func (s *Store) takeOver(ctx context.Context, source int64, instance string, force bool) (Appender, Head, error) {
	config := s.pool.Config().ConnConfig.Copy()
	config.RuntimeParams["synchronous_commit"] = "on" // a checkpoint must not outlive its block
	config.RuntimeParams["lock_timeout"] = "20s"      // a hung writer's lock is not waited for without end
	config.RuntimeParams["application_name"] = "rillmark journal"
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, Head{}, fmt.Errorf("opening the journal: %w", err)
	}
	w := &Writer{store: s, conn: conn, source: source, inserter: inserter{conn: conn}}
	head, err := w.takeOver(ctx, instance, force)
	if err != nil {
		conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // the first error is the one to tell
		return nil, Head{}, err
	}
	w.tail = s.tail(source)
	w.tail.open(w.next)
	return w, head, nil
}

// lock takes the lock that a writer has while it lives.
func (w *Writer) lock(ctx context.Context) error {
	const try = "SELECT pg_try_advisory_lock($1, $2)"
	var held bool
	if err := w.conn.QueryRow(ctx, try, lockClass, int32(w.source)).Scan(&held); err != nil || held {
		return err
	}
	var ended bool
	err := w.conn.QueryRow(ctx, `SELECT coalesce(bool_or(pg_terminate_backend(l.pid, $4)), false)
		FROM pg_locks l JOIN pg_stat_activity a USING (pid), rillmark.journal_head h
		WHERE l.locktype = 'advisory' AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database())
			AND l.classid = $1::int::oid AND l.objid = $2::int::oid AND l.objsubid = 2 AND l.granted
			AND h.source_id = $2 AND h.owner IS NOT NULL
			AND NOT EXISTS (SELECT FROM rillmark.instance i WHERE i.id = h.owner AND i.until > now())
			AND a.backend_start < now() - $3::interval -- a younger one may not have written yet whose it is`,
		lockClass, int32(w.source), settled, endWait.Milliseconds()).Scan(&ended)
	if err != nil {
		return err
	}
	if ended {
		if err := w.conn.QueryRow(ctx, try, lockClass, int32(w.source)).Scan(&held); err != nil || held {
			return err
		}
	}
	return ErrHeld
}

const (
	// settled is how old a writer's session is whose instance is on record by now.
	settled = 2 * time.Second
	// endWait is how long it is waited for the end of a session.
	endWait = 3 * time.Second
)

func (w *Writer) takeOver(ctx context.Context, instance string, force bool) (Head, error) {
	if err := w.lock(ctx); err != nil && (!force || !errors.Is(err, ErrHeld)) {
		if errors.Is(err, ErrHeld) {
			return Head{}, err
		}
		return Head{}, fmt.Errorf("taking the journal over: %w", err)
	}
	var h Head
	err := w.conn.QueryRow(ctx, `WITH before AS (SELECT owner FROM rillmark.journal_head WHERE source_id = $1)
		INSERT INTO rillmark.journal_head AS head (source_id, epoch, owner) VALUES ($1, 1, nullif($2, ''))
		ON CONFLICT (source_id) DO UPDATE SET epoch = head.epoch + 1, owner = excluded.owner
		RETURNING generation, epoch, first_offset, next_offset, checkpoint, coalesce((SELECT owner FROM before), '')`, w.source, instance).
		Scan(&h.Generation, &h.Epoch, &h.First, &h.Next, &h.Checkpoint, &h.Former)
	if err != nil {
		return Head{}, fmt.Errorf("taking the journal over: %w", err)
	}
	w.generation, w.epoch, w.next = h.Generation, h.Epoch, h.Next
	segments, err := w.store.segments(ctx, w.source)
	if err != nil {
		return Head{}, err
	}
	if len(segments) == 0 {
		err = w.roll(ctx)
	} else {
		w.use(segments[len(segments)-1])
		err = w.conn.QueryRow(ctx, "SELECT pg_total_relation_size($1::text::regclass)", w.segment.relation).Scan(&w.stored)
	}
	if err != nil {
		return Head{}, fmt.Errorf("opening the journal's segment: %w", err)
	}
	if w.counts, err = w.store.openCounter(ctx, w.source, h.First, w.next); err != nil {
		return Head{}, err
	}
	return h, nil
}

func (w *Writer) use(s segment) {
	w.segment = s
	head := `WITH head AS (
		UPDATE rillmark.journal_head SET next_offset = $4, checkpoint = $5, moved_at = now()
		WHERE source_id = $1 AND epoch = $2 AND next_offset = $3 RETURNING source_id)
	INSERT INTO ` + s.relation + ` (first_offset, last_offset, first_commit, last_commit, tables, payload_bytes, data)
	`
	w.insertOne = head + `SELECT $6::bigint, $7::bigint, $8::timestamptz, $9::timestamptz, $10::text, $11::bigint, $12::bytea FROM head`
	w.insert = head + `SELECT b.* FROM head, unnest($6::bigint[], $7::bigint[], $8::timestamptz[], $9::timestamptz[], $10::text[], $11::bigint[], $12::bytea[])
		AS b(first_offset, last_offset, first_commit, last_commit, tables, payload_bytes, data)`
}

// roll begins a new segment. It is a transaction of its own, fenced by the
// epoch; a segment that stays empty does no harm.
func (w *Writer) roll(ctx context.Context) error {
	name := segmentRelation(w.source, w.generation, w.next)
	relation := "rillmark." + pgx.Identifier{name}.Sanitize()
	err := pgx.BeginFunc(ctx, w.conn, func(tx pgx.Tx) error {
		var one int
		err := tx.QueryRow(ctx, "SELECT 1 FROM rillmark.journal_head WHERE source_id = $1 AND epoch = $2 FOR UPDATE", w.source, w.epoch).Scan(&one)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrFenced
		}
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `CREATE TABLE IF NOT EXISTS `+relation+` (
			first_offset  bigint NOT NULL,
			last_offset   bigint PRIMARY KEY,
			first_commit  timestamptz NOT NULL,
			last_commit   timestamptz NOT NULL,
			tables        text NOT NULL,
			payload_bytes bigint NOT NULL,
			data          bytea NOT NULL,
			appended_at   timestamptz DEFAULT now(),
			CHECK (first_offset <= last_offset))`); err != nil {
			return err
		}
		// The data is compressed already.
		if _, err := tx.Exec(ctx, `ALTER TABLE `+relation+` ALTER COLUMN data SET STORAGE EXTERNAL`); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `INSERT INTO rillmark.journal_segment (source_id, generation, first_offset, relation)
			VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING`, w.source, w.generation, w.next, name)
		return err
	})
	if err != nil {
		return err
	}
	w.use(segment{first: w.next, relation: relation})
	w.stored = 0
	return nil
}

// Next is the offset that the next event gets.
func (w *Writer) Next() int64 { return w.next }

// Append stores blocks, which go on at [Writer.Next] without a gap, together
// with the source's checkpoint and the states of tables, in one transaction.
// Without blocks only the checkpoint moves. After any error it is not known here what
// was stored, and the writer appends nothing more: it must be closed, and whoever
// takes the journal over reads from its head what there is.
func (w *Writer) Append(ctx context.Context, blocks []*Block, checkpoint []byte, tables []change.TableState) error {
	if w.broken != nil {
		return fmt.Errorf("appending to the journal after an append whose outcome is not known: %w", w.broken)
	}
	next := w.next
	for _, b := range blocks {
		if b.First != next {
			return fmt.Errorf("appending to the journal: a block begins at offset %d, not at %d", b.First, next)
		}
		next = b.Last + 1
	}
	if w.stored > w.store.options.SegmentBytes && len(blocks) > 0 {
		if err := w.roll(ctx); err != nil {
			w.broken = err
			return fmt.Errorf("beginning a new segment of the journal: %w", err)
		}
	}
	err := w.append(ctx, blocks, next, checkpoint, tables)
	if err != nil {
		w.broken = err
		return fmt.Errorf("appending to the journal: %w", err)
	}
	w.next = next
	if len(blocks) > 0 {
		w.counts.add(blocks)
		for _, b := range blocks {
			w.stored += int64(len(b.Stored))
			b.Stored = nil // readers at the tail want the payload
		}
		w.tail.push(blocks)
	}
	return nil
}

func (w *Writer) append(ctx context.Context, blocks []*Block, next int64, checkpoint []byte, tables []change.TableState) error {
	if len(tables) == 0 {
		return w.appendTo(ctx, w.conn, blocks, next, checkpoint)
	}
	return pgx.BeginFunc(ctx, w.conn, func(tx pgx.Tx) error {
		for i := range tables {
			if err := w.record(ctx, tx, &tables[i]); err != nil {
				return err
			}
		}
		return w.appendTo(ctx, tx, blocks, next, checkpoint)
	})
}

type executor interface {
	Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
}

// appendTo is one statement, and so one round trip and one transaction: the
// blocks are inserted only where the head's row was moved.
func (w *Writer) appendTo(ctx context.Context, to executor, blocks []*Block, next int64, checkpoint []byte) error {
	if len(blocks) == 0 {
		tag, err := to.Exec(ctx, `UPDATE rillmark.journal_head SET checkpoint = $4, moved_at = now()
			WHERE source_id = $1 AND epoch = $2 AND next_offset = $3`, w.source, w.epoch, w.next, checkpoint)
		if err == nil && tag.RowsAffected() != 1 {
			err = ErrFenced
		}
		return err
	}
	if len(blocks) == 1 { // as while nothing is behind: lists cost more than all else there
		inserted, err := w.appendOne(ctx, to, blocks[0], next, checkpoint)
		if err == nil && inserted != 1 {
			err = ErrFenced
		}
		return err
	}
	n := len(blocks)
	firsts, lasts, sizes := make([]int64, n), make([]int64, n), make([]int64, n)
	firstCommits, lastCommits := make([]time.Time, n), make([]time.Time, n)
	tables, data := make([]string, n), make([][]byte, n)
	for i, b := range blocks {
		firsts[i], lasts[i], sizes[i] = b.First, b.Last, int64(len(b.Payload))
		firstCommits[i], lastCommits[i] = b.FirstCommit, b.LastCommit
		tables[i], data[i] = joinTables(b.Tables), b.Stored
	}
	tag, err := to.Exec(ctx, w.insert, w.source, w.epoch, w.next, next, checkpoint,
		firsts, lasts, firstCommits, lastCommits, tables, sizes, data)
	if err == nil && tag.RowsAffected() != int64(n) {
		err = ErrFenced
	}
	return err
}

func (w *Writer) appendOne(ctx context.Context, to executor, b *Block, next int64, checkpoint []byte) (inserted int64, err error) {
	if to != executor(w.conn) || !w.inserter.can() {
		tag, err := to.Exec(ctx, w.insertOne, w.source, w.epoch, w.next, next, checkpoint,
			b.First, b.Last, b.FirstCommit, b.LastCommit, joinTables(b.Tables), int64(len(b.Payload)), b.Stored)
		return tag.RowsAffected(), err
	}
	i := &w.inserter
	if err := i.begin(ctx, w.insertOne); err != nil {
		return 0, err
	}
	i.numbers(w.source, w.epoch, w.next, next)
	i.bytes(checkpoint)
	i.numbers(b.First, b.Last)
	i.times(b.FirstCommit, b.LastCommit)
	i.bytes([]byte(joinTables(b.Tables)))
	i.numbers(int64(len(b.Payload)))
	i.bytes(b.Stored)
	return i.run(ctx)
}

// Counts is how many events of each table and operation the journal has taken,
// those that retention dropped included, and the offset after the newest of them.
func (w *Writer) Counts() (counts []Count, next int64) { return w.counts.snapshot() }

// FlushCounts stores the counts, so that the next start has few blocks to count.
func (w *Writer) FlushCounts(ctx context.Context) error { return w.counts.flush(ctx, w.epoch) }

// Close gives the journal up.
func (w *Writer) Close(ctx context.Context) {
	if w.closed {
		return
	}
	w.closed = true
	w.tail.shut()
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	w.conn.Close(ctx) //nolint:errcheck // the server ends the session anyway
}

// joinTables is how a block row lists its tables: one a line.
func joinTables(tables []string) string {
	return strings.Join(tables, "\n")
}

func splitTables(joined string) []string { return strings.Split(joined, "\n") }
