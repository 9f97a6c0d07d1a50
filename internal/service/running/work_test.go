package running

import (
	"bytes"
	"context"
	"log/slog"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/catalog"
	"rillmark/internal/service/base"
)

// TestStuck: what does not end when it is asked to is given up in its time, named in the log, and in
// the way of nothing else; once it has ended it can run again.
func TestStuck(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var log bytes.Buffer
		common := &base.Common{RunLog: base.NewRunLog(slog.New(slog.NewTextHandler(&log, nil)))}
		common.Work = t.Context()
		s := New(common)
		release := make(chan struct{})
		runs := make(chan string, 10)
		begin := func(name string, run func(context.Context)) *Outlet {
			one := &Outlet{Record: &catalog.Outlet{Name: name}}
			one.begin(s, func(ctx context.Context) {
				runs <- name
				run(ctx)
			})
			s.outlets[name] = one
			return one
		}
		stuck := begin("stuck", func(context.Context) { <-release })
		other := begin("other", func(ctx context.Context) { <-ctx.Done() })

		ending := make(map[string]ended)
		require.False(t, free(&stuck.work, "outlet/stuck", ending))
		require.True(t, ending["outlet/stuck"].mine)
		began := time.Now()
		other.ask()
		require.True(t, other.wait())
		require.Zero(t, time.Since(began), "nothing of the other one waits")
		require.False(t, stuck.wait())
		require.Equal(t, stopTime, time.Since(began))
		require.True(t, stuck.giveUp())
		require.False(t, stuck.giveUp(), "the log has it once")
		clear(ending)
		require.False(t, free(&stuck.work, "outlet/stuck", ending))
		require.Empty(t, ending, "what was given up is not waited for again")
		_, err := s.OutletStill("stuck")
		require.ErrorContains(t, err, "outlet/stuck does not stop within 4s")
		require.Equal(t, stopTime, time.Since(began))
		s.StopAll()
		require.Equal(t, stopTime, time.Since(began))
		require.Contains(t, log.String(), "subject=outlet/stuck event=stuck")
		require.NotContains(t, log.String(), "subject=outlet/other")

		close(release)
		synctest.Wait()
		require.True(t, free(&stuck.work, "outlet/stuck", ending))
		goOn, err := s.OutletStill("other")
		require.NoError(t, err)
		require.False(t, free(&other.work, "outlet/other", ending), "it is kept still")
		s.dropOutlet("other", ending)
		goOn()
		common.Done.Wait()
		require.Len(t, runs, 2, "what was removed meanwhile does not go on")
	})
}
