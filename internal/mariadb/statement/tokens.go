package statement

import "strings"

// token is one word or sign of a statement.
type token struct {
	text   string // a quoted name without its quotes
	kind   tokenKind
	offset int
	end    int // behind its last byte
}

type tokenKind uint8

const (
	word   tokenKind = iota // a bare name or keyword
	name                    // a quoted name
	value                   // a string or number
	sign                    // one sign
	ending                  // behind the last one
)

// is reports whether a token is a keyword.
func (t token) is(keyword string) bool { return t.kind == word && strings.EqualFold(t.text, keyword) }

// isName reports whether a token can be a name.
func (t token) isName() bool { return t.kind == word || t.kind == name }

func isWordByte(b byte) bool {
	return b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= '0' && b <= '9' || b == '_' || b == '$' || b >= 0x80
}

// tokens takes a statement apart. Comments go, but for those whose content the server has
// executed: a comment with a condition that did not hold comes as an ordinary one. ok is
// false where a quote or a comment has no end.
func tokens(text string, ansiQuotes, noBackslashes bool) (all []token, ok bool) {
	inside := false // of a comment with a condition
	for i := 0; i < len(text); {
		b := text[i]
		rest := text[i:]
		switch {
		case b <= ' ':
			i++
		case inside && strings.HasPrefix(rest, "*/"):
			inside = false
			i += 2
		case strings.HasPrefix(rest, "/*!"), strings.HasPrefix(rest, "/*M!"):
			inside = true
			i += strings.IndexByte(rest, '!') + 1
			for i < len(text) && text[i] >= '0' && text[i] <= '9' {
				i++
			}
		case strings.HasPrefix(rest, "/*"):
			end := strings.Index(rest[2:], "*/")
			if end < 0 {
				return all, false
			}
			i += end + 4
		case b == '#', strings.HasPrefix(rest, "-- "), strings.HasPrefix(rest, "--\n"), strings.HasPrefix(rest, "--\t"), rest == "--":
			end := strings.IndexByte(rest, '\n')
			if end < 0 {
				end = len(rest) - 1
			}
			i += end + 1
		case b == '`', b == '"', b == '\'':
			content, n := quoted(rest, b, b != '`' && !noBackslashes && (b == '\'' || !ansiQuotes))
			if n == 0 {
				return all, false
			}
			kind := value
			if b == '`' || b == '"' && ansiQuotes {
				kind = name
			}
			all = append(all, token{content, kind, i, i + n})
			i += n
		case isWordByte(b):
			n := 1
			for i+n < len(text) && isWordByte(text[i+n]) {
				n++
			}
			kind := word
			if strings.Trim(text[i:i+n], "0123456789") == "" {
				kind = value
			}
			all = append(all, token{text[i : i+n], kind, i, i + n})
			i += n
		default:
			all = append(all, token{text[i : i+1], sign, i, i + 1})
			i++
		}
	}
	return all, !inside
}

// quoted is the content of a quoted text, and its length with the quotes; 0 where it has
// no end.
func quoted(text string, quote byte, backslashes bool) (content string, n int) {
	var b strings.Builder
	for i := 1; i < len(text); i++ {
		switch {
		case text[i] == '\\' && backslashes && i+1 < len(text):
			i++
			b.WriteByte(text[i])
		case text[i] != quote:
			b.WriteByte(text[i])
		case i+1 < len(text) && text[i+1] == quote:
			b.WriteByte(quote)
			i++
		default:
			return b.String(), i + 1
		}
	}
	return "", 0
}
