package session

import (
	"fmt"
	"strconv"
	"strings"

	"rillmark/internal/change"
)

// LSN is a place in PostgreSQL's log.
type LSN uint64

// String writes the two halves as PostgreSQL does.
func (l LSN) String() string { return string(change.PostgreSQL.AppendPosition(nil, uint64(l))) }

// ParseLSN reads what String wrote.
func ParseLSN(s string) (LSN, error) {
	high, low, found := strings.Cut(s, "/")
	h, err1 := strconv.ParseUint(high, 16, 32)
	l, err2 := strconv.ParseUint(low, 16, 32)
	if !found || err1 != nil || err2 != nil {
		return 0, fmt.Errorf("%q is no place in a PostgreSQL log: it looks like 0/19A2F48", s)
	}
	return LSN(h<<32 | l), nil
}

// AppendText appends the text form, which JSON needs no escapes for. It has no error.
func (l LSN) AppendText(dst []byte) ([]byte, error) {
	return change.PostgreSQL.AppendPosition(dst, uint64(l)), nil
}

// MarshalText writes the text form.
func (l LSN) MarshalText() ([]byte, error) { return l.AppendText(nil) }

// UnmarshalText reads the text form.
func (l *LSN) UnmarshalText(text []byte) (err error) {
	*l, err = ParseLSN(string(text))
	return err
}
