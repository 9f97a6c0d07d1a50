package statement

import "strings"

// WithoutValues is a statement with a question mark for each of its values, and without its
// comments. Where it is not certain where its values end, it is the first word alone: that
// depends on settings of the session which the log does not give for such texts.
func WithoutValues(text string) string {
	all, ok := tokens(text, false, false)
	if !ok || strings.ContainsRune(text, '\\') {
		first, _, _ := strings.Cut(strings.TrimSpace(text), " ")
		return strings.ToUpper(strings.TrimFunc(first, func(r rune) bool { return r > 'z' || r < 'A' })) + " …"
	}
	var b strings.Builder
	end := 0
	for i, t := range all {
		if i > 0 && t.offset > end {
			b.WriteByte(' ')
		}
		end = t.end
		switch {
		case t.kind == value, t.kind == word && t.text[0] >= '0' && t.text[0] <= '9': // 0xFF, 1e3
			b.WriteByte('?')
		default:
			b.WriteString(text[t.offset:t.end])
		}
	}
	return b.String()
}
