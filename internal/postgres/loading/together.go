package loading

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/chunk"
	"rillmark/internal/postgres/loads"
)

// A mark costs the source a commit, and a question its time on the way. Small tables,
// of which a database may have thousands, are therefore loaded many at once: all begin
// at one mark, are read in one snapshot, and are put into the journal at the next mark.
// Where that fails for one of them, each goes on by itself.

const (
	// togetherTables and togetherPages bound what is loaded between the same marks.
	togetherTables = 64
	togetherPages  = 256
)

// fitsTogether reports whether a job begins a load that may be done with others; the
// lock is held.
func (j *job) fitsTogether() bool {
	p := &j.load.Progress
	return !p.Began && !p.Apart() && p.Restarts == 0 && !j.load.Apart &&
		!j.captured.Mapped && len(j.captured.Members) == 1 && len(j.captured.Members[0].Key) > 0 && !j.captured.Members[0].Hides
}

// companions are loads that may begin with a job's; the lock is held.
func (r *Loading) companions(j *job) []*job {
	all := []*job{j}
	if !j.fitsTogether() {
		return nil
	}
	for _, t := range r.tables {
		if t.Load == nil || t == j.table || !t.Load.Ready || t.Captured == nil || t.Load.Alone || t.Rule().Priority != j.table.Rule().Priority {
			continue
		}
		other := &job{table: t, load: t.Load, captured: t.Captured, turn: t.Load.Turn, at: t.Load.Progress, alone: true}
		if other.fitsTogether() {
			all = append(all, other)
		}
	}
	// The job at hand is the first by its name.
	slices.SortFunc(all, func(a, b *job) int { return strings.Compare(a.table.State.Table, b.table.State.Table) })
	all = all[:min(len(all), togetherTables)]
	if len(all) < 2 || !slices.Contains(all, j) {
		return nil
	}
	for _, one := range all {
		one.load.Alone = true
	}
	return all
}

// together loads small tables; false where the job at hand is to be done by itself.
func (l *loader) together(ctx context.Context, j *job) (done bool, err error) {
	r := l.in
	var all []*job
	r.under(func() {
		all = r.companions(j)
	})
	if all == nil {
		return false, nil
	}
	defer r.under(func() {
		for _, one := range all {
			if one != j {
				one.load.Alone = false
			}
		}
		r.Wake()
	})
	some, err := l.small(ctx, all)
	if err != nil || len(some) < 2 || !slices.Contains(some, j) {
		return false, err
	}
	now, err := l.layouts(ctx, some)
	if err != nil {
		return false, err
	}
	some = slices.DeleteFunc(some, func(one *job) bool { return now[one] == nil })
	if !slices.Contains(some, j) {
		return false, nil
	}
	err = r.host.Place(ctx, l.Conn, func() error {
		for _, one := range some {
			if one.current() {
				r.loadBegins(one, now[one], loads.ByKey, one.table.State.RowsEstimate)
				r.openWindow(one)
			}
		}
		return nil
	})
	defer r.under(func() {
		for _, one := range some {
			if one.window != nil {
				one.load.Close(one.window)
			}
		}
	})
	if err != nil {
		return false, err
	}
	some = slices.DeleteFunc(some, func(one *job) bool { return one.window == nil })
	read, err := l.readTogether(ctx, some)
	var server *pgconn.PgError
	if errors.As(err, &server) || errors.Is(err, errDisturbed) {
		if l.Conn.PgConn().TxStatus() != 'I' {
			if _, err := l.Conn.Exec(ctx, "ROLLBACK"); err != nil {
				return false, err
			}
		}
		return true, r.sink.Locked(func() error {
			for _, one := range some {
				one.load.Apart = true // each by itself shows which it is
			}
			return nil
		})
	}
	if err != nil {
		return false, err
	}
	return true, r.host.Place(ctx, l.Conn, func() error {
		for i, one := range some {
			if one.current() {
				r.deliver(one, one.window, read[i], keyTaken)
			}
		}
		return nil
	})
}

