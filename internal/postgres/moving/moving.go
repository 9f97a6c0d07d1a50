// Package moving says what a PostgreSQL database has besides rows, and how its writers are
// kept out while a system is moved elsewhere.
package moving

import (
	"context"
	"fmt"
	"math"
	"strings"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
	"rillmark/internal/move"
	"rillmark/internal/postgres/session"
)

// Writers are the scripts for a database. Sessions of Rillmark's own stay.
func Writers(c *session.Config) move.Writers {
	name := session.Quoted(c.Connection.Database)
	// A session keeps what held when it began.
	const anew = "SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()\n" +
		"  AND backend_type = 'client backend' AND application_name NOT LIKE 'rillmark %';\n"
	return move.Writers{
		Stop:  []string{"ALTER DATABASE " + name + " SET default_transaction_read_only = on;\n", anew},
		Allow: []string{"ALTER DATABASE " + name + " RESET default_transaction_read_only;\n", anew},
		Note:  "Sessions of the database end, and new ones cannot write unless they say otherwise themselves.",
	}
}

// counters are the sequences that hand out numbers for columns of tables; the last value of
// one that the login may not read is not known.
const counters = `SELECT n.nspname, c.relname, a.attname, s.seqincrement, s.seqstart,
		CASE WHEN has_sequence_privilege(s.seqrelid, 'USAGE, SELECT') THEN pg_sequence_last_value(s.seqrelid) END
	FROM pg_sequence s
	JOIN pg_depend d ON d.classid = 'pg_class'::regclass AND d.objid = s.seqrelid AND d.objsubid = 0 AND d.refclassid = 'pg_class'::regclass AND d.refobjsubid > 0 AND d.deptype IN ('a', 'i')
	JOIN pg_class c ON c.oid = d.refobjid JOIN pg_namespace n ON n.oid = c.relnamespace
	JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = d.refobjsubid
	ORDER BY 1, 2, 3`

// objects are what rows do not carry, by kind and name.
const objects = `WITH own AS (SELECT oid, nspname FROM pg_namespace WHERE nspname NOT IN ('pg_catalog', 'information_schema', 'rillmark') AND nspname NOT LIKE 'pg\_%'),
	foreignOwned AS (SELECT classid, objid FROM pg_depend WHERE deptype = 'e')
	SELECT kind, name FROM (
		SELECT CASE c.relkind WHEN 'v' THEN 'view' WHEN 'm' THEN 'materialized view' WHEN 'f' THEN 'foreign table' ELSE 'sequence of no column' END AS kind, own.nspname || '.' || c.relname AS name
			FROM pg_class c JOIN own ON own.oid = c.relnamespace
			WHERE (c.relkind IN ('v', 'm', 'f') OR c.relkind = 'S' AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.deptype IN ('a', 'i')))
			AND NOT EXISTS (SELECT FROM foreignOwned e WHERE e.classid = 'pg_class'::regclass AND e.objid = c.oid)
		UNION ALL SELECT CASE p.prokind WHEN 'p' THEN 'procedure' ELSE 'function' END, own.nspname || '.' || p.proname FROM pg_proc p JOIN own ON own.oid = p.pronamespace
			WHERE NOT EXISTS (SELECT FROM foreignOwned e WHERE e.classid = 'pg_proc'::regclass AND e.objid = p.oid)
		UNION ALL SELECT 'trigger', own.nspname || '.' || c.relname || ' ' || t.tgname FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN own ON own.oid = c.relnamespace
			WHERE NOT t.tgisinternal AND t.tgname NOT LIKE 'rillmark%' AND own.nspname || '.' || c.relname = ANY ($1)
		UNION ALL SELECT CASE k.contype WHEN 'f' THEN 'foreign key' WHEN 'c' THEN 'check' WHEN 'x' THEN 'exclusion' ELSE 'unique constraint' END, own.nspname || '.' || c.relname || ' ' || k.conname
			FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid JOIN own ON own.oid = c.relnamespace WHERE k.contype IN ('f', 'c', 'x', 'u') AND k.conparentid = 0 AND own.nspname || '.' || c.relname = ANY ($1)
		UNION ALL SELECT 'index', own.nspname || '.' || ic.relname FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid JOIN own ON own.oid = c.relnamespace JOIN pg_class ic ON ic.oid = i.indexrelid
			WHERE own.nspname || '.' || c.relname = ANY ($1) AND NOT EXISTS (SELECT FROM pg_constraint k WHERE k.conindid = i.indexrelid)
		UNION ALL SELECT 'default', own.nspname || '.' || c.relname || '.' || a.attname FROM pg_attrdef f JOIN pg_class c ON c.oid = f.adrelid JOIN own ON own.oid = c.relnamespace
			JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = f.adnum
			WHERE own.nspname || '.' || c.relname = ANY ($1) AND a.attgenerated = '' AND pg_get_expr(f.adbin, f.adrelid) NOT LIKE 'nextval(%'
		UNION ALL SELECT DISTINCT 'grant', CASE g.grantee WHEN 0 THEN 'PUBLIC' ELSE pg_get_userbyid(g.grantee)::text END || ' on ' || own.nspname || '.' || c.relname
			FROM pg_class c JOIN own ON own.oid = c.relnamespace CROSS JOIN LATERAL aclexplode(c.relacl) g WHERE own.nspname || '.' || c.relname = ANY ($1) AND g.grantee <> c.relowner
	) q WHERE name IS NOT NULL ORDER BY 1, 2`

