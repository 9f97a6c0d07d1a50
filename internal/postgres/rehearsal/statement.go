package rehearsal

import (
	"fmt"
	"strings"
	"unicode"

	"rillmark/internal/engine"
)

// maxStatement bounds a statement, in bytes.
const maxStatement = 16 << 10

// refused says what of a statement is not rehearsed.
func refused(format string, args ...any) error {
	return &engine.Fault{Code: "statement-refused", Message: fmt.Sprintf(format, args...), Fix: "give one ALTER or DROP of one table, type or domain, such as ALTER TABLE loans ADD COLUMN note text"}
}

// object is what a statement changes.
type object struct {
	schema, name string
	isType       bool // a type or a domain, and no table
}

// objectOf reads which table or type a statement changes. It need not understand the rest: the
// server does.
func objectOf(statement string) (o object, err error) {
	if len(statement) > maxStatement {
		return o, refused("the statement has more than %d bytes", maxStatement)
	}
	w := words{text: statement}
	verb := w.keyword("ALTER", "DROP")
	kind := w.keyword("TABLE", "TYPE", "DOMAIN")
	if verb == "" || kind == "" {
		return o, refused("the statement is no ALTER TABLE and no DROP TABLE, nor one of a type or a domain")
	}
	o.isType = kind != "TABLE"
	if w.keyword("IF") != "" {
		w.keyword("EXISTS")
	}
	w.keyword("ONLY")
	if w.keyword("ALL") != "" {
		return o, refused("the statement moves all tables of a tablespace")
	}
	first, ok := w.name()
	if !ok {
		return o, refused("the statement names no %s", strings.ToLower(kind))
	}
	o.schema, o.name = "public", first
	if w.sign('.') {
		o.schema = first
		if o.name, ok = w.name(); !ok {
			return o, refused("the name %s. is cut off", first)
		}
		if w.sign('.') {
			return o, refused("the name of the %s has more than two parts", strings.ToLower(kind))
		}
	}
	if verb == "DROP" && w.sign(',') {
		return o, refused("the statement drops several %ss", strings.ToLower(kind))
	}
	return o, nil
}

// words reads a statement from its beginning.
type words struct{ text string }

// skip passes over white space and comments, which nest.
func (w *words) skip() {
	for {
		w.text = strings.TrimLeftFunc(w.text, unicode.IsSpace)
		switch {
		case strings.HasPrefix(w.text, "--"):
			_, w.text, _ = strings.Cut(w.text, "\n")
		case strings.HasPrefix(w.text, "/*"):
			depth, i := 1, 2
			for ; depth > 0 && i < len(w.text); i++ {
				switch rest := w.text[i:]; {
				case strings.HasPrefix(rest, "/*"):
					depth, i = depth+1, i+1
				case strings.HasPrefix(rest, "*/"):
					depth, i = depth-1, i+1
				}
			}
			w.text = w.text[i:]
		default:
			return
		}
	}
}

func inName(r rune) bool { return r == '_' || r == '$' || unicode.IsLetter(r) || unicode.IsDigit(r) }

// bare is the word that comes next as it is written; empty where none does.
func (w *words) bare() string {
	w.skip()
	end := strings.IndexFunc(w.text, func(r rune) bool { return !inName(r) })
	if end < 0 {
		end = len(w.text)
	}
	return w.text[:end]
}

// keyword takes one of some words.
func (w *words) keyword(any ...string) string {
	next := w.bare()
	for _, one := range any {
		if strings.EqualFold(next, one) {
			w.text = w.text[len(next):]
			return one
		}
	}
	return ""
}

// name takes a name, folded as the server folds it where it is not quoted.
func (w *words) name() (string, bool) {
	w.skip()
	if !strings.HasPrefix(w.text, `"`) {
		next := w.bare()
		w.text = w.text[len(next):]
		return strings.ToLower(next), next != "" && !unicode.IsDigit(rune(next[0]))
	}
	var name strings.Builder
	rest := w.text[1:]
	for {
		part, behind, closed := strings.Cut(rest, `"`)
		if !closed {
			return "", false
		}
		name.WriteString(part)
		if !strings.HasPrefix(behind, `"`) {
			w.text = behind
			return name.String(), name.Len() > 0
		}
		name.WriteByte('"')
		rest = behind[1:]
	}
}

// sign takes a sign.
func (w *words) sign(one byte) bool {
	w.skip()
	if w.text == "" || w.text[0] != one {
		return false
	}
	w.text = w.text[1:]
	return true
}
