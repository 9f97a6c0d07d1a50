// Package catalogue looks tables, columns and types up on a PostgreSQL server, and makes
// of them the layout of a table's rows under its rule: which of a tuple's columns are
// captured, in which order, and how each value is converted.
//
//   - [List] is all tables, [Describe] what is known of some.
//   - [Identity] is which table, and which columns, a name stood for.
//   - [Current] is a table's [Layout] as the catalogue has it now, [Announced] as the
//     stream has it at its place.
package catalogue

import (
	"context"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/canonical"
	"rillmark/internal/postgres/pgoutput"
	"rillmark/internal/postgres/session"
)

// Listed is a table as the list of all tables shows it.
type Listed struct {
	OID           uint32
	schema, table string
	Identity      pgoutput.ReplicaIdentity
	hasPrimary    bool
	hasIndex      bool // a valid index for IdentityIndex
	// Generated names the generated columns of the primary key, or of the identity's index: a
	// key that the log does not bring. Empty where it has none.
	Generated []string
	// RootKeyed says that the table that this one is a partition of can be published with updates:
	// it has a primary key that the log brings, which each partition that comes has with it, and
	// none of those that are there has another identity than that or the whole row.
	RootKeyed   bool
	Persistence string
	Foreign     bool
	// Root is the qualified name of the table that this one is a partition of.
	Root     string
	RootOID  uint32
	Estimate int64
	// Hides says that row-level security hides rows from the login.
	Hides   bool
	Columns []engine.TableColumn
	numbers []int // never change
	// Attached names the transactions that attached the partition to its root. Another text
	// at a later look says that it was detached in between.
	Attached string
	// file, defined, typeOIDs and types are what a [Storage] is of; types are the
	// user-defined ones of all tables.
	file     uint32
	defined  []uint32
	typeOIDs []uint32
	types    map[uint32]*typeRow
	// rootColumns and rootNumbers are those of the table that this one is a partition of.
	rootColumns []string
	rootNumbers []int
	Mine        bool // the login may publish it
	Readable    bool
	Key         []string
}

func (l *Listed) Name() string      { return change.TableName(l.schema, l.table) }
func (l *Listed) Sanitized() string { return pgx.Identifier{l.schema, l.table}.Sanitize() }

// Numbered are the columns with their numbers, those of the root where rows carry its
// name.
func (l *Listed) Numbered(mapped bool) []Column {
	columns := make([]Column, 0, len(l.Columns))
	if mapped {
		for i, name := range l.rootColumns {
			columns = append(columns, Column{Number: l.rootNumbers[i], Name: name})
		}
		return columns
	}
	for i := range l.Columns {
		columns = append(columns, Column{Number: l.numbers[i], Name: l.Columns[i].Name})
	}
	return columns
}

// Updatable reports whether publishing updates and deletes leaves the
// application's statements alone: without a usable identity the server refuses
// them on a published table.
func (l *Listed) Updatable() bool {
	switch l.Identity {
	case pgoutput.IdentityDefault:
		return l.hasPrimary
	case pgoutput.IdentityIndex:
		return l.hasIndex
	default:
		return l.Identity == pgoutput.IdentityFull
	}
}

// Still reports whether the catalogue, as it was asked later, has the table as it was listed: with
// the same columns, defined by the same transactions. Of a table that is captured under its root's
// name, d is the root's.
func (l *Listed) Still(d *Described, mapped bool) bool {
	if d == nil {
		return false
	}
	if mapped {
		return SameSet(l.Numbered(true), d.Numbered(false))
	}
	if len(l.numbers) != len(d.Columns) {
		return false
	}
	for i := range d.Columns {
		if a := &d.Columns[i]; a.number != l.numbers[i] || a.name != l.Columns[i].Name || a.defined != l.defined[i] {
			return false
		}
	}
	return true
}

// LacksKey says why the log brings no key of a table that has one.
func (l *Listed) LacksKey() string {
	return "its key has the generated column " + strings.Join(l.Generated, ", ") + ", which the log does not bring"
}

