package postgresql

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/catalogue"
)

// Quote implements [sql.Dialect].
func (d *database) Quote(name string) string { return quoted(name) }

// Literal implements [sql.Dialect].
func (d *database) Literal(text string) string { return literal(text) }

// Constant implements [sql.Dialect].
func (d *database) Constant(c *sql.Column, text []byte) string {
	return literal(string(text)) + "::" + c.Kind
}

const timeFormat = "2006-01-02T15:04:05.999999Z07:00"

// AppendTime implements [sql.Dialect].
func (d *database) AppendTime(dst []byte, t time.Time) []byte {
	return t.UTC().AppendFormat(dst, timeFormat)
}

// Infinity implements [sql.Dialect].
func (d *database) Infinity() string { return "infinity" }

// longestName is how many bytes a name can have.
const longestName = 63

// LongestName implements [sql.Dialect].
func (d *database) LongestName() int { return longestName }

// TransactionalDefinitions implements [sql.Dialect].
func (d *database) TransactionalDefinitions() bool { return true }

// Own implements [sql.Dialect].
func (d *database) Own(k sql.Keep) []*sql.Column {
	switch k {
	case sql.Flagged:
		return []*sql.Column{{Name: sql.Deleted, Kind: "boolean", NotNull: true}, {Name: sql.Offset, Kind: "bigint"}, {Name: sql.ChangedAt, Kind: "timestamp with time zone"}}
	case sql.Versions:
		return []*sql.Column{{Name: sql.Operation, Kind: "text", NotNull: true}, {Name: sql.Offset, Kind: "bigint", NotNull: true}, {Name: sql.From, Kind: "timestamp with time zone", NotNull: true},
			{Name: sql.Until, Kind: "timestamp with time zone", NotNull: true}, {Name: sql.UntilOffset, Kind: "bigint"}}
	case sql.Current:
	}
	return nil
}

func definition(c *sql.Column) string {
	text := quoted(c.Name) + " " + c.Kind
	if c.NotNull {
		text += " NOT NULL"
	}
	if c.Name == sql.Deleted {
		text += " DEFAULT false"
	}
	return text
}

// Create implements [sql.Dialect].
func (d *database) Create(t *sql.Table, key []string) []string {
	var parts []string
	for _, c := range t.Columns {
		parts = append(parts, definition(c))
	}
	if len(key) > 0 {
		parts = append(parts, "PRIMARY KEY ("+strings.Join(key, ", ")+")")
	}
	return []string{"CREATE TABLE " + t.SQL + " (" + strings.Join(parts, ", ") + ")"}
}

// VersionsIndex implements [sql.Dialect].
func (d *database) VersionsIndex(t *sql.Table, key []string) string {
	return "CREATE INDEX ON " + t.SQL + " (" + strings.Join(append(key, quoted(sql.Until), quoted(sql.Offset)), ", ") + ")"
}

// AddColumn implements [sql.Dialect].
func (d *database) AddColumn(t *sql.Table, c *sql.Column) string {
	return "ALTER TABLE " + t.SQL + " ADD COLUMN " + definition(c)
}

// Modify implements [sql.Dialect].
func (d *database) Modify(t *sql.Table, c *sql.Column) string {
	var parts []string
	was := t.Column(c.Name)
	if was == nil || was.Kind != c.Kind {
		parts = append(parts, fmt.Sprintf("ALTER COLUMN %s TYPE %s USING %[1]s::text::%[2]s", quoted(c.Name), c.Kind))
	}
	if was != nil && was.NotNull && !c.NotNull {
		parts = append(parts, fmt.Sprintf("ALTER COLUMN %s DROP NOT NULL", quoted(c.Name)))
	}
	return "ALTER TABLE " + t.SQL + " " + strings.Join(parts, ", ")
}

