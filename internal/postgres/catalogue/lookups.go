package catalogue

import (
	"context"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
	"rillmark/internal/postgres/session"
)

// Described is what the catalogue says of a table at one moment.
type Described struct {
	oid  uint32
	file uint32
	// made is the transaction that made the table, 0 where it is not known; next is the number
	// of the next transaction at the look.
	made, next uint32
	Columns    []attribute
	types      map[uint32]*typeRow // those of the columns, and what they are made of
	// Root is the name of the table that a partition belongs to, empty for one that
	// is none; rootColumns are that one's, in its order.
	Root        string
	rootOID     uint32
	rootColumns []Column
	// dropped and rootDropped are columns that each has had.
	dropped, rootDropped []Dropped
	// At is a place in the log: all that was committed before it is in here.
	At session.LSN
}

// Numbered are the table's columns with the numbers that go on record: its root's
// where it is captured under that name.
func (d *Described) Numbered(mapped bool) []Column {
	columns := make([]Column, len(d.Columns))
	for i := range d.Columns {
		a := &d.Columns[i]
		columns[i] = Column{Number: a.number, Name: a.name, Type: a.typeOID, Mod: a.typeMod}
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

// order has the root's numbers of a partition's columns in the partition's own order, of those
// that were dropped, too: a column of the root is dropped with those of all partitions, in one
// transaction. It is nil for a table that is no partition.
func (d *Described) order() []int {
	if d.rootOID == 0 {
		return nil
	}
	type pair struct{ own, root int }
	var pairs []pair
	for i, one := range d.Numbered(true) {
		pairs = append(pairs, pair{d.Columns[i].number, one.Number})
	}
	alike := slices.IsSortedFunc(pairs, func(a, b pair) int { return a.root - b.root })
	by := func(dropped []Dropped) map[uint32][]int {
		numbers := make(map[uint32][]int)
		for _, one := range dropped {
			numbers[one.By] = append(numbers[one.By], one.Number)
		}
		return numbers
	}
	roots := by(d.rootDropped)
	for xid, own := range by(d.dropped) {
		root := roots[xid]
		if len(own) != len(root) || len(own) > 1 && !alike {
			continue // which is which is not known
		}
		slices.Sort(own)
		slices.Sort(root)
		for i := range own {
			pairs = append(pairs, pair{own[i], root[i]})
		}
	}
	slices.SortFunc(pairs, func(a, b pair) int { return a.own - b.own })
	numbers := make([]int, len(pairs))
	for i, one := range pairs {
		numbers[i] = one.root
	}
	return numbers
}

// LeftAfter reports whether the table may have been a partition, and have left its root after
// a transaction began: attaching and detaching define all columns anew, in one transaction.
func (d *Described) LeftAfter(xid uint32) bool {
	if d.Root != "" || len(d.Columns) == 0 || d.made == 0 {
		return false
	}
	left := d.Columns[0].defined
	// A number from long ago looks like one that is still to come.
	return left != d.made && int32(left-xid) > 0 && int32(d.next-left) > 0 && !slices.ContainsFunc(d.Columns, func(a attribute) bool { return a.defined != left })
}

// Describe asks the catalogue about several tables at once. Those that are not there
// have no columns.
func Describe(ctx context.Context, q session.Querier, oids []uint32) (map[uint32]*Described, error) {
	all := make(map[uint32]*Described, len(oids))
	for _, oid := range oids {
		all[oid] = &Described{oid: oid}
	}
	rows, _ := q.Query(ctx, attributesSQL, pgx.QueryExecModeCacheStatement, oids)
	var used, rooted []uint32
	err := eachAttribute(rows, func(t tableRow, a attribute) {
		d := all[t.oid]
		d.file, d.made, d.next, d.dropped = t.file, t.made, t.next, t.dropped
		d.Columns = append(d.Columns, a)
		used = append(used, a.typeOID)
		if t.rooted && !slices.Contains(rooted, t.oid) {
			rooted = append(rooted, t.oid)
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
		d.types = types
		for i := range d.Columns {
			if !d.Columns[i].typed(types) {
				d.Columns = nil // dropped between both questions
				break
			}
		}
	}
	if len(rooted) == 0 {
		return all, nil
	}
	rows, _ = q.Query(ctx, `SELECT c.oid, n.nspname, r.relname, r.oid, a.attname::text, a.attnum::int, a.attisdropped, a.xmin::text::bigint
		FROM pg_class c JOIN pg_class r ON r.oid = pg_partition_root(c.oid) JOIN pg_namespace n ON n.oid = r.relnamespace
		JOIN pg_attribute a ON a.attrelid = r.oid AND a.attnum > 0
		WHERE c.oid = ANY($1::oid[]) AND c.relkind IN ('r', 'p') AND (c.relispartition OR c.relkind = 'p') ORDER BY c.oid, a.attnum`, pgx.QueryExecModeCacheStatement, rooted)
	var oid, rootOID uint32
	var schema, table string
	var one Column
	var isDropped bool
	var defined uint32
	_, err = pgx.ForEachRow(rows, []any{&oid, &schema, &table, &rootOID, &one.Name, &one.Number, &isDropped, &defined}, func() error {
		d := all[oid]
		if isDropped {
			d.rootDropped = append(d.rootDropped, Dropped{one.Number, defined})
			return nil
		}
		d.rootColumns = append(d.rootColumns, one)
		if rootOID != oid {
			d.Root, d.rootOID = change.TableName(schema, table), rootOID
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("looking up the roots of partitions: %w", err)
	}
	return all, nil
}

// describeOne asks about one table.
func describeOne(ctx context.Context, q session.Querier, oid uint32) (*Described, error) {
	all, err := Describe(ctx, q, []uint32{oid})
	return all[oid], err
}

// names are the columns' in order.
func names(columns []Column) []string {
	all := make([]string, len(columns))
	for i, c := range columns {
		all[i] = c.Name
	}
	return all
}