// List reads all tables of the source but the server's own.
func List(ctx context.Context, q session.Querier) ([]*Listed, error) {
	rows, _ := q.Query(ctx, `SELECT c.oid, n.nspname, c.relname, c.relreplident::text, c.relpersistence::text, c.relkind = 'f',
			coalesce(rn.nspname, ''), coalesce(rc.relname, ''), coalesce(rc.oid, 0),
			greatest(c.reltuples, 0)::bigint, coalesce(c.relrowsecurity AND row_security_active(c.oid), false),
			(SELECT jsonb_agg(jsonb_build_object('name', attname, 'type', format_type(atttypid, atttypmod)) ORDER BY attnum)
				FROM pg_attribute WHERE attrelid = c.oid AND attnum > 0 AND NOT attisdropped AND attgenerated = ''),
			ARRAY(SELECT attnum::int FROM pg_attribute WHERE attrelid = c.oid AND attnum > 0 AND NOT attisdropped AND attgenerated = '' ORDER BY attnum),
			coalesce(CASE WHEN c.relispartition THEN (SELECT string_agg((SELECT i.xmin::text FROM pg_inherits i WHERE i.inhrelid = a.relid), ' ') FROM pg_partition_ancestors(c.oid) AS a (relid)) END, ''),
			c.relfilenode, ARRAY(SELECT xmin::text::bigint FROM pg_attribute WHERE attrelid = c.oid AND attnum > 0 AND NOT attisdropped AND attgenerated = '' ORDER BY attnum),
			ARRAY(SELECT atttypid FROM pg_attribute WHERE attrelid = c.oid AND attnum > 0 AND NOT attisdropped AND attgenerated = '' ORDER BY attnum),
			ARRAY(SELECT attname::text FROM pg_attribute WHERE attrelid = rc.oid AND attnum > 0 AND NOT attisdropped AND attgenerated = '' ORDER BY attnum),
			ARRAY(SELECT attnum::int FROM pg_attribute WHERE attrelid = rc.oid AND attnum > 0 AND NOT attisdropped AND attgenerated = '' ORDER BY attnum),
			coalesce(pg_has_role(c.relowner, 'USAGE'), false), coalesce(has_table_privilege(c.oid, 'SELECT'), false), -- null for one that was just dropped
			p.indrelid IS NOT NULL AND `+BroughtByLog("p")+`,
			EXISTS (SELECT FROM pg_index i WHERE i.indrelid = c.oid AND i.indisreplident AND i.indisvalid AND i.indimmediate AND `+BroughtByLog("i")+`),
			ARRAY(SELECT a.attname::text FROM pg_index i, unnest(i.indkey) WITH ORDINALITY AS k(attnum, place), pg_attribute a
				WHERE i.indexrelid = coalesce(ri.indexrelid, p.indexrelid) AND k.place <= i.indnkeyatts AND a.attrelid = c.oid AND a.attnum = k.attnum AND a.attgenerated <> '' ORDER BY k.place),
			rc.oid IS NOT NULL AND EXISTS (SELECT FROM pg_index i WHERE i.indrelid = rc.oid AND i.indisprimary AND i.indimmediate AND `+BroughtByLog("i")+`),
			coalesce((SELECT array_agg(a.attname::text ORDER BY k.place)
				FROM pg_index i, unnest(i.indkey) WITH ORDINALITY AS k(attnum, place), pg_attribute a
				WHERE i.indexrelid = `+keyIndex+` AND k.place <= i.indnkeyatts
				AND a.attrelid = c.oid AND a.attnum = k.attnum), '{}')
		FROM pg_class c
		JOIN pg_namespace n ON n.oid = c.relnamespace
		LEFT JOIN pg_index p ON p.indrelid = c.oid AND p.indisprimary AND p.indimmediate
		LEFT JOIN pg_index ri ON ri.indrelid = c.oid AND ri.indisreplident AND ri.indisvalid AND c.relreplident = 'i'
		LEFT JOIN pg_class rc ON c.relispartition AND rc.oid = pg_partition_root(c.oid)
		LEFT JOIN pg_namespace rn ON rn.oid = rc.relnamespace
		WHERE c.relkind IN ('r', 'f') AND c.relpersistence <> 't'
			AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'
		ORDER BY 2, 3`)
	all, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (*Listed, error) {
		l := new(Listed)
		var identity, rootSchema, root string
		err := row.Scan(&l.OID, &l.schema, &l.table, &identity, &l.Persistence, &l.Foreign, &rootSchema, &root, &l.RootOID, &l.Estimate, &l.Hides, &l.Columns, &l.numbers, &l.Attached, &l.file, &l.defined, &l.typeOIDs, &l.rootColumns, &l.rootNumbers,
			&l.Mine, &l.Readable, &l.hasPrimary, &l.hasIndex, &l.Generated, &l.RootKeyed, &l.Key)
		if l.RootOID != 0 {
			l.Root = change.TableName(rootSchema, root)
		}
		if err == nil && identity != "" {
			l.Identity = pgoutput.ReplicaIdentity(identity[0])
		}
		return l, err
	})
	if err != nil {
		return nil, err
	}
	other := make(map[uint32]bool) // roots with a partition of another identity
	for _, l := range all {
		if l.RootOID != 0 && (l.Foreign || l.Identity != pgoutput.IdentityDefault && l.Identity != pgoutput.IdentityFull) {
			other[l.RootOID] = true
		}
	}
	for _, l := range all {
		l.RootKeyed = l.RootKeyed && !other[l.RootOID]
	}
	return all, listTypes(ctx, q, all)
}

