package mariadb

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
	"rillmark/internal/engine"
	"rillmark/internal/mariadb/wire"
)

// literal is a text in a statement, under the session's sql_mode.
func literal(text string) string { return string(appendQuoted(nil, []byte(text))) }

// Quote implements [sql.Dialect].
func (d *database) Quote(name string) string { return wire.Name(name) }

// Literal implements [sql.Dialect].
func (d *database) Literal(text string) string { return literal(text) }

// Constant implements [sql.Dialect]: the text is a literal already.
func (d *database) Constant(_ *sql.Column, text []byte) string { return string(text) }

// AppendTime implements [sql.Dialect].
func (d *database) AppendTime(dst []byte, t time.Time) []byte {
	return t.UTC().AppendFormat(dst, "2006-01-02 15:04:05.000000")
}

// infinity is the last moment that a column holds.
const infinity = "9999-12-31 23:59:59.999999"

// Infinity implements [sql.Dialect].
func (d *database) Infinity() string { return infinity }

// longestName is how many bytes a name can have.
const longestName = 64

// LongestName implements [sql.Dialect].
func (d *database) LongestName() int { return longestName }

// TransactionalDefinitions implements [sql.Dialect].
func (d *database) TransactionalDefinitions() bool { return false }

// Own implements [sql.Dialect].
func (d *database) Own(k sql.Keep) []*sql.Column {
	switch k {
	case sql.Flagged:
		return []*sql.Column{{Name: sql.Deleted, Kind: "tinyint(1)", NotNull: true}, {Name: sql.Offset, Kind: "bigint"}, {Name: sql.ChangedAt, Kind: "datetime(6)"}}
	case sql.Versions:
		return []*sql.Column{{Name: sql.Operation, Kind: "varchar(20)", NotNull: true}, {Name: sql.Offset, Kind: "bigint", NotNull: true}, {Name: sql.From, Kind: "datetime(6)", NotNull: true},
			{Name: sql.Until, Kind: "datetime(6)", NotNull: true}, {Name: sql.UntilOffset, Kind: "bigint"}}
	case sql.Current:
	}
	return nil
}

// definition is a column's in a statement. A timestamp that may not be null would get a
// default on older servers.
func definition(c *sql.Column) string {
	text := wire.Name(c.Name) + " " + c.Kind
	switch {
	case c.Rest != "":
		text += " " + c.Rest
	case texts.MatchString(c.Kind):
		text += " " + exact
	}
	if c.NotNull {
		text += " NOT NULL"
	} else {
		text += " NULL"
	}
	if c.Name == sql.Deleted {
		text += " DEFAULT 0"
	}
	return text
}

// Create implements [sql.Dialect].
func (d *database) Create(t *sql.Table, key []string) []string {
	var parts []string
	for _, c := range t.Columns {
		one := *c
		one.NotNull = c.NotNull && (!strings.HasPrefix(c.Kind, "timestamp") || slices.Contains(key, wire.Name(c.Name)))
		parts = append(parts, definition(&one))
	}
	if len(key) > 0 {
		parts = append(parts, "PRIMARY KEY ("+strings.Join(key, ", ")+")")
	}
	return []string{"CREATE TABLE IF NOT EXISTS " + t.SQL + " (" + strings.Join(parts, ", ") + ") ENGINE = InnoDB"}
}

// VersionsIndex implements [sql.Dialect].
func (d *database) VersionsIndex(t *sql.Table, key []string) string {
	name := "versions_" + strings.ReplaceAll(strings.Join(key, "_"), "`", "")
	return "CREATE INDEX IF NOT EXISTS " + wire.Name(strings.ToValidUTF8(name[:min(len(name), 60)], "")) + " ON " + t.SQL + " (" + strings.Join(append(key, wire.Name(sql.Until), wire.Name(sql.Offset)), ", ") + ")"
}

// AddColumn implements [sql.Dialect].
func (d *database) AddColumn(t *sql.Table, c *sql.Column) string {
	return "ALTER TABLE " + t.SQL + " ADD COLUMN IF NOT EXISTS " + definition(c)
}

// Modify implements [sql.Dialect].
func (d *database) Modify(t *sql.Table, c *sql.Column) string {
	one := *c
	if was := t.Column(c.Name); was != nil && was.Kind != c.Kind && !(texts.MatchString(was.Kind) && texts.MatchString(c.Kind)) {
		one.Rest = "" // what was said of the former type
	}
	return "ALTER TABLE " + t.SQL + " MODIFY COLUMN " + definition(&one)
}

// Retype implements [sql.Dialect].
func (d *database) Retype(t *sql.Table, c *sql.Column) []string { return []string{d.Modify(t, c)} }

