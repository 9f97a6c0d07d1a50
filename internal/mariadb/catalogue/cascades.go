package catalogue

import (
	"context"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/mariadb/wire"
)

// Cascade is a foreign key by which the server changes rows of one table with those of
// another: it logs no such change.
type Cascade struct {
	Name          string
	Parent, Child string // names in events
	// OnDelete and OnUpdate are set where a delete of a parent's row, or a change of its
	// key, changes rows of the child.
	OnDelete, OnUpdate bool
	words              string
}

// Words is what the foreign key says.
func (c *Cascade) Words() string { return c.words }

// Cascades are those that the login sees: it needs the right REFERENCES, or another beside
// SELECT, on the child.
func (r *Reader) Cascades(ctx context.Context) ([]Cascade, error) { return r.cascades(ctx, "") }

// CascadesOf are those of one table.
func (r *Reader) CascadesOf(ctx context.Context, database, table string) ([]Cascade, error) {
	return r.cascades(ctx, " WHERE constraint_schema = "+wire.Text(database)+" AND table_name = "+wire.Text(table))
}

func (r *Reader) cascades(ctx context.Context, where string) ([]Cascade, error) {
	rows, err := r.Conn.All(ctx, 7, "SELECT constraint_name, unique_constraint_schema, referenced_table_name, constraint_schema, table_name, delete_rule, update_rule FROM information_schema.referential_constraints"+where)
	if err != nil {
		return nil, err
	}
	changes := func(rule string) bool { return rule == "CASCADE" || strings.HasPrefix(rule, "SET") }
	var all []Cascade
	for _, row := range rows {
		c := Cascade{Name: row[0], Parent: change.TableName(row[1], row[2]), Child: change.TableName(row[3], row[4]), OnDelete: changes(row[5]), OnUpdate: changes(row[6])}
		var words []string
		if c.OnDelete {
			words = append(words, "ON DELETE "+row[5])
		}
		if c.OnUpdate {
			words = append(words, "ON UPDATE "+row[6])
		}
		if c.words = strings.Join(words, " "); c.words != "" {
			all = append(all, c)
		}
	}
	return all, nil
}
