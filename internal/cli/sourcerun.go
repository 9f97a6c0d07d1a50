package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"rillmark/internal/cli/terminal"
	"rillmark/internal/engine"
	"rillmark/internal/service"
)

func (a *app) sourceRun() *cobra.Command {
	return &cobra.Command{Use: "run NAME", Short: "Let a paused source load and follow until it has caught up, and end",
		Long: "For schedules: loads what is to be loaded, follows what was committed by now, then pauses the\nsource again, and says when there was nothing to do. Exit code 1 where it failed.\n\n" +
			"The source keeps its log for us between runs: see that its disk can hold it.",
		Example: "  rillmark source pause circulation --reason \"runs at night\"\n  rillmark source run circulation", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
			var begun service.SourceRun
			_, err := a.Call(c.Context(), http.MethodPost, "/v1/sources/"+url.PathEscape(args[0])+"/run", nil, &begun)
			if err != nil {
				return err
			}
			return a.sourceRan(c, args[0], begun.Next)
		}}
}

// sourceRan waits until a source that runs once has ended; next is the offset that the
// journal had come to before.
func (a *app) sourceRan(c *cobra.Command, name string, next int64) error {
	return a.watchStatus(c.Context(), func(st *service.Status) (done bool, line string, err error) {
		for _, s := range st.Sources {
			switch {
			case s.Name != name:
			case s.Ended:
				return true, "", a.caughtUp(&s, next)
			case s.Phase == "failed":
				return true, "", fmt.Errorf("source %s failed: %s", name, s.Error)
			case s.Phase == "paused" && !s.Once:
				return true, "", fmt.Errorf("source %s was paused before it had caught up%s", name, because(s.Reason))
			default:
				line = fmt.Sprintf("%s  next offset %s  %s", s.Phase, terminal.Count(s.Journal.Next), strings.TrimSpace(s.Doing+" "+s.Error))
			}
		}
		return false, line, nil
	})
}

// watchStatus asks for the status until look is done, and writes look's line once a
// second.
func (a *app) watchStatus(ctx context.Context, look func(*service.Status) (done bool, line string, err error)) error {
	ticker := time.NewTicker(200 * time.Millisecond)
	defer ticker.Stop()
	for written := time.Now(); ; {
		st, _, err := a.statusNow(ctx)
		if err != nil {
			return err
		}
		done, line, err := look(st)
		if done || err != nil {
			return err
		}
		if line != "" && time.Since(written) > time.Second && !a.JSON {
			written = time.Now()
			fmt.Fprintln(a.Err, line) //nolint:errcheck // a closed terminal
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-ticker.C:
		}
	}
}

func because(reason string) string {
	if reason == "" {
		return ""
	}
	return ": " + reason
}

// caughtUp says what a run has brought.
func (a *app) caughtUp(s *service.SourceStatus, next int64) error {
	raw := fmt.Appendf(nil, `{"events":%d,"next":%d}`, s.Journal.Next-next, s.Journal.Next)
	for _, t := range s.Tables {
		if t.State == engine.StateNotLoaded {
			return fmt.Errorf("source %s has caught up, but %s is not loaded: %s", s.Name, t.Name, t.Note)
		}
	}
	if s.Journal.Next == next {
		return a.done(raw, "source %s: nothing to do, nothing was committed since offset %s", s.Name, terminal.Count(next-1))
	}
	return a.done(raw, "source %s has caught up: %s events, up to offset %s", s.Name, terminal.Count(s.Journal.Next-next), terminal.Count(s.Journal.Next-1))
}
