package postgres

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/pgoutput"
	"rillmark/internal/shape"
)

// layout is a schema version with all that is needed to read its rows: which of
// the columns in the log are captured, and how their text becomes what the
// journal holds.
type layout struct {
	// name is the table's in events: its own, or its root's.
	name   string
	rule   *TableRule
	schema *change.Schema
	// raw are the log's columns as they are, before any treatment.
	raw []rawColumn
	// from is the place in raw of each column of schema, convert its converter.
	from    []int
	convert []converter
	// defaulted says of each whether adding it filled existing rows.
	defaulted []bool
	// condition is the rule's filter, over raw columns.
	condition *shape.BoundCondition
}

// rawColumn is a column in the log.
type rawColumn struct {
	change.Column
	convert converter
	toasted bool // its values may be stored out of line, and be left out of the log
	number  int  // the column's for ever, whatever its name; 0 where it is not known
	oid     uint32
}

// layoutMaker is what makes layouts of attributes: the rules and the key for
// hashing.
type layoutMaker struct {
	name    string
	rule    *TableRule
	hashKey []byte
	// order, where not nil, is the root's columns, in whose order a partition's
	// are captured.
	order []string
}

func (m *layoutMaker) make(from []attribute, guessed bool) (*layout, error) {
	l := &layout{name: m.name, rule: m.rule}
	keyed := slices.ContainsFunc(from, func(a attribute) bool { return a.keyPlace > 0 })
	var leftOut []string
	var columns []change.Column
	for i := range from {
		column, convert := from[i].column()
		l.raw = append(l.raw, rawColumn{column, convert, from[i].toasted, from[i].number, from[i].base.oid})
	}
	for place, name := range m.rule.Key {
		i := slices.IndexFunc(l.raw, func(c rawColumn) bool { return c.Name == name })
		if i < 0 && !keyed {
			return nil, m.unfit("its key names column %q, which the table does not have", name)
		}
		if !keyed {
			l.raw[i].Key = place + 1
		}
	}
	for _, i := range m.places(l.raw) {
		column := l.raw[i].Column
		convert := l.raw[i].convert
		treat := m.rule.treats(column.Name)
		if column.Key > 0 && (treat == Drop || treat == Mask) {
			return nil, m.unfit("column %q is %s, but belongs to the key, by which consumers tell rows apart; hash it, or give the table another key", column.Name, pastTense(treat))
		}
		switch treat {
		case Drop:
			leftOut = append(leftOut, column.Name)
			continue
		case Mask:
			column, convert = treated(column, "masked"), convertMasked
		case Hash:
			column, convert = treated(column, "hashed"), convertHashed(m.hashKey, convert)
		}
		if m.rule.Image == ImageKey && column.Key == 0 {
			continue
		}
		columns = append(columns, column)
		l.from = append(l.from, i)
		l.convert = append(l.convert, convert)
		l.defaulted = append(l.defaulted, from[i].defaulted)
	}
	if m.rule.Image == ImageKey && len(columns) == 0 {
		return nil, m.unfit("its image is the key, and the table has none; give it one with `key`")
	}
	l.schema = change.NewSchema(change.PostgreSQL, m.name, columns, leftOut, guessed)
	if m.rule.Filter != nil {
		bare := make([]change.Column, len(l.raw))
		for i, c := range l.raw {
			bare[i] = c.Column
		}
		var err error
		if l.condition, err = m.rule.Filter.Bind(m.name, bare); err != nil {
			return nil, m.unfit("%s", err)
		}
	}
	return l, nil
}

// places are the indexes of raw columns in the order in which they are captured.
func (m *layoutMaker) places(raw []rawColumn) []int {
	places := make([]int, len(raw))
	for i := range places {
		places[i] = i
	}
	if m.order != nil {
		slices.SortStableFunc(places, func(a, b int) int {
			return slices.Index(m.order, raw[a].Name) - slices.Index(m.order, raw[b].Name)
		})
	}
	return places
}

