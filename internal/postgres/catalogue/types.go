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
	// parts are the types of a composite type's attributes, and a range's.
	parts []uint32
	// text is what the text of its values depends on; nil for a type that is always
	// written alike.
	text *TypeText
}

// within are the types that a type is made of.
func (t *typeRow) within() []uint32 {
	return append([]uint32{t.base, t.element}, t.parts...)
}

// eachWithin goes through a type and all that it is made of, each once.
func eachWithin(types map[uint32]*typeRow, oid uint32, do func(*typeRow)) {
	seen := make(map[uint32]bool)
	var visit func(oid uint32)
	visit = func(oid uint32) {
		t := types[oid]
		if t == nil || seen[oid] {
			return
		}
		seen[oid] = true
		do(t)
		for _, part := range t.within() {
			visit(part)
		}
	}
	visit(oid)
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
			for _, oid := range t.within() {
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
					CASE WHEN typtype = 'e' THEN (SELECT array_agg(enumlabel::text ORDER BY enumsortorder) FROM pg_enum WHERE enumtypid = pg_type.oid) END,
					CASE WHEN typtype = 'e' THEN (SELECT array_agg(oid ORDER BY enumsortorder) FROM pg_enum WHERE enumtypid = pg_type.oid) END,
					CASE typtype WHEN 'c' THEN (SELECT array_agg(atttypid ORDER BY attnum) FROM pg_attribute WHERE attrelid = typrelid AND attnum > 0 AND NOT attisdropped)
						WHEN 'r' THEN (SELECT array_agg(rngsubtype) FROM pg_range WHERE rngtypid = pg_type.oid)
						WHEN 'm' THEN (SELECT array_agg(rngtypid) FROM pg_range WHERE rngmultitypid = pg_type.oid) END,
					CASE WHEN typtype = 'c' THEN (SELECT array_agg(attnum::int ORDER BY attnum) FROM pg_attribute WHERE attrelid = typrelid AND attnum > 0 AND NOT attisdropped) END
				FROM pg_type WHERE oid = ANY($1::oid[])`, pgx.QueryExecModeCacheStatement, ask)
			var t typeRow
			var delimiter int
			var labels, parts []uint32
			var attributes []int32
			_, err := pgx.ForEachRow(rows, []any{&t.oid, &t.kind, &t.category, &delimiter, &t.base, &t.element, &t.labels, &labels, &parts, &attributes}, func() error {
				one := t
				one.delimiter, one.labels, one.parts = byte(delimiter), slices.Clone(t.labels), slices.Clone(parts)
				if len(labels)+len(attributes) > 0 && one.oid >= firstUserOID {
					one.text = &TypeText{Attributes: slices.Clone(attributes)}
					for i, number := range labels {
						if one.text.Labels == nil {
							one.text.Labels = make(map[uint32]string, len(labels))
						}
						one.text.Labels[number] = one.labels[i]
					}
				}
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