// listTypes looks up the user-defined types of the columns that were listed. An enum's labels
// show with each column of it, also of arrays and domains of it.
func listTypes(ctx context.Context, q session.Querier, all []*Listed) error {
	var used []uint32
	for _, l := range all {
		for _, oid := range l.typeOIDs {
			if oid >= firstUserOID {
				used = append(used, oid)
			}
		}
	}
	slices.Sort(used)
	types, err := lookUpTypes(ctx, q, slices.Compact(used))
	if err != nil {
		return err
	}
	for _, l := range all {
		l.types = types
		for i := range min(len(l.Columns), len(l.typeOIDs)) {
			if t := below(types, l.typeOIDs[i]); t != nil {
				if t.element != 0 {
					t = below(types, t.element)
				}
				if t != nil {
					l.Columns[i].Labels = t.labels
				}
			}
		}
	}
	return nil
}

// Describe is the list's line as people see it.
func (l *Listed) Describe(c *session.Config) engine.Table {
	name, rule := c.Rules.Target(l.Name(), l.Root)
	t := engine.Table{Name: l.Name(), Captured: rule != nil, Key: l.Key, RowsEstimate: l.Estimate, PartitionOf: l.Root, Columns: l.Columns}
	if rule != nil && name != l.Name() {
		t.CapturedAs = name
	}
	switch l.Identity {
	case pgoutput.IdentityFull:
		t.Identity = "row"
	case pgoutput.IdentityIndex:
		t.Identity = "index"
	case pgoutput.IdentityNothing:
		t.Identity = "nothing"
	default:
		t.Identity = "key"
		if !l.hasPrimary {
			t.Identity = "nothing"
		}
	}
	switch {
	case l.Foreign:
		t.CannotPublish = "the table is foreign: its rows, and the log of their changes, are on another server. Capture it there"
		t.Captured = false
	case l.Persistence == "u":
		t.CannotPublish = "the table is unlogged: its changes are not in the log. ALTER TABLE " + l.Sanitized() + " SET LOGGED"
		t.Captured = false
	case !l.Updatable() && len(l.Generated) > 0:
		t.InsertsOnly = true
		t.Advice = l.LacksKey() + ": only inserts and truncates are captured. ALTER TABLE " + l.Sanitized() + " REPLICA IDENTITY FULL"
	case !l.Updatable():
		t.InsertsOnly = true
		t.Advice = "without a key only inserts and truncates are captured, since the server would refuse the application's updates and deletes. " +
			"Add a primary key, or ALTER TABLE " + l.Sanitized() + " REPLICA IDENTITY FULL"
	case len(l.Key) == 0 && (rule == nil || len(rule.Key) == 0):
		t.Advice = "without a primary key consumers cannot tell two equal rows apart. Add one, or name the columns that tell rows apart as `key` in the table's rule"
	case l.Identity != pgoutput.IdentityFull:
		t.Advice = "updates and deletes carry the old row's key alone. For whole old rows: ALTER TABLE " + l.Sanitized() + " REPLICA IDENTITY FULL"
	}
	return t
}

// attribute is one column as the catalogue has it.
type attribute struct {
	name     string
	typeOID  uint32
	typeMod  int32
	typeName string
	notNull  bool
	keyPlace int
	base     typeInfo
	element  *typeInfo
	// defaulted columns fill the rows that are there when they are added.
	defaulted bool
	// missing is the value of rows that were there when the column was added, in the server's
	// text; nil where the catalogue has none.
	missing *string
	// toasted columns may be stored out of line.
	toasted bool
	// number is the column's, whatever its name (attnum).
	number int
	// defined is the transaction that defined it last.
	defined uint32
	// collation is one that takes different texts for equal; empty for any other.
	collation string
}

// typeInfo is a type below its domains.
type typeInfo struct {
	oid       uint32
	kind      string // pg_type.typtype
	category  string
	delimiter byte
	labels    []string
}

// CollationText is how a row k of pg_collation is known in schema versions: its name may be
// another one elsewhere.
const CollationText = "k.collprovider::text || ' ' || coalesce(to_jsonb(k)->>'colllocale', to_jsonb(k)->>'colliculocale', k.collcollate)"

