package postgres

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/pgoutput"
	"rillmark/internal/shape"
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
func membersOf(ctx context.Context, q querier, publication string) (map[string]membership, error) {
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

// rowFilter is what the publication asks of a table's rows; empty for nothing.
// The server writes a filter in its own way, so that ours carries a mark by which
// it is known again.
func (c *Config) rowFilter(l *listed) (sql, mark string) {
	_, rule := c.Rules.Target(l.name(), l.root)
	if rule == nil || rule.Filter == nil || !l.updatable() {
		return "", ""
	}
	var parts []string
	for _, one := range rule.Filter.Comparisons() {
		at := slices.IndexFunc(l.columns, func(column engine.TableColumn) bool { return column.Name == one.Column })
		if at < 0 || l.identity != pgoutput.IdentityFull && !slices.Contains(l.key, one.Column) {
			continue
		}
		if part := serverComparison(l.columns[at].Type, &one); part != "" {
			parts = append(parts, part)
		}
	}
	if len(parts) == 0 {
		return "", ""
	}
	sql = strings.Join(parts, " AND ")
	sum := sha256.Sum256([]byte(sql))
	mark = "rillmark " + hex.EncodeToString(sum[:6])
	return sql + " AND " + literal(mark) + " <> ''", mark
}

// serverComparison is a comparison in SQL, where it lets through at least what it
// lets through in a condition: a text may be equal to more in a collation, and
// sorts otherwise.
func serverComparison(kind string, c *shape.Comparison) string {
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
			values[i] = literal(v)
		}
	}
	switch c.Operator {
	case "in":
		return quoted(c.Column) + " IN (" + strings.Join(values, ", ") + ")"
	case "==":
		return quoted(c.Column) + " = " + values[0]
	case "!=":
		return quoted(c.Column) + " <> " + values[0]
	}
	return quoted(c.Column) + " " + c.Operator + " " + values[0]
}

// publishFunction is the administrator's function that lets the login publish
// what the source's rules choose, though it does not own it.
func (c *Config) publishFunction() string { return "rillmark." + quoted("publish_"+c.Source) }

// mayUseFunction reports whether the function is there and the login may call it.
func (c *Config) mayUseFunction(ctx context.Context, q querier) (may bool, err error) {
	err = q.QueryRow(ctx, "SELECT coalesce(has_schema_privilege(n.oid, 'USAGE') AND has_function_privilege(p.oid, 'EXECUTE'), false) "+
		"FROM (SELECT) one LEFT JOIN pg_namespace n ON n.nspname = 'rillmark' LEFT JOIN pg_proc p ON p.pronamespace = n.oid AND p.proname = $1", "publish_"+c.Source).Scan(&may)
	return may, err
}

// functionIsOf says whether the administrator's function has the rules of now: it
// refuses tables that only later rules choose.
func (c *Config) functionIsOf(ctx context.Context, q querier) (is bool, err error) {
	err = q.QueryRow(ctx, "SELECT coalesce(bool_or(strpos(p.prosrc, $2) > 0), false) FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE n.nspname = 'rillmark' AND p.proname = $1",
		"publish_"+c.Source, c.candidateSQL()).Scan(&is)
	return is, err
}