// Inventory reads what the database has besides the rows of some tables, named as events name
// them.
func Inventory(ctx context.Context, c *session.Config, tables []string) (*move.Inventory, error) {
	conn, err := c.Connect(ctx, "inventory")
	if err != nil {
		return nil, c.ExplainAt(session.Connecting, err)
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	wanted := make(map[string]bool)
	var plain []string // as the catalogue's queries put names together
	for _, name := range tables {
		wanted[name] = true
		if schema, table, ok := change.SplitTable(name); ok {
			plain = append(plain, schema+"."+table)
		}
	}
	found := &move.Inventory{Counters: []move.Counter{}, Objects: []move.Objects{}}
	type sequence struct {
		schema, table, column string
		increment, start      int64
		last                  *int64
	}
	rows, _ := conn.Query(ctx, counters)
	all, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (s sequence, err error) {
		err = row.Scan(&s.schema, &s.table, &s.column, &s.increment, &s.start, &s.last)
		return s, err
	})
	if err != nil {
		return nil, c.Explain(err)
	}
	for _, s := range all {
		table := change.TableName(s.schema, s.table)
		if !wanted[table] {
			continue
		}
		next, err := nextOf(ctx, conn, s.schema, s.table, s.column, s.increment, s.start, s.last)
		if err != nil {
			return nil, c.Explain(err)
		}
		found.Counters = append(found.Counters, move.Counter{Table: table, Column: s.column, Next: next})
	}
	rows, _ = conn.Query(ctx, objects, plain)
	var kind, name string
	_, err = pgx.ForEachRow(rows, []any{&kind, &name}, func() error {
		found.Add(kind, name)
		return nil
	})
	return found, c.Explain(err)
}

// nextOf is the number that comes next: behind the last that was handed out, where that may
// be read, and behind those in the table.
func nextOf(ctx context.Context, conn *pgx.Conn, schema, table, column string, increment, start int64, last *int64) (int64, error) {
	order := "max"
	if increment < 0 {
		order = "min"
	}
	var edge *int64
	sql := fmt.Sprintf("SELECT %s(%s)::bigint FROM %s.%s", order, session.Quoted(column), session.Quoted(schema), session.Quoted(table))
	if err := conn.QueryRow(ctx, sql).Scan(&edge); err != nil {
		return 0, err
	}
	next := start
	for _, one := range []*int64{last, edge} {
		switch {
		case one == nil:
		case increment > 0 && *one >= next && *one <= math.MaxInt64-increment, increment < 0 && *one <= next && *one >= math.MinInt64-increment:
			next = *one + increment
		}
	}
	return next, nil
}

// SetCounter sets the counter of a column of a table in this database, which the statement
// makes where there is none. may says that it may be made.
func SetCounter(ctx context.Context, conn *pgx.Conn, schema, table string, counter move.Counter, may bool) (move.CounterSet, error) {
	set := move.CounterSet{Counter: counter}
	target := session.Quoted(schema) + "." + session.Quoted(table)
	var sequence *string
	if err := conn.QueryRow(ctx, "SELECT pg_get_serial_sequence($1, $2)", target, counter.Target()).Scan(&sequence); err != nil {
		return set, err
	}
	if sequence != nil {
		set.Statement = fmt.Sprintf("SELECT setval(%s, %d, false)", session.Literal(*sequence), counter.Next)
	} else {
		set.Statement = fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s ADD GENERATED BY DEFAULT AS IDENTITY (START WITH %d)", target, session.Quoted(counter.Target()), counter.Next)
		if !may {
			set.Note = "the outlet's definitions are fixed"
			return set, nil
		}
	}
	if _, err := conn.Exec(ctx, set.Statement); err != nil {
		set.Note = strings.TrimPrefix(err.Error(), "ERROR: ")
		return set, nil //nolint:nilerr // it is in the note: the others can be set
	}
	set.Done = true
	return set, nil
}