func (m *layoutMaker) unfit(format string, args ...any) error {
	return &engine.Fault{Code: "rule-unfit", Final: true, Message: fmt.Sprintf("the rule %s does not fit table %s: ", m.rule.Match, m.name) + fmt.Sprintf(format, args...),
		Fix: "edit the source's rules; nothing was lost, capture waits there"}
}

func pastTense(t Treatment) string {
	if t == Drop {
		return "dropped"
	}
	return "masked"
}

// treated is the column of a masked or hashed one: text, of a type that says so.
func treated(c change.Column, how string) change.Column {
	return change.Column{Name: c.Name, Type: c.Type + " (" + how + ")", Rule: change.RuleText, Nullable: c.Nullable, Key: c.Key}
}

func convertMasked(dst, _ []byte) ([]byte, error) { return append(dst, "***"...), nil }

// convertHashed makes the HMAC-SHA256 (RFC 2104) of a value's canonical text.
func convertHashed(key []byte, convert converter) converter {
	mac := hmac.New(sha256.New, key)
	var canonical, sum []byte
	return func(dst, text []byte) ([]byte, error) {
		if convert != nil {
			var err error
			if canonical, err = convert(canonical[:0], text); err != nil {
				return nil, err
			}
			text = canonical
		}
		mac.Reset()
		mac.Write(text) //nolint:errcheck // a hash takes everything
		sum = mac.Sum(sum[:0])
		return hex.AppendEncode(dst, sum), nil
	}
}

// rewrites reports whether going from old to l changed rows without a row in the
// log: a column came and filled them, one changed its type, or an enum's label
// its name.
func (l *layout) rewrites(old *change.Schema) bool {
	types := make(map[string]string, len(old.Columns))
	labels := make(map[string][]string)
	for _, c := range old.Columns {
		types[c.Name] = c.Type
		labels[c.Name] = c.Labels
	}
	for i, c := range l.schema.Columns {
		before, was := types[c.Name]
		// Earlier versions wrote a type of the schema public without it.
		if was && before != c.Type && !strings.HasSuffix(c.Type, "."+before) || !was && l.defaulted[i] {
			return true
		}
		// A label that is gone has another name now, in every row that has it.
		for _, label := range labels[c.Name] {
			if len(c.Labels) > 0 && !slices.Contains(c.Labels, label) {
				return true
			}
		}
	}
	return false
}

// exposes is the name of a column that was private in the old version and may
// now be there under another name; empty where none is.
func (l *layout) exposes(old *change.Schema) string {
	has := func(name string) bool {
		return slices.ContainsFunc(l.raw, func(c rawColumn) bool { return c.Name == name })
	}
	gone := ""
	for _, name := range old.LeftOut {
		if !has(name) {
			gone = name
		}
	}
	for _, c := range old.Columns {
		if (strings.HasSuffix(c.Type, " (masked)") || strings.HasSuffix(c.Type, " (hashed)")) && !has(c.Name) {
			gone = c.Name
		}
	}
	if gone == "" {
		return ""
	}
	for _, c := range l.schema.Columns {
		known := slices.ContainsFunc(old.Columns, func(o change.Column) bool { return o.Name == c.Name })
		if !known && !l.rule.names(c.Name) && !strings.HasSuffix(c.Type, " (masked)") && !strings.HasSuffix(c.Type, " (hashed)") {
			return gone
		}
	}
	return ""
}

// maker prepares what layouts of a table are made with.
func (c *Config) maker(ctx context.Context, q querier, oid uint32, name string, rule *TableRule) (*layoutMaker, error) {
	m := &layoutMaker{name: name, rule: rule, hashKey: c.HashKey}
	if rule.Root {
		rows, err := q.Query(ctx, `SELECT a.attname::text FROM pg_attribute a
			WHERE a.attrelid = coalesce(pg_partition_root($1::oid::regclass), $1::oid) AND attnum > 0 AND NOT attisdropped ORDER BY attnum`, oid)
		if err != nil {
			return nil, err
		}
		for rows.Next() {
			var one string
			if err := rows.Scan(&one); err != nil {
				return nil, err
			}
			m.order = append(m.order, one)
		}
		if err := rows.Err(); err != nil {
			return nil, err
		}
	}
	return m, nil
}

