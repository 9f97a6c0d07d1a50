// Package moving says what a MariaDB database has besides rows, and how its writers are kept
// out while a system is moved elsewhere.
package moving

import (
	"context"
	"fmt"
	"math"
	"strconv"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/wire"
	"rillmark/internal/move"
)

// Writers are the scripts for a server: it has no such switch for one database.
func Writers() move.Writers {
	return move.Writers{Stop: []string{"SET GLOBAL read_only = ON;\n"}, Allow: []string{"SET GLOBAL read_only = OFF;\n"},
		Note: "The server takes no changes in any of its databases, but from users with READ_ONLY ADMIN."}
}

// Inventory reads what the server has besides the rows of some tables, named as events name
// them.
func Inventory(ctx context.Context, c *session.Config, tables []string) (*move.Inventory, error) {
	conn, err := c.Connect(ctx, "inventory")
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	found := &move.Inventory{Counters: []move.Counter{}, Objects: []move.Objects{}}
	var pairs []string
	databases := make(map[string]bool)
	for _, name := range tables {
		if database, table, ok := change.SplitTable(name); ok {
			pairs = append(pairs, "("+wire.Text(database)+", "+wire.Text(table)+")")
			databases[wire.Text(database)] = true
		}
	}
	if len(pairs) == 0 {
		return found, nil
	}
	ours := " IN (" + strings.Join(pairs, ", ") + ")"
	var in []string
	for name := range databases {
		in = append(in, name)
	}
	within := " IN (" + strings.Join(in, ", ") + ")"
	rows, err := conn.All(ctx, 4, `SELECT t.TABLE_SCHEMA, t.TABLE_NAME, c.COLUMN_NAME, t.AUTO_INCREMENT FROM information_schema.TABLES t
		JOIN information_schema.COLUMNS c ON c.TABLE_SCHEMA = t.TABLE_SCHEMA AND c.TABLE_NAME = t.TABLE_NAME AND c.EXTRA LIKE '%auto_increment%'
		WHERE t.AUTO_INCREMENT IS NOT NULL AND (t.TABLE_SCHEMA, t.TABLE_NAME)`+ours+" ORDER BY 1, 2")
	if err != nil {
		return nil, c.Explain(err)
	}
	for _, row := range rows {
		next, err := strconv.ParseUint(row[3], 10, 64)
		if err != nil || next > math.MaxInt64 {
			continue // there is none left to hand out
		}
		found.Counters = append(found.Counters, move.Counter{Table: change.TableName(row[0], row[1]), Column: row[2], Next: int64(next)})
	}
	for _, one := range []struct{ kind, query string }{
		{"view", "SELECT concat(TABLE_SCHEMA, '.', TABLE_NAME) FROM information_schema.VIEWS WHERE TABLE_SCHEMA" + within},
		{"sequence", "SELECT concat(TABLE_SCHEMA, '.', TABLE_NAME) FROM information_schema.TABLES WHERE TABLE_TYPE = 'SEQUENCE' AND TABLE_SCHEMA" + within},
		{"trigger", "SELECT concat(EVENT_OBJECT_SCHEMA, '.', EVENT_OBJECT_TABLE, ' ', TRIGGER_NAME) FROM information_schema.TRIGGERS WHERE (EVENT_OBJECT_SCHEMA, EVENT_OBJECT_TABLE)" + ours},
		{"routine", "SELECT concat(ROUTINE_SCHEMA, '.', ROUTINE_NAME) FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA" + within},
		{"event", "SELECT concat(EVENT_SCHEMA, '.', EVENT_NAME) FROM information_schema.EVENTS WHERE EVENT_SCHEMA" + within},
		{"index", "SELECT DISTINCT concat(TABLE_SCHEMA, '.', TABLE_NAME, ' ', INDEX_NAME) FROM information_schema.STATISTICS WHERE INDEX_NAME <> 'PRIMARY' AND (TABLE_SCHEMA, TABLE_NAME)" + ours},
		{"foreign key", "SELECT concat(CONSTRAINT_SCHEMA, '.', TABLE_NAME, ' ', CONSTRAINT_NAME) FROM information_schema.REFERENTIAL_CONSTRAINTS WHERE (CONSTRAINT_SCHEMA, TABLE_NAME)" + ours},
		{"default", "SELECT concat(TABLE_SCHEMA, '.', TABLE_NAME, '.', COLUMN_NAME) FROM information_schema.COLUMNS WHERE COLUMN_DEFAULT IS NOT NULL AND COLUMN_DEFAULT <> 'NULL' AND (TABLE_SCHEMA, TABLE_NAME)" + ours},
		{"grant", "SELECT DISTINCT concat(GRANTEE, ' on ', TABLE_SCHEMA, '.', TABLE_NAME) FROM information_schema.TABLE_PRIVILEGES WHERE (TABLE_SCHEMA, TABLE_NAME)" + ours},
		{"grant", "SELECT DISTINCT concat(GRANTEE, ' on ', TABLE_SCHEMA, '.*') FROM information_schema.SCHEMA_PRIVILEGES WHERE TABLE_SCHEMA" + within},
	} {
		rows, err := conn.All(ctx, 1, one.query+" ORDER BY 1")
		if err != nil {
			return nil, c.Explain(err)
		}
		for _, row := range rows {
			found.Add(one.kind, row[0])
		}
	}
	return found, nil
}

// SetCounter sets the counter of a column of a table on this server, which the statement
// makes where there is none. may says that it may be made.
func SetCounter(ctx context.Context, conn *wire.Conn, database, table string, counter move.Counter, may bool) (move.CounterSet, error) {
	set := move.CounterSet{Counter: counter}
	column, err := conn.One(ctx, 2, "SELECT COLUMN_TYPE, EXTRA FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = "+wire.Text(database)+" AND TABLE_NAME = "+wire.Text(table)+" AND COLUMN_NAME = "+wire.Text(counter.Target()))
	if err != nil {
		return set, err
	}
	target := wire.Name(database) + "." + wire.Name(table)
	if len(column) < 2 {
		set.Note = "the table has no such column"
		return set, nil
	}
	if strings.Contains(column[1], "auto_increment") {
		set.Statement = fmt.Sprintf("ALTER TABLE %s AUTO_INCREMENT = %d", target, counter.Next)
	} else {
		set.Statement = fmt.Sprintf("ALTER TABLE %s MODIFY %s %s NOT NULL AUTO_INCREMENT, AUTO_INCREMENT = %d", target, wire.Name(counter.Target()), column[0], counter.Next)
		if !may {
			set.Note = "the outlet's definitions are fixed"
			return set, nil
		}
	}
	if err := conn.Exec(ctx, set.Statement); err != nil {
		set.Note = err.Error()
		return set, nil //nolint:nilerr // it is in the note: the others can be set
	}
	set.Done = true
	return set, nil
}
