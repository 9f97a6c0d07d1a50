package cli

import (
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"rillmark/internal/cli/terminal"

	"github.com/stretchr/testify/require"
)

var fence = regexp.MustCompile("(?ms)^```[a-z]*\n(.*?)^```")

// documented are the commands in the documentation's blocks, one in a line.
func documented(t *testing.T) map[string]string {
	t.Helper()
	files, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	more, err := filepath.Glob("../../docs/outlets/*.md")
	require.NoError(t, err)
	commands := make(map[string]string)
	for _, file := range append(append(files, more...), "../../README.md") {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, block := range fence.FindAllStringSubmatch(string(text), -1) {
			for _, line := range strings.Split(strings.ReplaceAll(block[1], "\\\n", " "), "\n") {
				commands[strings.TrimSpace(line)] = file
			}
		}
	}
	return commands
}

// words takes a command apart as a shell does, up to a pipe, a comment or a redirection.
func words(line string) (words []string) {
	var b strings.Builder
	quote, begun := rune(0), false
	for _, r := range line + " " {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			b.WriteRune(r)
		case r == '\'' || r == '"':
			quote, begun = r, true
		case r == ' ' || r == '|' || r == '>' || r == '#':
			if begun {
				words = append(words, b.String())
				b.Reset()
				begun = false
			}
			if r != ' ' {
				return words
			}
		default:
			b.WriteRune(r)
			begun = true
		}
	}
	return words
}

// TestDocumentedCommands: each command in the documentation is one that there is, with
// flags and arguments that it takes; each body that curl sends says what it is.
func TestDocumentedCommands(t *testing.T) {
	found := 0
	for line, file := range documented(t) {
		line = strings.TrimPrefix(line, "bin/")
		if strings.HasPrefix(line, "curl ") && strings.Contains(line, " -d ") {
			require.Contains(t, line, "Content-Type: application/json", "%s: %s", file, line)
		}
		if !strings.HasPrefix(line, "rillmark ") {
			continue
		}
		found++
		root := (&app{terminal.NewSession("", nil, io.Discard, io.Discard)}).root()
		command, rest, err := root.Find(words(line)[1:])
		require.NoError(t, err, "%s: %s", file, line)
		require.True(t, command.Runnable(), "%s: %s", file, line)
		require.NoError(t, command.ParseFlags(rest), "%s: %s", file, line)
		require.NoError(t, command.ValidateArgs(command.Flags().Args()), "%s: %s", file, line)
	}
	require.Greater(t, found, 30)
}

// TestExamplesInHelp: the same of the examples that each command shows.
func TestExamplesInHelp(t *testing.T) {
	root := (&app{terminal.NewSession("", nil, io.Discard, io.Discard)}).root()
	for _, group := range append(root.Commands(), root) {
		for _, c := range append(group.Commands(), group) {
			for _, line := range strings.Split(strings.ReplaceAll(c.Example, "\\\n", " "), "\n") {
				line = strings.TrimSpace(line)
				if !strings.HasPrefix(line, "rillmark ") {
					continue
				}
				fresh := (&app{terminal.NewSession("", nil, io.Discard, io.Discard)}).root()
				command, rest, err := fresh.Find(words(line)[1:])
				require.NoError(t, err, line)
				require.NoError(t, command.ParseFlags(rest), line)
				require.NoError(t, command.ValidateArgs(command.Flags().Args()), line)
			}
		}
	}
}