// catalogueLayout is a table's layout as the catalogue has it now.
func (c *Config) catalogueLayout(ctx context.Context, q querier, oid uint32, name string, rule *TableRule) (*layout, error) {
	found, err := attributes(ctx, q, oid)
	if err != nil {
		return nil, fmt.Errorf("looking up the columns of %s: %w", name, err)
	}
	m, err := c.maker(ctx, q, oid, name, rule)
	if err != nil {
		return nil, fmt.Errorf("looking up the root of %s: %w", name, err)
	}
	return m.make(found, false)
}

// relationLayout is the layout that a Relation message announces, completed from
// the catalogue, which may have gone on since: where both disagree and the table's
// known version does not fit either, the version is marked as guessed.
func (c *Config) relationLayout(ctx context.Context, q querier, m *pgoutput.Relation, name string, rule *TableRule, known *change.Schema) (*layout, error) {
	found, err := attributes(ctx, q, m.OID)
	if err != nil {
		return nil, fmt.Errorf("looking up the columns of %s: %w", name, err)
	}
	byName := make(map[string]attribute, len(found))
	for _, a := range found {
		byName[a.name] = a
	}
	guessed := len(found) != len(m.Columns)
	agreed := make([]attribute, len(m.Columns))
	for i, c := range m.Columns {
		a, known := byName[c.Name]
		if !known || a.typeOID != c.TypeOID || a.typeMod != c.TypeMod {
			guessed = true
			if a, err = lostAttribute(ctx, q, c, m.ReplicaIdentity); err != nil {
				return nil, fmt.Errorf("looking up type %d of column %s of %s: %w", c.TypeOID, c.Name, name, err)
			}
			if c.Identity && m.ReplicaIdentity != pgoutput.IdentityFull {
				a.keyPlace = 1 + keyPlaces(agreed[:i])
			}
		}
		agreed[i] = a
	}
	maker, err := c.maker(ctx, q, m.OID, name, rule)
	if err != nil {
		return nil, fmt.Errorf("looking up the root of %s: %w", name, err)
	}
	l, err := maker.make(agreed, guessed)
	if err == nil && guessed && known != nil && sameColumns(l.schema, known) {
		l.schema = known
	}
	return l, err
}

// sameColumns reports whether two versions name the same columns of the same
// types, whatever else is known of them.
func sameColumns(a, b *change.Schema) bool {
	return slices.EqualFunc(a.Columns, b.Columns, func(x, y change.Column) bool { return x.Name == y.Name && x.Type == y.Type && x.Rule == y.Rule })
}

func keyPlaces(attributes []attribute) (places int) {
	for _, a := range attributes {
		places = max(places, a.keyPlace)
	}
	return places
}

// lostAttribute is a column that the catalogue no longer has as the log has it.
func lostAttribute(ctx context.Context, q querier, c pgoutput.RelationColumn, _ pgoutput.ReplicaIdentity) (attribute, error) {
	a := attribute{name: c.Name, typeOID: c.TypeOID, typeMod: c.TypeMod, base: typeInfo{oid: c.TypeOID}}
	err := q.QueryRow(ctx, "SELECT format_type($1, $2), coalesce((SELECT typtype::text FROM pg_type WHERE oid = $1), '')", c.TypeOID, c.TypeMod).
		Scan(&a.typeName, &a.base.kind)
	if strings.Contains(a.typeName, "???") {
		a.typeName = fmt.Sprintf("dropped type %d", c.TypeOID)
	}
	return a, err
}
