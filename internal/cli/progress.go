package cli

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/term"

	"rillmark/internal/capture"
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
	lastLine, told := time.Now(), ""
	var waiting loadWait
	for {
		st, _, err := a.statusNow(ctx)
		if err != nil {
			return err
		}
		var lines []string
		for _, t := range loadsOf(st, source, only) {
			lines = append(lines, progressLine(t, width))
		}
		done, says, err := waiting.look(st, source, only, time.Now())
		if err != nil {
			return err
		}
		if says != "" && says != told && !a.JSON {
			fmt.Fprintln(a.Err, says) //nolint:errcheck // a closed terminal
			told, drawn = says, 0
		}
		if says == "" && waiting.since.IsZero() {
			told = "" // it runs: what comes now is new
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
		if done {
			return nil
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// loadsOf are the tables whose loads are waited for.
func loadsOf(st *service.Status, source, only string) (tables []service.TableStatus) {
	for _, s := range st.Sources {
		for _, t := range s.Tables {
			if s.Name == source && (only == "" || t.Name == only) && (t.State == engine.StateNew || t.State == engine.StateToLoad || t.State == engine.StateLoading) {
				tables = append(tables, t)
			}
		}
	}
	return tables
}

// loadWait decides when there is nothing more to wait for: all is loaded, or what stands in the way
// does not pass by itself.
type loadWait struct {
	ran   bool      // the source has run since the wait began
	since time.Time // since when nothing that is waited for can come
}

const (
	// longestStart is how long a source that has not run yet may take to get over a fault; one that
	// has is waited for, and its fault shown.
	longestStart = time.Minute
	// longestEmpty is how long a source that runs may have no table, or be paused, before the wait ends.
	longestEmpty = 10 * time.Second
)

// look says, in a line for people, what stands in the way.
func (w *loadWait) look(st *service.Status, source, only string, now time.Time) (done bool, says string, err error) {
	i := slices.IndexFunc(st.Sources, func(s service.SourceStatus) bool { return s.Name == source })
	if i < 0 {
		return false, "", fmt.Errorf("source %s has gone", source)
	}
	s, left := &st.Sources[i], len(loadsOf(st, source, only))
	for _, t := range s.Tables {
		if only == t.Name && t.State == engine.StateNotLoaded {
			return false, "", fmt.Errorf("%s: %s", t.Name, t.Note)
		}
	}
	lasts := func(longest time.Duration) bool {
		if w.since.IsZero() {
			w.since = now
		}
		return now.Sub(w.since) > longest
	}
	switch s.Phase {
	case capture.PhaseFailed:
		return false, "", errors.New(s.Error)
	case capture.PhaseWaiting:
		if lasts(longestStart) && !w.ran {
			return false, "", fmt.Errorf("source %s has not begun to read within %s: %s. It goes on trying; `rillmark source show %s` says how it stands", source, longestStart, s.Error, source)
		}
		return false, "source " + source + " waits, and tries again: " + s.Error, nil
	case capture.PhasePaused:
		if s.Ended {
			return left == 0, "", nil
		}
		if lasts(longestEmpty) {
			return false, "", fmt.Errorf("nothing is loaded while source %s is paused%s", source, because(s.Reason))
		}
		return false, "", nil
	case capture.PhaseRunning:
		w.ran = true
		if len(s.Tables) == 0 {
			if lasts(longestEmpty) {
				return false, "", fmt.Errorf("source %s runs, but no table of its database matches its rules: there is nothing to load. `rillmark source tables %s` shows what it could capture", source, source)
			}
			return false, "", nil
		}
		w.since = time.Time{}
		return left == 0, "", nil
	case capture.PhaseStandby: // another instance captures it: its tables are on record
		return len(s.Tables) > 0 && left == 0, "source " + source + " is captured by another instance", nil
	}
	return false, "", nil // it starts
}
