package postgres

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
	"rillmark/internal/postgres/pgoutput"
)

// described is what the catalogue says of a table at one moment.
type described struct {
	oid     uint32
	columns []attribute
	// root is the name of the table that a partition belongs to, empty for one that
	// is none; rootColumns are that one's, in its order.
	root        string
	rootOID     uint32
	rootColumns []column
	// at is a place in the log: all that was committed before it is in here.
	at LSN
}

// numbered are the table's columns with the numbers that go on record: its root's
// where it is captured under that name.
func (d *described) numbered(mapped bool) []column {
	columns := make([]column, len(d.columns))
	for i := range d.columns {
		a := &d.columns[i]
		columns[i] = column{Number: a.number, Name: a.name, Type: a.typeOID, Mod: a.typeMod}
		if mapped && d.rootOID != 0 {
			columns[i].Number = 0
			for _, c := range d.rootColumns {
				if c.Name == a.name {
					columns[i].Number = c.Number
				}
			}
		}
	}
	return columns
}

// describe asks the catalogue about several tables at once. Those that are not there
// have no columns.
func describe(ctx context.Context, q querier, oids []uint32) (map[uint32]*described, error) {
	all := make(map[uint32]*described, len(oids))
	for _, oid := range oids {
		all[oid] = &described{oid: oid}
	}
	rows, _ := q.Query(ctx, attributesSQL, pgx.QueryExecModeCacheStatement, oids)
	var used, rooted []uint32
	err := eachAttribute(rows, func(oid uint32, hasRoot bool, a attribute) {
		all[oid].columns = append(all[oid].columns, a)
		used = append(used, a.typeOID)
		if hasRoot && !slices.Contains(rooted, oid) {
			rooted = append(rooted, oid)
		}
	})
	if err != nil {
		return nil, fmt.Errorf("looking up columns: %w", err)
	}
	slices.Sort(used)
	types, err := lookUpTypes(ctx, q, slices.Compact(used))
	if err != nil {
		return nil, err
	}
	for _, d := range all {
		for i := range d.columns {
			if !d.columns[i].typed(types) {
				d.columns = nil // dropped between both questions
				break
			}
		}
	}
	if len(rooted) == 0 {
		return all, nil
	}
	rows, _ = q.Query(ctx, `SELECT c.oid, n.nspname, r.relname, r.oid, a.attname::text, a.attnum::int
		FROM pg_class c JOIN pg_class r ON r.oid = pg_partition_root(c.oid) JOIN pg_namespace n ON n.oid = r.relnamespace
		JOIN pg_attribute a ON a.attrelid = r.oid AND a.attnum > 0 AND NOT a.attisdropped
		WHERE c.oid = ANY($1::oid[]) AND c.relkind IN ('r', 'p') AND (c.relispartition OR c.relkind = 'p') ORDER BY c.oid, a.attnum`, pgx.QueryExecModeCacheStatement, rooted)
	var oid, rootOID uint32
	var schema, table string
	var one column
	_, err = pgx.ForEachRow(rows, []any{&oid, &schema, &table, &rootOID, &one.Name, &one.Number}, func() error {
		d := all[oid]
		d.rootColumns = append(d.rootColumns, one)
		if rootOID != oid {
			d.root, d.rootOID = change.TableName(schema, table), rootOID
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("looking up the roots of partitions: %w", err)
	}
	return all, nil
}

// describeOne asks about one table.
func describeOne(ctx context.Context, q querier, oid uint32) (*described, error) {
	all, err := describe(ctx, q, []uint32{oid})
	return all[oid], err
}

// lookAhead is how many tables are asked about at a time besides the one at hand.
const lookAhead = 500

// described is what the catalogue says of a table whose Relation message is at hand:
// looked up at or after the message's place in the log, so that it has all that led to
// the message. Tables that the stream has not announced yet are looked up with it, so
// that a thousand of them do not cost a thousand questions; the lock is held.
func (r *run) described(ctx context.Context, m *pgoutput.Relation) (*described, error) {
	if d := r.lookups[m.OID]; d != nil && d.at >= LSN(r.tx.FinalLSN) && fits(d.numbered(false), m.Columns, false) {
		return d, nil
	}
	oids := []uint32{m.OID}
	for _, t := range r.tables {
		if t.captured == nil {
			continue
		}
		for _, l := range t.captured.members {
			if r.relations[l.oid] == nil && l.oid != m.OID && len(oids) <= lookAhead {
				oids = append(oids, l.oid)
			}
		}
	}
	// Before the look: what is committed in between may be in it, and is not relied on.
	var text string
	if err := r.control.QueryRow(ctx, "SELECT (CASE WHEN pg_is_in_recovery() THEN pg_last_wal_replay_lsn() ELSE pg_current_wal_insert_lsn() END)::text").Scan(&text); err != nil {
		return nil, err
	}
	at, err := ParseLSN(text)
	if err != nil {
		return nil, err
	}
	found, err := describe(ctx, r.control, oids)
	if err != nil {
		return nil, err
	}
	for _, d := range found {
		d.at = at
	}
	if r.lookups == nil || len(r.lookups) > 100_000 {
		r.lookups = make(map[uint32]*described)
	}
	maps.Copy(r.lookups, found)
	return found[m.OID], nil
}

// forget drops what was looked up of tables that a statement has changed.
func (r *run) forget(oid uint32) { delete(r.lookups, oid) }

// names are the columns' in order.
func names(columns []column) []string {
	all := make([]string, len(columns))
	for i, c := range columns {
		all[i] = c.Name
	}
	return all
}