// BroughtByLog is the condition that the log brings all key columns of an index, whose row of
// pg_index has this name: it has no generated columns (of version 15; docs of CREATE TABLE).
func BroughtByLog(index string) string {
	return "NOT EXISTS (SELECT FROM unnest(" + index + ".indkey) WITH ORDINALITY AS part(attnum, place) JOIN pg_attribute made ON made.attrelid = " + index + ".indrelid AND made.attnum = part.attnum" +
		" WHERE part.place <= " + index + ".indnkeyatts AND made.attgenerated <> '')"
}

// UpdatableSQL is [Listed.Updatable] as a condition on a row of pg_class of this name.
func UpdatableSQL(class string) string {
	return class + ".relreplident = 'f' OR EXISTS (SELECT FROM pg_index i WHERE i.indrelid = " + class + ".oid AND i.indisvalid AND i.indimmediate AND " + BroughtByLog("i") +
		" AND CASE " + class + ".relreplident WHEN 'd' THEN i.indisprimary WHEN 'i' THEN i.indisreplident ELSE false END)"
}

// keyIndex is the index whose columns are the key of a table c: that of the identity, or the
// primary key's; where a whole row is the identity and the primary key has generated columns,
// another unique one of columns that are NOT NULL. Null where the log brings none.
var keyIndex = `(SELECT i.indexrelid FROM pg_index i WHERE i.indrelid = c.oid AND i.indisvalid AND i.indimmediate AND ` + BroughtByLog("i") + `
		AND CASE c.relreplident WHEN 'i' THEN i.indisreplident
			WHEN 'f' THEN i.indisprimary OR i.indisunique AND i.indpred IS NULL AND i.indexprs IS NULL
				AND EXISTS (SELECT FROM pg_index own WHERE own.indrelid = c.oid AND own.indisprimary AND NOT (` + BroughtByLog("own") + `))
				AND NOT EXISTS (SELECT FROM pg_attribute free WHERE free.attrelid = c.oid AND free.attnum = ANY (i.indkey) AND NOT free.attnotnull)
			ELSE i.indisprimary END
		ORDER BY i.indisprimary DESC, i.indexrelid LIMIT 1)`

// attributesSQL reads the columns of tables that the log carries: not the dropped
// ones and not the generated ones. Key places are those of the replica identity's
// index, or of the primary key where the identity is the whole row. The types of the
// columns are looked up apart: joined in, they are scanned as a whole, and a database
// of many tables has two for each.
var attributesSQL = `SELECT c.oid, c.relispartition OR c.relkind = 'p', coalesce(made.xmin::text::bigint, 0), (SELECT pg_snapshot_xmax(pg_current_snapshot())::text::bigint % 4294967296), gone.numbers, gone.dropped, a.attname, a.atttypid, a.atttypmod, format_type(a.atttypid, a.atttypmod), a.attnotnull,
		a.atthasmissing OR a.atthasdef OR a.attidentity <> '', CASE WHEN a.atthasmissing THEN (a.attmissingval::text::text[])[1] END, a.attstorage <> 'p', a.attnum, c.relfilenode, a.xmin::text::bigint,
		CASE WHEN a.attcollation >= 16384 THEN coalesce((SELECT ` + CollationText + `
			FROM pg_collation k WHERE k.oid = a.attcollation AND NOT k.collisdeterministic), '') ELSE '' END,
		coalesce((SELECT k.place FROM unnest(key.indkey) WITH ORDINALITY AS k(attnum, place) WHERE k.attnum = a.attnum AND k.place <= key.indnkeyatts), 0)
	FROM pg_class c
	LEFT JOIN LATERAL (SELECT i.indkey, i.indnkeyatts FROM pg_index i WHERE i.indexrelid = ` + keyIndex + `) AS key ON true
	LEFT JOIN LATERAL (SELECT array_agg(g.attnum::int) AS numbers, array_agg(g.xmin::text::bigint) AS dropped FROM pg_attribute g WHERE g.attrelid = c.oid AND g.attisdropped) AS gone ON true
	LEFT JOIN pg_attribute made ON made.attrelid = c.oid AND made.attnum = -1
	JOIN pg_attribute a ON a.attrelid = c.oid
	WHERE c.oid = ANY($1::oid[]) AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''
	ORDER BY c.oid, a.attnum`

// tableRow is what attributesSQL says of a table: made is the transaction that made it, next
// the number of the next transaction, and rooted whether it is a partition or has some.
type tableRow struct {
	oid, file, made, next uint32
	dropped               []Dropped
	rooted                bool
}