// Rename implements [sql.Dialect].
func (d *database) Rename(t *sql.Table, renamed []change.Rename) []string {
	var parts []string
	for _, r := range renamed {
		parts = append(parts, "RENAME COLUMN "+wire.Name(r.From)+" TO "+wire.Name(r.To))
	}
	return []string{"ALTER TABLE " + t.SQL + " " + strings.Join(parts, ", ")}
}

// DropColumn implements [sql.Dialect].
func (d *database) DropColumn(t *sql.Table, name string) string {
	return "ALTER TABLE " + t.SQL + " DROP COLUMN IF EXISTS " + wire.Name(name)
}

// Rekey implements [sql.Dialect].
func (d *database) Rekey(t *sql.Table, key []string, missing bool) string {
	var parts []string
	if len(t.Primary) > 0 {
		parts = append(parts, "DROP PRIMARY KEY")
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
	t.AnyCase = true
	if unnameable(t.Schema + t.Name) {
		return &engine.Fault{Code: sql.CodeNoSuchName, Final: true, Message: fmt.Sprintf("the server takes no sign beyond U+FFFF in a name, and the table would be %s", t.SQL),
			Fix: "name it in the outlet's mariadb.renamed_tables"}
	}
	at := " WHERE TABLE_SCHEMA = " + literal(t.Schema) + " AND TABLE_NAME = " + literal(t.Name)
	row, err := d.conn.One(ctx, 4, "SELECT TABLE_TYPE, coalesce(ENGINE, ''), TABLE_SCHEMA, TABLE_NAME FROM information_schema.TABLES"+at)
	if err != nil || row == nil {
		return err
	}
	if d.namesFold { // Loans and loans are one table
		t.Schema, t.Name = row[2], row[3]
		t.SQL = wire.Name(t.Schema) + "." + wire.Name(t.Name)
	}
	switch {
	case row[0] != "BASE TABLE" && row[0] != "SYSTEM VERSIONED":
		t.NotTable = true
		return nil
	case !strings.EqualFold(row[1], "InnoDB"):
		return &engine.Fault{Code: "no-transactions", Final: true, Message: fmt.Sprintf("%s is a table of %s, which has no transactions: rows and the outlet's offset could not be committed together", t.SQL, row[1]),
			Fix: "ALTER TABLE " + t.SQL + " ENGINE = InnoDB; then `rillmark outlet resume " + d.outlet.Name + "`"}
	}
	columns, err := d.conn.All(ctx, 7, `SELECT COLUMN_NAME, COLUMN_TYPE, coalesce(CHARACTER_SET_NAME, ''), coalesce(COLLATION_NAME, ''), IS_NULLABLE, coalesce(GENERATION_EXPRESSION, '') <> '' OR EXTRA LIKE '%GENERATED%', EXTRA LIKE '%auto_increment%' OR coalesce(COLUMN_DEFAULT, 'NULL') <> 'NULL' FROM information_schema.COLUMNS`+at+" ORDER BY ORDINAL_POSITION")
	if err != nil {
		return err
	}
	for _, c := range columns {
		one := &sql.Column{Name: c[0], Kind: c[1], NotNull: c[4] == "NO", Generated: c[5] == "1", Defaulted: c[6] == "1"}
		if c[2] != "" {
			one.Rest = "CHARACTER SET " + c[2] + " COLLATE " + c[3]
		}
		t.Columns = append(t.Columns, one)
	}
	indexes, err := d.conn.All(ctx, 4, `SELECT INDEX_NAME, COLUMN_NAME, SUB_PART IS NOT NULL, NON_UNIQUE FROM information_schema.STATISTICS`+at+" AND INDEX_TYPE = 'BTREE' ORDER BY INDEX_NAME, SEQ_IN_INDEX")
	if err != nil {
		return err
	}
	t.Indexes = make(map[string][]string)
	unique := make(map[string]bool)
	for _, i := range indexes {
		name := i[1]
		if i[2] == "1" {
			name += " (its beginning)" // two keys may have the same
		}
		t.Indexes[i[0]], unique[i[0]] = append(t.Indexes[i[0]], name), i[3] == "0"
	}
	for name, columns := range t.Indexes {
		if unique[name] {
			t.Uniques = append(t.Uniques, columns)
		}
	}
	if t.Primary = t.Indexes["PRIMARY"]; t.Primary != nil {
		t.PrimaryName = "PRIMARY"
	}
	return d.mayAct(ctx, t, at)
}

// mayAct refuses a table whose triggers would act where they must not: the server lets nobody
// keep them from it.
func (d *database) mayAct(ctx context.Context, t *sql.Table, at string) error {
	if d.options.Triggers == "fire" {
		return nil
	}
	row, err := d.conn.One(ctx, 1, "SELECT group_concat(TRIGGER_NAME) FROM information_schema.TRIGGERS WHERE"+strings.NewReplacer("TABLE_SCHEMA", "EVENT_OBJECT_SCHEMA", "TABLE_NAME", "EVENT_OBJECT_TABLE", " WHERE", "").Replace(at))
	if err != nil || row == nil || row[0] == "" {
		return err
	}
	return &engine.Fault{Code: "has-triggers", Final: true, Message: fmt.Sprintf("%s has triggers (%s), which would act once more on what those of the source have done", t.SQL, row[0]),
		Fix: "drop them, or set mariadb.triggers: fire in the outlet, which lets them act"}
}

// MakeSchema implements [sql.Definer].
func (d *database) MakeSchema(ctx context.Context, schema string) ([]string, error) {
	row, err := d.conn.One(ctx, 1, "SELECT 1 FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = "+literal(schema))
	if err != nil || row != nil {
		return nil, err
	}
	return []string{"CREATE DATABASE IF NOT EXISTS " + wire.Name(schema) + " CHARACTER SET utf8mb4"}, nil
}

// unnameable reports whether a name has signs that no name has on the server.
func unnameable(name string) bool {
	return strings.ContainsFunc(name, func(r rune) bool { return r > 0xFFFF })
}

// TypeOf implements [sql.Definer].
func (d *database) TypeOf(_ context.Context, of *change.Schema, c *change.Column, _ func(what string, statements ...string) error) (kind string, before []string, err error) {
	if unnameable(c.Name) {
		return "", nil, &engine.Fault{Code: sql.CodeNoSuchName, Final: true, Message: fmt.Sprintf("the server takes no sign beyond U+FFFF in a name, and a column is %q", c.Name),
			Fix: "name the column in the outlet's form of rows (rows, columns, name), or drop it there"}
	}
	return typeFor(of, c, d.version >= 100700), nil, nil
}

// Distinguishes implements [sql.Definer]. A collation may take texts for equal that differ in
// case, accents or spaces at their end.
func (d *database) Distinguishes(t *sql.Table, of *change.Schema) error {
	if t.Keep == sql.Versions {
		return nil
	}
	for _, i := range of.Key() {
		c := t.Column(of.Columns[i].Name)
		if c == nil || of.Columns[i].Rule == change.RuleUUID || !texts.MatchString(c.Kind) || asFine(c.Rest, &of.Columns[i], of.Engine) {
			continue
		}
		one := *c
		one.Rest = exact
		return &engine.Fault{Code: sql.CodeKeysEqual, Final: true, Message: fmt.Sprintf("column %s of %s takes different keys for equal (%s), which in the source are different rows", c.Name, t.SQL, c.Rest),
			Fix: d.Modify(t, &one) + "; then `rillmark outlet resume " + d.outlet.Name + "`"}
	}
	return nil
}

// asFine reports whether a column with a character set and a collation tells all keys apart
// that the source does.
func asFine(rest string, source *change.Column, of change.Engine) bool {
	_, collation, _ := strings.Cut(rest, " COLLATE ")
	switch {
	case strings.HasSuffix(collation, "_nopad_bin"):
		return true
	case of != change.MariaDB:
		return false
	case source.Collation == "":
		return source.Rule != change.RuleText || source.Treatment == "" // a version from before it was on record
	case strings.HasSuffix(collation, "_bin"):
		return !strings.Contains(source.Collation, "_nopad_")
	}
	return rules(collation) == rules(source.Collation)
}

// rules is how a collation compares, without its character set: the Unicode sets share them.
func rules(collation string) string {
	set, rules, _ := strings.Cut(collation, "_")
	switch set {
	case "utf8", "utf8mb3", "utf8mb4", "ucs2", "utf16", "utf16le", "utf32":
		return rules
	}
	return collation
}

// Filled implements [sql.Definer].
func (d *database) Filled(ctx context.Context, t *sql.Table, where string) (bool, error) {
	row, err := d.conn.One(ctx, 1, "SELECT 1 FROM "+t.SQL+" WHERE "+where+" LIMIT 1")
	return row != nil, err
}

// MakeKeys implements [sql.RowWriter].
func (d *database) MakeKeys(ctx context.Context, t *sql.Table, name string, key []string) error {
	var parts, names []string
	for _, one := range key {
		c := t.Column(one)
		if c == nil {
			return fmt.Errorf("%s has no column %s", t.SQL, one)
		}
		parts, names = append(parts, definition(c)), append(names, wire.Name(c.Name))
	}
	if err := d.conn.Exec(ctx, "DROP TABLE IF EXISTS "+name); err != nil {
		return err
	}
	return d.conn.Exec(ctx, "CREATE TABLE "+name+" ("+strings.Join(parts, ", ")+", PRIMARY KEY ("+strings.Join(names, ", ")+")) ENGINE = InnoDB")
}
