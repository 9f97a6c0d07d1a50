package cli

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"os"
	"strings"
	"time"

	"golang.org/x/term"

	"rillmark/internal/cli/terminal"
	"rillmark/internal/engine"
	"rillmark/internal/service"
)

// stateOf is a table's state as a list shows it: with how far a load is.
func stateOf(t service.TableStatus) string {
	if t.State == engine.StateLoading && t.RowsEstimate > 0 {
		return fmt.Sprintf("loading %.0f%%", 100*share(t))
	}
	return t.State
}

// share is how much of a table's load is done. The estimate is the source's own
// and may be too low: a load that goes on is never shown as done.
func share(t service.TableStatus) float64 {
	return min(float64(t.RowsDone)/math.Max(float64(t.RowsEstimate), 1), 0.99)
}

// progressLine is one table's load: a bar, rows, rate and time left.
func progressLine(t service.TableStatus, width int) string {
	const cells = 24
	done := share(t)
	if t.State == engine.StateToLoad || t.State == engine.StateNew {
		done = 0
	}
	full := int(done * cells)
	bar := strings.Repeat("█", full) + strings.Repeat("░", cells-full)
	line := fmt.Sprintf("%-28s %s %3.0f%%  %s of about %s rows", terminal.Shorten(t.Name, 28), bar, 100*done, terminal.Count(t.RowsDone), terminal.Count(t.RowsEstimate))
	if t.LoadRate > 0 {
		line += fmt.Sprintf(", %s/s", terminal.Count(int64(t.LoadRate)))
	}
	if t.SecondsLeft != nil {
		line += ", " + (time.Duration(*t.SecondsLeft) * time.Second).String() + " left"
	}
	if t.State == engine.StateToLoad {
		line += ", waits"
	}
	return terminal.Shorten(line, width)
}

// waitForLoads shows the loads of a source, or of one of its tables, until they
// are done. On a terminal the lines are drawn over; elsewhere one is written now
// and then.
func (a *app) waitForLoads(ctx context.Context, source, only string) error {
	drawn := 0
	terminal := false
	width := 100
	if f, ok := a.Screen.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		terminal = true
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
			width = w
		}
	}
	lastLine := time.Now()
	for {
		st := new(service.Status)
		if _, err := a.Call(ctx, http.MethodGet, "/v1/status", nil, st); err != nil {
			return err
		}
		var lines []string
		found := false
		for _, s := range st.Sources {
			if s.Name != source {
				continue
			}
			if s.Phase == "failed" {
				return errors.New(s.Error)
			}
			found = s.Phase == "running" || s.Ended
			for _, t := range s.Tables {
				switch {
				case only != "" && t.Name != only:
				case t.State == engine.StateNotLoaded && only != "":
					return fmt.Errorf("%s: %s", t.Name, t.Note)
				case t.State == engine.StateNew, t.State == engine.StateToLoad, t.State == engine.StateLoading:
					lines = append(lines, progressLine(t, width))
				}
			}
			found = found && len(s.Tables) > 0
		}
		if !a.JSON && (terminal || time.Since(lastLine) > 5*time.Second) {
			if terminal && drawn > 0 {
				fmt.Fprintf(a.Screen, "\x1b[%dA\x1b[J", drawn) //nolint:errcheck // a closed terminal
			}
			for _, line := range lines {
				fmt.Fprintln(a.Err, line) //nolint:errcheck // a closed terminal
			}
			drawn, lastLine = len(lines), time.Now()
		}
		if found && len(lines) == 0 {
			return nil
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(500 * time.Millisecond):
		}
	}
}