// Retype implements [sql.Dialect]: by the conversion that an assignment makes, which the source's own
// statement has made as well where it said nothing else, or by way of the text.
func (d *database) Retype(t *sql.Table, c *sql.Column) []string {
	return []string{fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s TYPE %s", t.SQL, quoted(c.Name), c.Kind), d.Modify(t, c)}
}

// Rename implements [sql.Dialect]. Each goes by way of a name that nobody has where names go
// round.
func (d *database) Rename(t *sql.Table, renamed []change.Rename) (statements []string) {
	one := func(from, to string) {
		statements = append(statements, fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO %s", t.SQL, quoted(from), quoted(to)))
	}
	between := func(i int) string { return fmt.Sprintf("_renamed_%d", i) }
	if len(renamed) == 1 {
		one(renamed[0].From, renamed[0].To)
		return statements
	}
	for i, r := range renamed {
		one(r.From, between(i))
	}
	for i, r := range renamed {
		one(between(i), r.To)
	}
	return statements
}

// DropColumn implements [sql.Dialect].
func (d *database) DropColumn(t *sql.Table, name string) string {
	return fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", t.SQL, quoted(name))
}

// Rekey implements [sql.Dialect].
func (d *database) Rekey(t *sql.Table, key []string, missing bool) string {
	var parts []string
	if t.PrimaryName != "" {
		parts = append(parts, "DROP CONSTRAINT "+quoted(t.PrimaryName))
	}
	switch {
	case len(key) > 0 && missing:
		parts = append(parts, "ADD UNIQUE ("+strings.Join(key, ", ")+")")
	case len(key) > 0:
		parts = append(parts, "ADD PRIMARY KEY ("+strings.Join(key, ", ")+")")
	}
	if len(parts) == 0 {
		return ""
	}
	return "ALTER TABLE " + t.SQL + " " + strings.Join(parts, ", ")
}

// Look implements [sql.Definer].
func (d *database) Look(ctx context.Context, t *sql.Table) error {
	var oid uint32
	var kind string
	err := d.conn.QueryRow(ctx, "SELECT c.oid, c.relkind::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2", t.Schema, t.Name).Scan(&oid, &kind)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	if kind != "r" && kind != "p" {
		t.NotTable = true
		return nil
	}
	rows, _ := d.conn.Query(ctx, `SELECT attname, format_type(atttypid, atttypmod), attnotnull, attgenerated <> '', attidentity <> '' OR atthasdef,
			coalesce((SELECT `+catalogue.CollationText+` FROM pg_collation k WHERE k.oid = attcollation AND NOT k.collisdeterministic), '')
		FROM pg_attribute WHERE attrelid = $1 AND attnum > 0 AND NOT attisdropped ORDER BY attnum`, oid)
	var c sql.Column
	if _, err := pgx.ForEachRow(rows, []any{&c.Name, &c.Kind, &c.NotNull, &c.Generated, &c.Defaulted, &c.Rest}, func() error {
		one := c
		t.Columns = append(t.Columns, &one)
		return nil
	}); err != nil {
		return err
	}
	rows, _ = d.conn.Query(ctx, `SELECT (SELECT array_agg(a.attname::text) FROM unnest((i.indkey::int2[])[0:i.indnkeyatts - 1]) k JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k),
		coalesce((SELECT conname::text FROM pg_constraint WHERE conindid = i.indexrelid AND contype = 'p' AND conrelid = i.indrelid), ''), i.indimmediate
		FROM pg_index i WHERE i.indrelid = $1 AND i.indisunique AND i.indisvalid AND i.indpred IS NULL AND i.indexprs IS NULL`, oid)
	var unique []string
	var primary string
	var immediate bool
	_, err = pgx.ForEachRow(rows, []any{&unique, &primary, &immediate}, func() error {
		if primary != "" {
			t.PrimaryName = primary
		}
		if !immediate {
			return nil // the statements that replace rows cannot go by it
		}
		t.Uniques = append(t.Uniques, slices.Clone(unique))
		if primary != "" {
			t.Primary = slices.Clone(unique)
		}
		return nil
	})
	if err != nil {
		return err
	}
	return d.fit(ctx, t, oid)
}

// MakeSchema implements [sql.Definer].
func (d *database) MakeSchema(ctx context.Context, schema string) ([]string, error) {
	var there bool
	err := d.conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_namespace WHERE nspname = $1)", schema).Scan(&there)
	if err != nil || there {
		return nil, err
	}
	return []string{"CREATE SCHEMA " + quoted(schema)}, nil
}

// Distinguishes implements [sql.Definer]: a collation that is not deterministic, and the type
// citext, take texts for equal that differ.
func (d *database) Distinguishes(t *sql.Table, of *change.Schema) error {
	if t.Keep == sql.Versions {
		return nil
	}
	for _, i := range of.Key() {
		source := &of.Columns[i]
		c := t.Column(source.Name)
		if c == nil {
			continue
		}
		one, by := *c, ""
		switch {
		case anyCase.MatchString(c.Kind) && !(of.Engine == change.PostgreSQL && anyCase.MatchString(source.Type) && source.Treatment == ""):
			by, one.Kind = c.Kind, "text"
		case c.Rest != "" && (of.Engine != change.PostgreSQL || c.Rest != source.Collation):
			by = "its collation is not deterministic"
		}
		if by != "" {
			return &engine.Fault{Code: sql.CodeKeysEqual, Final: true, Message: fmt.Sprintf("column %s of %s takes different keys for equal (%s), which in the source are different rows", c.Name, t.SQL, by),
				Fix: fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s TYPE %s COLLATE \"C\"; then `rillmark outlet resume %s`", t.SQL, quoted(c.Name), one.Kind, d.outlet.Name)}
		}
	}
	return nil
}

