package catalogue

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/postgres/session"
)

// typeRow is a type as the catalogue has it.
type typeRow struct {
	typeInfo
	// base is the type below a domain, element an array's; 0 for any other type.
	base, element uint32
}

// builtIn are the types that come with the server, whose numbers are the same
// on every server; any other is looked up each time.
var builtIn sync.Map

// lookUpTypes reads types with those below and inside them.
func lookUpTypes(ctx context.Context, q session.Querier, oids []uint32) (map[uint32]*typeRow, error) {
	known := make(map[uint32]*typeRow)
	for len(oids) > 0 {
		var ask []uint32
		next := oids[:0]
		take := func(t *typeRow) {
			known[t.oid] = t
			for _, oid := range []uint32{t.base, t.element} {
				if oid != 0 && known[oid] == nil {
					next = append(next, oid)
				}
			}
		}
		for _, oid := range slices.Clone(oids) {
			if known[oid] != nil || slices.Contains(ask, oid) {
				continue
			}
			if t, there := builtIn.Load(oid); there {
				take(t.(*typeRow))
				continue
			}
			ask = append(ask, oid)
		}
		if len(ask) > 0 {
			rows, _ := q.Query(ctx, `SELECT oid, typtype::text, typcategory::text, ascii(typdelim::text), CASE WHEN typtype = 'd' THEN typbasetype ELSE 0 END,
					CASE WHEN typcategory = 'A' AND oid NOT IN (22, 30) THEN typelem ELSE 0 END, -- vectors are no arrays in text
					CASE WHEN typtype = 'e' THEN (SELECT array_agg(enumlabel::text ORDER BY enumsortorder) FROM pg_enum WHERE enumtypid = pg_type.oid) END
				FROM pg_type WHERE oid = ANY($1::oid[])`, pgx.QueryExecModeCacheStatement, ask)
			var t typeRow
			var delimiter int
			_, err := pgx.ForEachRow(rows, []any{&t.oid, &t.kind, &t.category, &delimiter, &t.base, &t.element, &t.labels}, func() error {
				one := t
				one.delimiter, one.labels = byte(delimiter), slices.Clone(t.labels)
				if one.oid < firstUserOID {
					builtIn.Store(one.oid, &one)
				}
				take(&one)
				return nil
			})
			if err != nil {
				return nil, fmt.Errorf("looking up types: %w", err)
			}
		}
		oids = next
	}
	return known, nil
}

// below is a type without the domains over it; nil where it is not there any more.
func below(types map[uint32]*typeRow, oid uint32) *typeRow {
	t := types[oid]
	for t != nil && t.base != 0 {
		t = types[t.base]
	}
	return t
}

// typed gives an attribute its types; false where they are not there any more, as the
// table then is not.
func (a *attribute) typed(types map[uint32]*typeRow) bool {
	t := below(types, a.typeOID)
	if t == nil {
		return false
	}
	a.base, a.element = t.typeInfo, nil
	if t.element != 0 {
		item := below(types, t.element)
		if item == nil {
			return false
		}
		a.element = &item.typeInfo
	}
	return true
}
