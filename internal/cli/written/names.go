package written

import (
	"fmt"
	"strings"

	"github.com/spf13/pflag"
)

// Names are patterns or names in a flag, with commas between them or the flag repeated. A comma
// within double quotes is a part of a name, as `named."a,b"`, wherever a name is written so.
type Names struct {
	values *[]string
	given  bool
}

var _ pflag.SliceValue = (*Names)(nil)

// NamesIn has a flag fill a list.
func NamesIn(values *[]string) *Names { return &Names{values: values} }

// Set implements [pflag.Value].
func (n *Names) Set(text string) error {
	all, err := splitNames(text)
	if err != nil {
		return err
	}
	if !n.given {
		*n.values, n.given = nil, true
	}
	*n.values = append(*n.values, all...)
	return nil
}

// splitNames takes a list apart at the commas that are in no quotes.
func splitNames(text string) (all []string, err error) {
	quoted, from := false, 0
	for i := 0; i < len(text); i++ {
		switch {
		case quoted && text[i] == '\\':
			i++ // a name in quotes is a JSON string
		case text[i] == '"':
			quoted = !quoted
		case text[i] == ',' && !quoted:
			all, from = append(all, strings.TrimSpace(text[from:i])), i+1
		}
	}
	if quoted {
		return nil, fmt.Errorf("%s: a double quote is not closed", text)
	}
	if rest := strings.TrimSpace(text[from:]); rest != "" || len(all) > 0 {
		all = append(all, rest)
	}
	return all, nil
}

// Type implements [pflag.Value].
func (n *Names) Type() string { return "names" }

// String implements [pflag.Value].
func (n *Names) String() string {
	if n.values == nil || len(*n.values) == 0 {
		return ""
	}
	return strings.Join(*n.values, ",")
}

// Append implements [pflag.SliceValue].
func (n *Names) Append(one string) error {
	*n.values = append(*n.values, one)
	return nil
}

// Replace implements [pflag.SliceValue].
func (n *Names) Replace(all []string) error {
	*n.values = all
	return nil
}

// GetSlice implements [pflag.SliceValue].
func (n *Names) GetSlice() []string { return *n.values }