// anyCase is a type whose texts are equal whatever their case.
var anyCase = regexp.MustCompile(`^(?:[^.]+\.)?citext$`)

// Filled implements [sql.Definer].
func (d *database) Filled(ctx context.Context, t *sql.Table, where string) (is bool, err error) {
	err = d.conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM "+t.SQL+" WHERE "+where+")").Scan(&is)
	return is, err
}

// MakeKeys implements [sql.RowWriter].
func (d *database) MakeKeys(ctx context.Context, t *sql.Table, name string, key []string) error {
	columns := quotedList(key)
	return d.exec(ctx, "DROP TABLE IF EXISTS "+name+"; CREATE TABLE "+name+" AS SELECT "+columns+" FROM "+t.SQL+" WITH NO DATA; ALTER TABLE "+name+" ADD PRIMARY KEY ("+columns+")")
}

// typeName is a type's name as the server itself writes it: of its own types, or with a
// schema, with modifiers, and arrays of them.
var typeName = regexp.MustCompile(`^(?:("(?:[^"]|"")+"|[a-z_][a-z0-9_$]*)\.)?("(?:[^"]|"")+"|[a-z_][a-z0-9_$]*(?: [a-z]+)*)(\(-?[0-9, -]+\))?( with(?:out)? time zone)?((?:\[\])*)$`)

// TypeOf implements [sql.Definer].
func (d *database) TypeOf(ctx context.Context, of *change.Schema, c *change.Column, may func(what string, statements ...string) error) (kind string, before []string, err error) {
	kind = wanted(of.Engine, c)
	parts := typeName.FindStringSubmatch(kind)
	if parts == nil {
		return generalType(c), nil, nil
	}
	var there, isEnum bool
	err = d.conn.QueryRow(ctx, "SELECT to_regtype($1) IS NOT NULL, coalesce((SELECT typtype = 'e' FROM pg_type WHERE oid = to_regtype($2)), false)", kind, strings.TrimSuffix(kind, parts[5])).Scan(&there, &isEnum)
	if err != nil {
		return "", nil, err
	}
	switch {
	case there && isEnum && len(c.Labels) > 0:
		return kind, nil, d.addLabels(ctx, strings.TrimSuffix(kind, parts[5]), c.Labels, may)
	case there:
		return kind, nil, nil
	case len(c.Labels) > 0 && parts[1] != "" && (c.Rule == change.RuleEnum || c.Element == change.RuleEnum):
		var lacks bool
		if err := d.conn.QueryRow(ctx, "SELECT to_regnamespace($1) IS NULL", parts[1]).Scan(&lacks); err != nil {
			return "", nil, err
		}
		if lacks {
			before = append(before, "CREATE SCHEMA "+parts[1])
		}
		return kind, append(before, enumStatement(parts[1]+"."+parts[2], c.Labels)), nil
	}
	return generalType(c), nil, nil
}

// addLabels gives an enum the labels that it lacks. A label can be used only once the
// transaction that adds it is over: that is done on a session of its own, and once more
// does no harm.
func (d *database) addLabels(ctx context.Context, kind string, labels []string, may func(what string, statements ...string) error) error {
	rows, _ := d.conn.Query(ctx, "SELECT enumlabel::text FROM pg_enum WHERE enumtypid = to_regtype($1) ORDER BY enumsortorder", kind)
	known, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil || !slices.ContainsFunc(labels, func(label string) bool { return !slices.Contains(known, label) }) {
		return err
	}
	other, err := d.connect(ctx, sql.SessionName(d.outlet)+" definitions")
	if err != nil {
		return err
	}
	defer other.Close(context.WithoutCancel(ctx)) //nolint:errcheck // what it did is committed
	for i, label := range labels {
		if slices.Contains(known, label) {
			continue
		}
		statement := "ALTER TYPE " + kind + " ADD VALUE IF NOT EXISTS " + literal(label)
		if i > 0 {
			statement += " AFTER " + literal(labels[i-1])
		}
		if err := may("type "+kind, statement); err != nil {
			return err
		}
		if _, err := other.Exec(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}
