package terminal

import (
	"fmt"
	"io"
	"os"
	"unicode/utf8"

	"golang.org/x/term"
)

// Plain writes text in which nothing can steer a terminal: control characters, and
// those that turn the direction of writing, are shown escaped, in the form that JSON
// has for them. Names and rows come from strangers.
type Plain struct{ to io.Writer }

// NewPlain is such a writer.
func NewPlain(to io.Writer) Plain { return Plain{to} }

// Write implements [io.Writer].
func (p Plain) Write(text []byte) (int, error) {
	var out []byte
	kept := 0
	for i := 0; i < len(text); {
		r, n := utf8.DecodeRune(text[i:])
		if steers(r) {
			out = fmt.Appendf(append(out, text[kept:i]...), `\u%04x`, r)
			kept = i + n
		}
		i += n
	}
	if out == nil {
		return p.to.Write(text)
	}
	if _, err := p.to.Write(append(out, text[kept:]...)); err != nil {
		return 0, err
	}
	return len(text), nil
}

func steers(r rune) bool {
	switch {
	case r == '\n' || r == '\t':
		return false
	case r < 0x20, r >= 0x7f && r <= 0x9f:
		return true
	}
	return r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 || r == 0x200e || r == 0x200f || r == 0x061c
}

// onTerminal says whether a writer is a terminal.
func onTerminal(w io.Writer) bool {
	if p, is := w.(Plain); is {
		w = p.to
	}
	f, is := w.(*os.File)
	return is && term.IsTerminal(int(f.Fd()))
}

// Exact is where a script goes: to another program byte by byte, to a terminal as plain
// as all else.
func (s *Session) Exact() io.Writer {
	if p, is := s.Out.(Plain); is && !onTerminal(p) {
		return p.to
	}
	return s.Out
}

// Cut shortens a text to n characters for people at a terminal; in a pipe it is whole.
func (s *Session) Cut(text string, n int) string {
	if onTerminal(s.Out) {
		return Shorten(text, n)
	}
	return text
}
