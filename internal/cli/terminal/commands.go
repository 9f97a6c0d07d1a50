package terminal

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"
)

// Exactly requires n arguments, and names them.
func Exactly(names ...string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) == len(names) {
			return nil
		}
		wanted := "no argument"
		if len(names) > 0 {
			wanted = "exactly: "
			for i, n := range names {
				if i > 0 {
					wanted += " "
				}
				wanted += n
			}
		}
		return Usage("%s takes %s (`%s --help` shows an example)", c.CommandPath(), wanted, c.CommandPath())
	}
}

// Group is a noun with verbs; without one it shows its help, and an unknown one
// is refused.
func Group(use, short string, verbs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, RunE: func(c *cobra.Command, args []string) error {
		if len(args) > 0 {
			return Usage("unknown command %q for %s (`%s --help` lists them)", args[0], c.CommandPath(), c.CommandPath())
		}
		return c.Help()
	}}
	c.AddCommand(verbs...)
	return c
}

// EachLine makes a call that is answered in lines of JSON, until one of them is the last.
func EachLine[L any](s *Session, r *http.Request, take func(*L) (last bool, err error)) error {
	response, err := s.Send(r)
	if err != nil {
		return err
	}
	defer response.Body.Close() //nolint:errcheck // it was only read
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(make([]byte, 64<<10), MaxLine)
	for lines.Scan() {
		l := new(L)
		if err := json.Unmarshal(lines.Bytes(), l); err != nil {
			return fmt.Errorf("the service answered in a form that this client does not know: %w", err)
		}
		if last, err := take(l); last || err != nil {
			return err
		}
	}
	if err := lines.Err(); err != nil {
		return err
	}
	return errors.New("the service ended its answer early: see its log")
}

// maxLine bounds one line of an answer that comes in lines.
const MaxLine = 64 << 20

// FirstOf is an error, or else what comes of going on.
func FirstOf(err error, then func() error) error {
	if err != nil {
		return err
	}
	return then()
}

// KeyWords is a row's key in words.
func KeyWords(key map[string]string) string {
	parts := make([]string, 0, len(key))
	for name, value := range key {
		parts = append(parts, name+" "+value)
	}
	slices.Sort(parts)
	return strings.Join(parts, ", ")
}
