package main

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"rillmark/internal/demo"
	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/stream"
	"rillmark/internal/mariadb/values"
)

const mariaTable = `CREATE TABLE bench_loans (loan_id bigint AUTO_INCREMENT PRIMARY KEY, copy_id bigint NOT NULL, patron_id int NOT NULL,
	shelf_mark varchar(40) NOT NULL, note text NOT NULL, price decimal(8,2) NOT NULL, lent_at datetime(6) NOT NULL)`

const mariaRow = `INSERT INTO bench_loans (copy_id, patron_id, shelf_mark, note, price, lent_at)
	SELECT 9007199254740993 + seq, seq %% 3000, concat('K-', seq %% 97, '.', seq %% 13), concat('lent at the desk, ', md5(seq), ' ', md5(seq * 7)), (seq %% 4000) / 100.0, now(6) FROM seq_1_to_%d`

// mariaWork is a stretch of a MariaDB server's log.
type mariaWork struct {
	name         string
	events       int
	write        string
	once         bool
	sessions     int    // that write it, 1 without
	before, last string // positions
}

// writersAtOnce write the small transactions: the server commits theirs together.
const writersAtOnce = 4

func (b *bed) startMaria(ctx context.Context) (*demo.MariaDB, *sql.DB, error) {
	m := &demo.MariaDB{Folder: filepath.Join(b.folder, "mariadb"), Port: b.port + 4, Settings: map[string]string{"innodb-flush-log-at-trx-commit": "2", "sync-binlog": "0", "innodb-buffer-pool-size": "512M", "innodb-log-file-size": "512M", "max-binlog-size": "1073741824"}}
	if err := m.Start(ctx); err != nil {
		return nil, nil, err
	}
	db, err := m.Connect(ctx, "")
	if err == nil {
		_, err = db.ExecContext(ctx, "CREATE DATABASE IF NOT EXISTS catalogue")
	}
	if err == nil {
		err = m.Login(ctx, "capture", "ALL PRIVILEGES ON *.*")
	}
	if err == nil {
		db, err = m.Connect(ctx, "catalogue")
	}
	if err == nil {
		_, err = db.ExecContext(ctx, mariaTable)
	}
	return m, db, err
}

func (b *bed) mariaConfig(m *demo.MariaDB) (*session.Config, error) {
	password, err := m.Password()
	c := &session.Config{Source: "bench", Host: "127.0.0.1", Port: m.Port, User: "capture", Password: password, TLS: "disable"}
	c.Defaults()
	return c, err
}

// mariaDB measures the engine MariaDB: the log's works, the delay, and loads.
func (b *bed) mariaDB(ctx context.Context) (string, error) {
	m, db, err := b.startMaria(ctx)
	if err != nil {
		return "", err
	}
	defer m.Stop()
	var report strings.Builder
	fmt.Fprintf(&report, "| MariaDB | raw drain, events/s | drained and decoded, events/s | decoding alone, events/s | ours, events/s | CPU of ours, cores | peak memory |\n|---|---:|---:|---:|---:|---:|---:|\n")
	works := []*mariaWork{
		{name: fmt.Sprintf("one transaction of %d rows", b.large), events: b.large, write: fmt.Sprintf(mariaRow, b.large)},
		{name: fmt.Sprintf("%d transactions of one row", b.small), events: b.small, write: "BEGIN NOT ATOMIC DECLARE n int DEFAULT 0; WHILE n < " + fmt.Sprint(b.small/writersAtOnce) + " DO INSERT INTO bench_loans (copy_id, patron_id, shelf_mark, note, price, lent_at) VALUES (9007199254740993 + n, n % 3000, concat('K-', n % 97, '.', n % 13), concat('lent at the desk, ', md5(n), ' ', md5(n * 7)), (n % 4000) / 100.0, now(6)); SET n = n + 1; END WHILE; END", sessions: writersAtOnce},
		{name: fmt.Sprintf("one transaction of %d rows", b.huge), events: b.huge, write: fmt.Sprintf(mariaRow, b.huge), once: true},
	}
	for _, w := range works {
		if !strings.Contains(w.name, b.match) {
			continue
		}
		line, err := b.mariaCompare(ctx, m, db, w)
		if err != nil {
			return "", fmt.Errorf("%s: %w", w.name, err)
		}
		report.WriteString(line)
	}
	if strings.Contains("delay", b.match) {
		delay, err := b.mariaDelay(ctx, m)
		if err != nil {
			return "", err
		}
		report.WriteString("\n" + delay)
	}
	fmt.Fprintf(&report, "\n| MariaDB, load | raw SELECT, rows/s | ours, rows/s | ratio | CPU of ours, cores | peak memory |\n|---|---:|---:|---:|---:|---:|\n")
	for _, rows := range []int{b.large, b.huge} {
		if !strings.Contains(fmt.Sprintf("load of %d rows", rows), b.match) {
			continue
		}
		line, err := b.mariaLoads(ctx, m, db, rows)
		if err != nil {
			return "", err
		}
		report.WriteString(line)
	}
	return report.String(), nil
}

