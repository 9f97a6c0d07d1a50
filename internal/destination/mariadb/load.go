package mariadb

import (
	"bytes"
	"context"
	"encoding/hex"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
	"rillmark/internal/mariadb/wire"
)

// enoughToLoad are so many rows that LOAD DATA is quicker than INSERT: the server parses no
// values, and works while we make the next.
const enoughToLoad = 200

// partBytes is about how much is made before it is sent.
const partBytes = 64 << 10

// load puts rows' columns at places into a table by LOAD DATA. With LOCAL the server only warns
// of what it would refuse elsewhere, and leaves such a row out, or changes it: any warning is an
// error here, before which the caller has put a savepoint, or it empties the table later.
func (d *database) load(ctx context.Context, into string, b *sql.Binding, places []int, rows sql.Rows) error {
	columns, sets := make([]string, len(places)), []string{}
	writes := make([]sql.Writing, len(places))
	for n, at := range places {
		columns[n] = b.Names[at]
		if at >= len(b.From) {
			continue
		}
		c := &b.Source.Columns[b.From[at]]
		column := b.Column(c.Name)
		writes[n] = loadedAs(c, column)
		made := ""
		switch {
		case c.Treatment == "" && c.Rule == change.RuleBinary:
			made = "UNHEX(@v)"
		case strings.HasPrefix(column.Kind, "bit"), strings.HasPrefix(column.Kind, "year"): // of a text they make something else
			made = "CAST(@v AS UNSIGNED)"
		}
		if made != "" {
			variable := "@rillmark_" + string(rune('a'+n%26)) + strings.Repeat("_", n/26)
			columns[n] = variable
			sets = append(sets, b.Names[at]+" = "+strings.Replace(made, "@v", variable, 1))
		}
	}
	statement := "LOAD DATA LOCAL INFILE 'rows' INTO TABLE " + into + ` CHARACTER SET utf8mb4 FIELDS TERMINATED BY X'09' ESCAPED BY '\' LINES TERMINATED BY X'0A' (` + strings.Join(columns, ", ") + ")"
	if len(sets) > 0 {
		statement += " SET " + strings.Join(sets, ", ")
	}
	text, scratch, i := d.buffer, []byte(nil), 0
	done, err := d.conn.Load(ctx, statement, func() (_ []byte, err error) {
		text = text[:0]
		for ; i < rows.N && len(text) < partBytes; i++ {
			image := rows.Values(i)
			for n, at := range places {
				if n > 0 {
					text = append(text, '\t')
				}
				null := false
				if at >= len(b.From) {
					start := len(text)
					if text, null = rows.Own(text, i, at-len(b.From)); null {
						text = text[:start]
					}
				} else if v := image[b.From[at]]; v.Presence != change.Present {
					null = true
				} else if writes[n] == nil {
					text = appendLoaded(text, v.Text)
				} else {
					if scratch, err = writes[n](scratch[:0], v.Text); err != nil {
						return nil, err
					}
					text = appendLoaded(text, scratch)
				}
				if null {
					text = append(text, `\N`...)
				}
			}
			text = append(text, '\n')
		}
		return text, nil
	})
	if cap(text) <= 4*largestStatement { // a large row's room is given back
		d.buffer = text[:0]
	}
	if code := wire.Code(err); code == codeNoLoad || code == codeNoLocalLoad {
		d.loads = false // the server has local_infile off
		return d.insert(ctx, into, b, places, rows, "")
	}
	if err != nil || done.Warnings == 0 {
		return err
	}
	warning, err := d.conn.One(ctx, 3, "SHOW WARNINGS LIMIT 1")
	switch {
	case err != nil:
		return err
	case len(warning) == 3 && warning[1] == "1062":
		return &wire.Error{Code: codeDuplicate, State: "23000", Message: warning[2]}
	case len(warning) == 3:
		return &errChanged{warning[2]}
	}
	return &errChanged{"the server warns of it"}
}

// loadedAs makes the text of a column's values for LOAD DATA; nil where the canonical one will
// do.
func loadedAs(c *change.Column, into *sql.Column) sql.Writing {
	switch {
	case c.Treatment != "":
	case c.Rule == change.RuleBoolean && numbers.MatchString(into.Kind):
		return func(dst, canonical []byte) ([]byte, error) {
			if string(canonical) == "true" {
				return append(dst, '1'), nil
			}
			return append(dst, '0'), nil
		}
	case c.Rule == change.RuleTimestampTZ:
		return func(dst, canonical []byte) ([]byte, error) {
			return append(dst, bytes.TrimSuffix(canonical, []byte("Z"))...), nil
		}
	case c.Rule == change.RuleBinary && isGeometry(into.Kind):
		return func(dst, canonical []byte) ([]byte, error) {
			dst, err := geometry(dst, canonical) // X'...'
			return bytes.TrimSuffix(bytes.TrimPrefix(dst, []byte("X'")), []byte("'")), err
		}
	case c.Rule == change.RuleBinary:
		return func(dst, canonical []byte) ([]byte, error) { return hex.AppendEncode(dst, canonical), nil }
	}
	return nil
}

// appendLoaded appends a text as LOAD DATA reads it.
func appendLoaded(dst, text []byte) []byte {
	if bytes.IndexByte(text, '\\') < 0 && bytes.IndexByte(text, '\n') < 0 && bytes.IndexByte(text, '\t') < 0 && bytes.IndexByte(text, 0) < 0 {
		return append(dst, text...)
	}
	for _, b := range text {
		switch b {
		case '\\':
			dst = append(dst, '\\', '\\')
		case '\n':
			dst = append(dst, '\\', 'n')
		case '\t':
			dst = append(dst, '\\', 't')
		case 0:
			dst = append(dst, '\\', '0')
		default:
			dst = append(dst, b)
		}
	}
	return dst
}
