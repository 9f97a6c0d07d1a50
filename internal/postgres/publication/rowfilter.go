package publication

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/expression"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/pgoutput"
	"rillmark/internal/postgres/session"
)

// Where a rule's filter compares columns of the replica identity with constants,
// the publication asks that part of it, so that other rows are never sent. The
// rest of the filter, and all of it once more, is ours to ask: what the server
// leaves out must only never be more than what the filter leaves out. A filter on
// any other column would make the application's updates fail.

// membership is a table's place in a publication: its row filter as the
// server writes it, empty without one.
type membership struct{ filter string }

// membersOf lists a publication's own tables. Row filters came with version 15.
func membersOf(ctx context.Context, q session.Querier, publication string) (map[string]membership, error) {
	var version int
	if err := q.QueryRow(ctx, "SELECT current_setting('server_version_num')::integer").Scan(&version); err != nil {
		return nil, err
	}
	filter := "''"
	if version >= 150000 {
		filter = "coalesce(pg_get_expr(r.prqual, r.prrelid), '')"
	}
	rows, _ := q.Query(ctx, "SELECT n.nspname, c.relname, "+filter+` FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid
		JOIN pg_class c ON c.oid = r.prrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE p.pubname = $1`, publication)
	members := make(map[string]membership)
	var schema, table string
	var one membership
	_, err := pgx.ForEachRow(rows, []any{&schema, &table, &one.filter}, func() error {
		members[change.TableName(schema, table)] = one
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("listing what is published: %w", err)
	}
	return members, nil
}

// RowFilter is what the publication asks of a table's rows; empty for nothing.
// The server writes a filter in its own way, so that ours carries a mark by which
// it is known again.
func RowFilter(c *session.Config, l *catalogue.Listed) (sql, mark string) {
	_, rule := c.Rules.Target(l.Name(), l.Root)
	if rule == nil || rule.Filter == nil || !l.Updatable() {
		return "", ""
	}
	var parts []string
	for _, one := range rule.Filter.Comparisons() {
		at := slices.IndexFunc(l.Columns, func(column engine.TableColumn) bool { return column.Name == one.Column })
		if at < 0 || l.Identity != pgoutput.IdentityFull && !slices.Contains(l.Key, one.Column) {
			continue
		}
		if part := serverComparison(l.Columns[at].Type, &one); part != "" {
			parts = append(parts, part)
		}
	}
	if len(parts) == 0 {
		return "", ""
	}
	sql = strings.Join(parts, " AND ")
	sum := sha256.Sum256([]byte(sql))
	mark = "rillmark " + hex.EncodeToString(sum[:6])
	return sql + " AND " + session.Literal(mark) + " <> ''", mark
}

// serverComparison is a comparison in SQL, where it lets through at least what it
// lets through in a condition: a text may be equal to more in a collation, and
// sorts otherwise.
func serverComparison(kind string, c *expression.Comparison) string {
	values := make([]string, len(c.Values))
	for i, v := range c.Values {
		switch v := v.(type) {
		case int64:
			if kind != "smallint" && kind != "integer" && kind != "bigint" {
				return ""
			}
			values[i] = fmt.Sprintf("(%d)", v)
		case bool:
			if kind != "boolean" || c.Operator != "==" {
				return ""
			}
			values[i] = fmt.Sprint(v)
		case string:
			if kind != "text" && !strings.HasPrefix(kind, "character varying") || c.Operator != "==" && c.Operator != "in" || strings.Contains(v, `\`) {
				return ""
			}
			values[i] = session.Literal(v)
		}
	}
	switch c.Operator {
	case "in":
		return session.Quoted(c.Column) + " IN (" + strings.Join(values, ", ") + ")"
	case "==":
		return session.Quoted(c.Column) + " = " + values[0]
	case "!=":
		return session.Quoted(c.Column) + " <> " + values[0]
	}
	return session.Quoted(c.Column) + " " + c.Operator + " " + values[0]
}

// MayUseFunction reports whether the function is there and the login may call it.
func MayUseFunction(ctx context.Context, c *session.Config, q session.Querier) (may bool, err error) {
	err = q.QueryRow(ctx, "SELECT coalesce(has_schema_privilege(n.oid, 'USAGE') AND has_function_privilege(p.oid, 'EXECUTE'), false) "+
		"FROM (SELECT) one LEFT JOIN pg_namespace n ON n.nspname = 'rillmark' LEFT JOIN pg_proc p ON p.pronamespace = n.oid AND p.proname = $1", "publish_"+c.Source).Scan(&may)
	return may, err
}

// FunctionIsOf says whether the administrator's function has the rules of now: it
// refuses tables that only later rules choose.
func FunctionIsOf(ctx context.Context, c *session.Config, q session.Querier) (is bool, err error) {
	err = q.QueryRow(ctx, "SELECT coalesce(bool_or(strpos(p.prosrc, $2) > 0), false) FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE n.nspname = 'rillmark' AND p.proname = $1",
		"publish_"+c.Source, CandidateSQL(c)).Scan(&is)
	return is, err
}

// CandidateSQL is what the rules choose as an SQL condition on pg_class c and
// pg_namespace n: tables that hold rows, and the roots of partitions that carry their name.
func CandidateSQL(c *session.Config) string {
	return "c.relpersistence = 'p' AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND (c.relkind = 'r' AND (" + ChosenSQL(c, NameSQL("n.nspname", "c.relname")) + ")" +
		" OR c.relkind = 'r' AND c.relispartition AND EXISTS (SELECT FROM pg_class top JOIN pg_namespace near ON near.oid = top.relnamespace WHERE top.oid = pg_partition_root(c.oid) AND " + mappedSQL(c, NameSQL("near.nspname", "top.relname")) + ")" +
		" OR c.relkind = 'p' AND NOT c.relispartition AND " + wholeSQL(c, NameSQL("n.nspname", "c.relname")) + ")"
}

// mappedSQL is the condition that rows of a root's partitions carry its name.
func mappedSQL(c *session.Config, name string) string {
	return casesSQL(c, name, func(rule *rules.Table) bool { return rule.Active && rule.Root })
}

// wholeSQL is the condition that a root is chosen and not filtered: see rootsOf.
func wholeSQL(c *session.Config, name string) string {
	return casesSQL(c, name, func(rule *rules.Table) bool { return rule.Active && rule.Filter == nil })
}

// NameSQL is a table's name in events as an SQL expression; see [change.TableName].
func NameSQL(schema, table string) string {
	part := func(name string) string {
		return "CASE WHEN " + name + `::text ~ '[."\x01-\x1f]' OR ` + name + "::text = '' THEN to_json(" + name + "::text)::text ELSE " + name + "::text END"
	}
	return "((" + part(schema) + ") || '.' || (" + part(table) + "))"
}

// ChosenSQL is the table rules as an SQL condition on a qualified name.
func ChosenSQL(c *session.Config, name string) string {
	return casesSQL(c, name, func(rule *rules.Table) bool { return rule.Active })
}

// casesSQL is what the first rule that matches a name says.
func casesSQL(c *session.Config, name string, says func(*rules.Table) bool) string {
	var b strings.Builder
	b.WriteString("CASE")
	for i := range c.Rules {
		fmt.Fprintf(&b, " WHEN %s ~ %s THEN %t", name, session.Literal(c.Rules[i].Match.Expression()), says(&c.Rules[i]))
	}
	b.WriteString(" ELSE false END")
	return b.String()
}