func position(ctx context.Context, db *sql.DB) (at string, err error) {
	err = db.QueryRowContext(ctx, "SELECT @@global.gtid_binlog_pos").Scan(&at)
	return at, err
}

func (b *bed) mariaCompare(ctx context.Context, m *demo.MariaDB, db *sql.DB, w *mariaWork) (string, error) {
	fmt.Printf("MariaDB: writing %s …\n", w.name)
	var err error
	if _, err := db.ExecContext(ctx, "TRUNCATE bench_loans"); err != nil {
		return "", err
	}
	if w.before, err = position(ctx, db); err != nil {
		return "", err
	}
	group, writing := errgroup.WithContext(ctx)
	for range max(w.sessions, 1) {
		group.Go(func() error {
			_, err := db.ExecContext(writing, w.write)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return "", err
	}
	if w.last, err = position(ctx, db); err != nil {
		return "", err
	}
	c, err := b.mariaConfig(m)
	if err != nil {
		return "", err
	}
	rounds := b.rounds
	if w.once {
		rounds = 1
	}
	var raws, decoded, alone, rates, cpus, peaks []float64
	for round := range rounds {
		for _, decode := range []bool{false, true} {
			took, decoding, err := drainMaria(ctx, c, w, decode)
			if err != nil {
				return "", err
			}
			rate := float64(w.events) / took.Seconds()
			if decode {
				decoded, alone = append(decoded, rate), append(alone, float64(w.events)/decoding.Seconds())
			} else {
				raws = append(raws, rate)
			}
		}
		one, err := b.mariaOurs(ctx, m, w, fmt.Sprintf("maria-%d-%d-%d", w.events, len(w.write), round))
		if err != nil {
			return "", err
		}
		rates, cpus, peaks = append(rates, float64(w.events)/one.took.Seconds()), append(cpus, one.cpu), append(peaks, one.peak)
		fmt.Printf("  round %d: drain %.0f, decoded %.0f, decoding alone %.0f, ours %.0f events/s, %.2f cores, %.0f MiB\n", round+1, raws[round], decoded[round], alone[round], rates[round], cpus[round], peaks[round])
	}
	return fmt.Sprintf("| %s | %.0f | %.0f | %.0f | %.0f | %.2f | %.0f MiB |\n", w.name, median(raws), median(decoded), median(alone), median(rates), median(cpus), median(peaks)), nil
}

// drainMaria reads a stretch of the log and discards it, or decodes every value of it on
// the way: decoding is the time that this took, without what it is to get the log.
func drainMaria(ctx context.Context, c *session.Config, w *mariaWork, decode bool) (took, decoding time.Duration, _ error) {
	from, err := stream.ParseGTIDs(w.before)
	if err != nil {
		return 0, 0, err
	}
	s, err := stream.Open(ctx, c, stream.Options{ID: session.ReaderID("bench " + time.Now().String()), Name: "bench-drain", From: from})
	if err != nil {
		return 0, 0, err
	}
	defer s.Close()
	began := time.Now()
	var columns []*values.Column
	var arena, known []byte
	sets := values.Charsets{45: {Name: "utf8mb4"}, 46: {Name: "utf8mb4"}, 8: {Name: "latin1"}, 224: {Name: "utf8mb4"}, 63: {Name: "binary"}}
	last := false
	for {
		e, err := s.Next()
		if err != nil {
			return 0, 0, err
		}
		switch {
		case e.Type == binlog.TypeGTID:
			g, err := binlog.DecodeGTID(e.Body, e.Server)
			if err != nil {
				return 0, 0, err
			}
			last = g.GTID.String() == w.last
		case e.Type == binlog.TypeXid && last:
			return time.Since(began), decoding, nil
		case decode && e.Type == binlog.TypeTableMap && !bytes.Equal(e.Body, known):
			known = append(known[:0], e.Body...)
			t, err := binlog.DecodeTableMap(e.Body)
			if err != nil {
				return 0, 0, err
			}
			columns = columns[:0]
			for _, log := range t.Columns {
				column, err := values.FromLog(log, sets, "")
				if err != nil {
					return 0, 0, err
				}
				columns = append(columns, column)
			}
		case decode && e.Type.IsRows():
			started := time.Now()
			if arena, err = decodeRows(columns, e, arena); err != nil {
				return 0, 0, err
			}
			decoding += time.Since(started)
		}
	}
}

func decodeRows(columns []*values.Column, e stream.Event, arena []byte) ([]byte, error) {
	rows, err := binlog.DecodeRows(e.Type, e.Body, nil)
	if err != nil {
		return arena, err
	}
	data := rows.Data
	for len(data) > 0 {
		arena = arena[:0]
		data = data[(len(columns)+7)/8:]
		for _, c := range columns {
			if _, n, is := c.Alias(data); is {
				data = data[n:]
				continue
			}
			n := 0
			if arena, n, err = c.FromLog(arena, data); err != nil {
				return arena, err
			}
			data = data[n:]
		}
	}
	return arena, nil
}

func (b *bed) mariaDefinition(m *demo.MariaDB, mode string) map[string]any {
	return map[string]any{"engine": "mariadb", "mode": mode, "tables": []map[string]string{{"match": "catalogue.bench_loans"}},
		"connection": map[string]any{"host": "127.0.0.1", "port": m.Port, "user": "capture", "tls": "disable", "password": "${file:" + m.PasswordFile() + "}"}}
}

// mariaOurs follows a stretch of the log into a journal until all of it is there.
func (b *bed) mariaOurs(ctx context.Context, m *demo.MariaDB, w *mariaWork, name string) (*measured, error) {
	i, err := b.serve(ctx, name)
	if err != nil {
		return nil, err
	}
	defer i.stop()
	definition := b.mariaDefinition(m, "follow-only")
	definition["from_position"] = w.before
	if err := i.post(ctx, "/v1/sources/circulation", definition); err != nil {
		return nil, err
	}
	used, err := i.cpu()
	if err != nil {
		return nil, err
	}
	began := time.Now()
	if err := i.post(ctx, "/v1/sources/circulation/resume", map[string]string{}); err != nil {
		return nil, err
	}
	if err := i.filledTo(ctx, int64(w.events)+1, began); err != nil {
		return nil, err
	}
	took := time.Since(began)
	after, err := i.cpu()
	return &measured{took: took, cpu: (after - used).Seconds() / took.Seconds(), peak: i.peak()}, err
}

// filledTo waits until the journal has so many events.
func (i *instance) filledTo(ctx context.Context, events int64, began time.Time) error {
	for {
		var next int64
		err := i.state.QueryRow(ctx, "SELECT coalesce(max(next_offset), 0) FROM rillmark.journal_head").Scan(&next)
		if err != nil {
			return err
		}
		if next > events {
			return nil
		}
		if time.Since(began) > 5*time.Minute {
			return fmt.Errorf("only %d of %d events came: %s", next-1, events, i.log)
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// mariaLoads compares a load with a SELECT of the same table that is thrown away.
func (b *bed) mariaLoads(ctx context.Context, m *demo.MariaDB, db *sql.DB, rows int) (string, error) {
	fmt.Printf("MariaDB: writing a table of %d rows …\n", rows)
	for _, s := range []string{"TRUNCATE bench_loans", fmt.Sprintf(mariaRow, rows), "ANALYZE TABLE bench_loans"} {
		if _, err := db.ExecContext(ctx, s); err != nil {
			return "", err
		}
	}
	c, err := b.mariaConfig(m)
	if err != nil {
		return "", err
	}
	rounds := b.rounds
	if rows >= b.huge {
		rounds = 1
	}
	var raws, rates, cpus, peaks []float64
	for round := range rounds {
		conn, err := c.Connect(ctx, "raw")
		if err != nil {
			return "", err
		}
		began := time.Now()
		result, err := conn.Query(ctx, "SELECT * FROM catalogue.bench_loans")
		if err != nil {
			return "", err
		}
		for result.Next() != nil {
			continue
		}
		if err := result.Err(); err != nil {
			return "", err
		}
		raws = append(raws, float64(rows)/time.Since(began).Seconds())
		conn.Close()
		one, err := b.mariaLoadOnce(ctx, m, rows, fmt.Sprintf("maria-load-%d-%d", rows, round))
		if err != nil {
			return "", err
		}
		rates, cpus, peaks = append(rates, float64(rows)/one.took.Seconds()), append(cpus, one.cpu), append(peaks, one.peak)
		fmt.Printf("  round %d: SELECT %.0f rows/s, ours %.0f (%.2f cores, %.0f MiB)\n", round+1, raws[round], rates[round], one.cpu, one.peak)
	}
	return fmt.Sprintf("| %d rows | %.0f | %.0f | %.2f | %.2f | %.0f MiB |\n", rows, median(raws), median(rates), median(rates)/median(raws), median(cpus), median(peaks)), nil
}

func (b *bed) mariaLoadOnce(ctx context.Context, m *demo.MariaDB, rows int, name string) (*measured, error) {
	i, err := b.serve(ctx, name)
	if err != nil {
		return nil, err
	}
	defer i.stop()
	if err := i.post(ctx, "/v1/sources/circulation", b.mariaDefinition(m, "load-only")); err != nil {
		return nil, err
	}
	if err := i.post(ctx, "/v1/sources/circulation/resume", map[string]string{}); err != nil {
		return nil, err
	}
	if err := i.filledTo(ctx, 1, time.Now()); err != nil {
		return nil, err
	}
	began := time.Now()
	used, err := i.cpu()
	if err != nil {
		return nil, err
	}
	if err := i.filledTo(ctx, int64(rows)+3, began); err != nil {
		return nil, err
	}
	took := time.Since(began)
	after, err := i.cpu()
	return &measured{took: took, cpu: (after - used).Seconds() / took.Seconds(), peak: i.peak()}, err
}

// mariaDelay measures from before a commit to a reader of a pull outlet's stream, at a
// steady rate. A transaction's time in the log has whole seconds: the row itself says when
// it was written.
func (b *bed) mariaDelay(ctx context.Context, m *demo.MariaDB) (string, error) {
	fmt.Printf("MariaDB: measuring the delay at %d transactions a second …\n", b.rate)
	i, err := b.serve(ctx, "maria-delay")
	if err != nil {
		return "", err
	}
	defer i.stop()
	if err := i.post(ctx, "/v1/sources/circulation", b.mariaDefinition(m, "follow-only")); err != nil {
		return "", err
	}
	if err := i.post(ctx, "/v1/outlets/desk", map[string]any{"source": "circulation"}); err != nil {
		return "", err
	}
	if err := i.post(ctx, "/v1/sources/circulation/resume", map[string]string{}); err != nil {
		return "", err
	}
	if err := i.phase(ctx, "running"); err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, b.span)
	defer cancel()
	writing := make(chan error, 1)
	go func() { writing <- b.writeMaria(ctx, m) }()
	delays, err := i.readDelays(ctx, func(line []byte) (time.Time, bool) {
		_, rest, _ := bytes.Cut(line, []byte(`"copy_id":`))
		micros, _, found := bytes.Cut(rest, []byte(","))
		n, err := strconv.ParseInt(string(micros), 10, 64)
		return time.UnixMicro(n), found && err == nil
	})
	if failed := <-writing; failed != nil && !errors.Is(failed, context.DeadlineExceeded) {
		return "", failed
	}
	if len(delays) == 0 {
		return "", fmt.Errorf("no delay could be measured: %w", err)
	}
	sort.Slice(delays, func(a, c int) bool { return delays[a] < delays[c] })
	return fmt.Sprintf("MariaDB, from the statement to a reader of a pull outlet's stream, at %d transactions/s over %s (%d read): p50 %.1f ms, p99 %.1f ms.\n", b.rate, b.span, len(delays),
		quantile(delays, 0.5).Seconds()*1000, quantile(delays, 0.99).Seconds()*1000), nil
}

// writeMaria writes transactions of one row at the rate.
func (b *bed) writeMaria(ctx context.Context, m *demo.MariaDB) error {
	db, err := m.Connect(ctx, "catalogue")
	if err != nil {
		return err
	}
	defer db.Close() //nolint:errcheck // nothing is open on it
	statement, err := db.PrepareContext(ctx, "INSERT INTO bench_loans (copy_id, patron_id, shelf_mark, note, price, lent_at) VALUES (?, 1, 'K-1', 'delay', 1.5, now(6))")
	if err != nil {
		return err
	}
	gap := time.Second / time.Duration(b.rate)
	for next := time.Now(); ctx.Err() == nil; next = next.Add(gap) {
		if wait := time.Until(next); wait > 0 {
			time.Sleep(wait)
		}
		if _, err := statement.ExecContext(ctx, time.Now().UnixMicro()); err != nil && ctx.Err() == nil {
			return err
		}
	}
	return nil
}
