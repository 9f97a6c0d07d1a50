package terminal

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"rillmark/internal/change"
)

// PrintJSON prints an answer as it came, indented.
func (s *Session) PrintJSON(raw []byte) error {
	var b bytes.Buffer
	if err := json.Indent(&b, bytes.TrimSpace(raw), "", "  "); err != nil {
		return err
	}
	b.WriteByte('\n')
	_, err := s.Out.Write(b.Bytes())
	return err
}

// PrintYAML prints an answer as YAML, its fields in their order.
func (s *Session) PrintYAML(raw []byte) error {
	text, err := yaml.JSONToYAML(raw)
	if err != nil {
		return err
	}
	_, err = s.Out.Write(text)
	return err
}

// Table prints rows under a head; a column whose head begins with > is
// right-aligned.
func Table(w io.Writer, head []string, rows [][]string) error {
	widths := make([]int, len(head))
	for i, h := range head {
		widths[i] = len([]rune(strings.TrimPrefix(h, ">")))
	}
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], len([]rune(cell)))
		}
	}
	var out strings.Builder
	line := func(cells []string) {
		var b strings.Builder
		for i, cell := range cells {
			pad := strings.Repeat(" ", widths[i]-len([]rune(cell)))
			if i > 0 {
				b.WriteString("  ")
			}
			if strings.HasPrefix(head[i], ">") {
				b.WriteString(pad + cell)
			} else {
				b.WriteString(cell + pad)
			}
		}
		out.WriteString(strings.TrimRight(b.String(), " ") + "\n")
	}
	titles := make([]string, len(head))
	for i, h := range head {
		titles[i] = strings.ToUpper(strings.TrimPrefix(h, ">"))
	}
	line(titles)
	for _, row := range rows {
		line(row)
	}
	_, err := io.WriteString(w, out.String())
	return err
}

// Count writes a number with thousands separators.
func Count(n int64) string {
	text := strconv.FormatInt(n, 10)
	sign := ""
	if n < 0 {
		sign, text = "-", text[1:]
	}
	var b strings.Builder
	for i, digit := range text {
		if i > 0 && (len(text)-i)%3 == 0 {
			b.WriteByte(',')
		}
		b.WriteRune(digit)
	}
	return sign + b.String()
}

// Size writes bytes in the unit that fits.
func Size(n int64) string {
	const step = 1024
	if n < step {
		return fmt.Sprintf("%d B", n)
	}
	value, units := float64(n), "KMGTP"
	for i := 0; ; i++ {
		value /= step
		if value < step || i == len(units)-1 {
			return fmt.Sprintf("%.1f %ciB", value, units[i])
		}
	}
}

// Seconds writes a duration for people.
func Seconds(s float64) string {
	d := time.Duration(s * float64(time.Second))
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", s)
	default:
		return d.Round(time.Second).String()
	}
}

// Moment writes a time in this machine's zone.
func Moment(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

// MomentOr is a moment that may not be there.
func MomentOr(t *time.Time) string {
	if t == nil {
		return "-"
	}
	return Moment(*t)
}

// Dash is a text, or a dash for none.
func Dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// Shorten cuts a text to n characters.
func Shorten(s string, n int) string {
	r := []rune(s)
	if n < 1 {
		return ""
	}
	if len(r) <= n {
		return s
	}
	return string(r[:n-1]) + "…"
}

// ShowChecks prints what was checked, and of what is not good why that matters and its fix.
func (s *Session) ShowChecks(checks []change.Check) {
	const narrowest = 20
	width := narrowest
	for _, one := range checks {
		width = max(width, len(one.Name))
	}
	// What was found, and what to do, may have several lines.
	lines := func(text string, indent int) string {
		return strings.ReplaceAll(text, "\n", "\n"+strings.Repeat(" ", indent))
	}
	for _, one := range checks {
		fmt.Fprintf(s.Out, "%-8s %-*s %s\n", one.Verdict, width, one.Name, lines(one.Found, 8+width+2)) //nolint:errcheck // a closed terminal
		if one.Verdict == change.Good {
			continue
		}
		for _, more := range []struct{ label, text string }{{"why", one.Why}, {"fix", one.Fix}} {
			if more.text != "" {
				fmt.Fprintf(s.Out, "%-8s   %s: %s\n", "", more.label, lines(more.text, 16)) //nolint:errcheck // a closed terminal
			}
		}
	}
}
