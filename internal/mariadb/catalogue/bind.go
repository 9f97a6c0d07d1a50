package catalogue

import (
	"slices"
	"strings"

	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/statement"
	"rillmark/internal/mariadb/values"
)

// Bind is the columns of a table map, with what the catalogue adds where it is of the same
// definition: t, which may be nil, is what it says. agrees is false where it says otherwise:
// of the columns that differ, what the log does not say is then not known, but for the types that a
// statement has given them: stated has their first words by the columns' names in lower case.
func Bind(m *binlog.TableMap, t *Table, sets values.Charsets, stated map[string]string) (columns []*values.Column, agrees bool, err error) {
	agrees = t != nil && len(t.Columns) == len(m.Columns)
	columns = make([]*values.Column, len(m.Columns))
	for i, log := range m.Columns {
		var known *values.Column
		if t != nil {
			known = t.column(log.Name)
		}
		if known == nil || !same(&known.Log, &log) || len(known.Known) != len(log.Labels) {
			agrees = false
			if columns[i], err = values.FromLog(log, sets, stated[strings.ToLower(log.Name)]); err != nil {
				return nil, false, err
			}
			continue
		}
		c := *known
		c.Log, c.Key, c.Nullable = log, log.Key, log.Nullable
		if former[log.Type] != 0 {
			c.Log.Meta = known.Log.Meta // the log does not say how many decimals there are
		}
		agrees = agrees && t.Columns[i] == known && known.Nullable == log.Nullable && known.Key == log.Key
		if err := c.Prepare(sets); err != nil {
			return nil, false, err
		}
		columns[i] = &c
	}
	return columns, agrees, nil
}

// sequence are the columns of the one row that a sequence is; it stands in the log whenever
// its numbers are handed out.
var sequence = []string{"next_not_cached_value", "minimum_value", "maximum_value", "start_value", "increment", "cache_size", "cycle_option", "cycle_count"}

// MayBeSequence reports whether a table map has the columns of a sequence. A table can have
// the same ones: only the catalogue knows which it is.
func MayBeSequence(m *binlog.TableMap) bool {
	return slices.EqualFunc(m.Columns, sequence, func(c binlog.Column, name string) bool {
		kind := byte(binlog.ColLongLong)
		if name == "cycle_option" {
			kind = binlog.ColTiny
		}
		return c.Name == name && c.Type == kind && !c.Nullable
	})
}

// same reports whether the catalogue and the log describe a column alike.
func same(known, log *binlog.Column) bool {
	if old := former[log.Type]; old != 0 && old == known.Type {
		return true // a time in its former form
	}
	if known.Type != log.Type || known.Unsigned != log.Unsigned {
		return false
	}
	switch known.Type {
	case binlog.ColTiny, binlog.ColShort, binlog.ColInt24, binlog.ColLong, binlog.ColLongLong, binlog.ColYear, binlog.ColDate:
		return true
	}
	return known.Meta == log.Meta
}

// former are the types of times before the log said how many decimals they have, with what they
// are now.
var former = map[byte]byte{binlog.ColTime: binlog.ColTime2, binlog.ColDateTime: binlog.ColDateTime2, binlog.ColTimestamp: binlog.ColTimestamp2, binlog.ColNewDate: binlog.ColDate}

// families are the words for types, as a CREATE and the catalogue have them, by what they may become
// of each other: what a mode of the session, a length or a second word decides is one family.
var families = map[string]string{"tinyint": "tinyint", "int1": "tinyint", "bool": "tinyint", "boolean": "tinyint", "smallint": "smallint", "int2": "smallint", "mediumint": "mediumint", "int3": "mediumint", "middleint": "mediumint",
	"int": "int", "integer": "int", "int4": "int", "bigint": "bigint", "int8": "bigint", "decimal": "decimal", "dec": "decimal", "numeric": "decimal", "fixed": "decimal", "number": "decimal",
	"float": "float", "double": "float", "real": "float", "float4": "float", "float8": "float", "date": "date", "datetime": "date", "time": "time", "timestamp": "timestamp", "year": "year", "bit": "bit",
	"enum": "enum", "set": "set", "uuid": "uuid", "inet4": "inet4", "inet6": "inet6",
	"char": "text", "character": "text", "varchar": "text", "varcharacter": "text", "nchar": "text", "nvarchar": "text", "binary": "text", "varbinary": "text"}

// MayBe reports whether a table may be the one that a CREATE has defined: the catalogue may be far
// ahead of the log, and have another one under its name.
func MayBe(t *Table, created *statement.Effect) bool {
	if created.DefinesAll && len(t.Columns) != len(created.Defined) {
		return false
	}
	for i := range created.Defined {
		c := &created.Defined[i]
		known := slices.IndexFunc(t.Columns, func(one *values.Column) bool { return strings.EqualFold(one.Name, c.Name) })
		if known < 0 {
			return false
		}
		word := strings.FieldsFunc(t.Columns[known].Type, func(r rune) bool { return r == '(' || r == ' ' })
		if len(word) == 0 {
			continue
		}
		if is, said := families[word[0]], families[c.Type]; is != said && is != "" && said != "" {
			return false
		}
	}
	return true
}