// eachAttribute reads what attributesSQL asks for; the types of what it gives on are
// still to be looked up.
func eachAttribute(rows pgx.Rows, each func(t tableRow, a attribute)) error {
	var t tableRow
	var numbers []int
	var by []uint32
	var a attribute
	_, err := pgx.ForEachRow(rows, []any{&t.oid, &t.rooted, &t.made, &t.next, &numbers, &by, &a.name, &a.typeOID, &a.typeMod, &a.typeName, &a.notNull, &a.defaulted, &a.missing, &a.toasted, &a.number, &t.file, &a.defined, &a.collation, &a.keyPlace}, func() error {
		t.dropped = make([]Dropped, len(numbers))
		for i := range numbers {
			t.dropped[i] = Dropped{numbers[i], by[i]}
		}
		each(t, a)
		return nil
	})
	return err
}

// The object ids of built-in types (src/include/catalog/pg_type.dat).
const (
	OIDBool, OIDBytea, OIDChar, OIDName, OIDInt8, OIDInt2, OIDInt4, OIDText            = 16, 17, 18, 19, 20, 21, 23, 25
	OIDOID, OIDJSON, OIDFloat4, OIDFloat8, OIDBpchar, OIDVarchar                       = 26, 114, 700, 701, 1042, 1043
	OIDDate, OIDTime, OIDTimestamp, OIDTimestampTZ, OIDInterval, OIDTimeTZ, OIDNumeric = 1082, 1083, 1114, 1184, 1186, 1266, 1700
	OIDUUID, OIDJSONB, OIDXID, OIDCID                                                  = 2950, 3802, 28, 29
)

// firstUserOID is where object ids begin that are not built in (FirstNormalObjectId).
const firstUserOID = 16384

// rule is how values of a type are written, the width of its numbers, and how
// the server's text becomes canonical.
func (t *typeInfo) rule() (rule change.Rule, bits int, convert canonical.Converter) {
	switch t.oid {
	case OIDBool:
		return change.RuleBoolean, 0, canonical.Boolean
	case OIDInt2:
		return change.RuleInteger, 16, nil
	case OIDInt4:
		return change.RuleInteger, 32, nil
	case OIDInt8, OIDOID, OIDXID, OIDCID:
		return change.RuleInteger, 64, nil
	case OIDFloat4:
		return change.RuleFloat, 32, nil
	case OIDFloat8:
		return change.RuleFloat, 64, nil
	case OIDNumeric:
		return change.RuleDecimal, 0, nil
	case OIDText, OIDVarchar, OIDBpchar, OIDName, OIDChar:
		return change.RuleText, 0, nil
	case OIDUUID:
		return change.RuleUUID, 0, nil
	case OIDDate:
		return change.RuleDate, 0, nil
	case OIDTime:
		return change.RuleTime, 0, canonical.Time
	case OIDTimeTZ:
		return change.RuleTimeTZ, 0, canonical.TimeTZ
	case OIDTimestamp:
		return change.RuleTimestamp, 0, canonical.Timestamp
	case OIDTimestampTZ:
		return change.RuleTimestampTZ, 0, canonical.TimestampTZ
	case OIDInterval:
		return change.RuleDuration, 0, nil
	case OIDBytea:
		return change.RuleBinary, 0, canonical.Bytea
	case OIDJSON:
		return change.RuleJSON, 0, canonical.JSON
	case OIDJSONB:
		return change.RuleJSON, 0, nil
	}
	switch {
	case t.kind == "e":
		return change.RuleEnum, 0, nil
	case t.category == "S" && t.oid >= firstUserOID:
		return change.RuleText, 0, nil // a text of an extension, such as citext
	}
	return change.RuleEngineText, 0, nil
}

// column puts an attribute's schema and converter together.
func (a *attribute) column() (change.Column, canonical.Converter) {
	c := change.Column{Name: a.name, Type: a.typeName, Nullable: !a.notNull, Key: a.keyPlace, Collation: a.collation}
	var convert canonical.Converter
	if a.element != nil {
		c.Rule = change.RuleArray
		var elementConvert canonical.Converter
		c.Element, c.Bits, elementConvert = a.element.rule()
		if len(a.element.labels) > 0 {
			c.Labels = a.element.labels
		}
		return c, canonical.Array(c.Element, elementConvert, a.element.delimiter)
	}
	c.Rule, c.Bits, convert = a.base.rule()
	if len(a.base.labels) > 0 {
		c.Labels = a.base.labels
	}
	return c, convert
}

// Publication is which of the two a table belongs in, by place.
func (l *Listed) Publication() (in, out int) {
	if !l.Updatable() {
		return 1, 0
	}
	return 0, 1
}
