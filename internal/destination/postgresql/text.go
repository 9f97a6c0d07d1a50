package postgresql

import (
	"bytes"
	"encoding/hex"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
	"rillmark/internal/postgres/canonical"
)

// writingOf is how a column's values are written; nil where their canonical text will do.
func writingOf(c *change.Column) sql.Writing {
	if c.Treatment != "" {
		return nil
	}
	switch c.Rule {
	case change.RuleBinary:
		return func(dst, canonical []byte) ([]byte, error) {
			return hex.AppendEncode(append(dst, `\x`...), canonical), nil
		}
	case change.RuleArray:
		return sql.Writing(canonical.ArrayText(c))
	default:
	}
	return nil
}

// appendCopied appends a text as COPY reads it (the manual, COPY, "Text Format").
func appendCopied(dst, text []byte) []byte {
	if bytes.IndexByte(text, '\\') < 0 && bytes.IndexByte(text, '\n') < 0 && bytes.IndexByte(text, '\t') < 0 && bytes.IndexByte(text, '\r') < 0 {
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
		case '\r':
			dst = append(dst, '\\', 'r')
		default:
			dst = append(dst, b)
		}
	}
	return dst
}