// small keeps the tables that are small, and can be read as far as is known.
func (l *loader) small(ctx context.Context, all []*job) (some []*job, err error) {
	oids := make([]uint32, len(all))
	for i, one := range all {
		oids[i] = one.captured.Members[0].OID
	}
	rows, _ := l.Conn.Query(ctx, `SELECT oid, pg_relation_size(oid) / $2, coalesce(pg_relation_size(nullif(reltoastrelid, 0)), 0), coalesce(has_table_privilege(oid, 'SELECT'), false)
		FROM pg_class WHERE oid = ANY($1::oid[])`, pgx.QueryExecModeCacheStatement, oids, chunk.PageBytes)
	fits := make(map[uint32]bool)
	var oid uint32
	var pages, aside, left int64 = 0, 0, togetherPages
	var readable bool
	if _, err := pgx.ForEachRow(rows, []any{&oid, &pages, &aside, &readable}, func() error {
		if fits[oid] = readable && pages <= smallPages && pages <= left && aside <= l.Config.LargestValue/chunk.Compressible; fits[oid] {
			left -= pages
		}
		return nil
	}); err != nil {
		return nil, err
	}
	for i, one := range all {
		if fits[oids[i]] {
			some = append(some, one)
		}
	}
	return some, nil
}

// layouts looks the tables' layouts up; one that is not what it was has none.
func (l *loader) layouts(ctx context.Context, some []*job) (map[*job]*catalogue.Layout, error) {
	names, oids := make([]string, len(some)), make([]uint32, len(some))
	for i, one := range some {
		read := one.target()
		names[i], oids[i] = read.Relation(), one.captured.Members[0].OID
	}
	found, err := catalogue.Describe(ctx, l.Conn, oids)
	if err != nil {
		return nil, err
	}
	rows, _ := l.Conn.Query(ctx, "SELECT coalesce(to_regclass(name)::oid, 0) FROM unnest($1::text[]) WITH ORDINALITY AS n(name, place) ORDER BY place", pgx.QueryExecModeCacheStatement, names)
	now, err := pgx.CollectRows(rows, pgx.RowTo[uint32])
	if err != nil {
		return nil, err
	}
	layouts := make(map[*job]*catalogue.Layout, len(some))
	for i, one := range some {
		if now[i] != oids[i] || len(found[oids[i]].Columns) == 0 {
			continue
		}
		if layouts[one], err = catalogue.LayoutOf(l.Config, found[oids[i]], one.table.State.Table, one.captured.Rule); err != nil {
			return nil, err
		}
	}
	return layouts, nil
}

// readTogether reads the tables' rows in one snapshot that sees every transaction that
// came before the mark.
func (l *loader) readTogether(ctx context.Context, some []*job) ([]*chunk.Rows, error) {
	from := make([]string, len(some))
	for i, one := range some {
		read := one.target()
		from[i] = read.From()
	}
	// Whoever alters two of the tables may not run into a deadlock with this: nothing is
	// waited for.
	begin := "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; LOCK TABLE " + strings.Join(from, ", ") + " IN ACCESS SHARE MODE NOWAIT"
	if _, err := l.Conn.PgConn().Exec(ctx, begin).ReadAll(); err != nil {
		return nil, err
	}
	var text string
	if err := l.Conn.QueryRow(ctx, "SELECT pg_current_snapshot()::text").Scan(&text); err != nil {
		return nil, err
	}
	seen, err := chunk.ParseSnapshot(text)
	if err != nil {
		return nil, err
	}
	layouts, err := l.layouts(ctx, some)
	if err != nil {
		return nil, err
	}
	l.Room.Reset()
	l.Guarded, l.Keeps = false, true
	defer func() { l.Keeps = false }()
	read := make([]*chunk.Rows, len(some))
	for i, one := range some {
		invisible := func(xid uint32) bool { return !seen.Sees(xid) }
		if layouts[one] == nil || slices.ContainsFunc(one.before, invisible) {
			return nil, errDisturbed
		}
		l.turnTo(one)
		read[i] = &chunk.Rows{Layout: layouts[one], Seen: seen}
		if err := l.ReadByKey(ctx, read[i], nil, nil); err != nil {
			return nil, fmt.Errorf("reading %s: %w", one.table.State.Table, err)
		}
	}
	_, err = l.Conn.Exec(ctx, "COMMIT")
	return read, err
}

// keyTaken moves a load in the order of the key behind what was read.
func keyTaken(p *loads.Progress, read *chunk.Rows) {
	if len(read.Last) > 0 {
		p.After = read.Last
	}
	if !read.End {
		return
	}
	if len(p.Leaves) > 1 {
		p.Leaves, p.After = p.Leaves[1:], nil
		return
	}
	p.Read = true
}
