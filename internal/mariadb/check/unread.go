package check

import (
	"context"
	"fmt"
	"slices"

	"rillmark/internal/engine"
	"rillmark/internal/mariadb/session"
)

// UnreadLog is how much of the log lies behind a place that was reached. A server purges
// its log whether a source has read it or not, but for what a connected reader has before
// it: what matters is how many older files are left.
func UnreadLog(ctx context.Context, c *session.Config, file string, offset int64) (engine.RetainedLog, error) {
	conn, err := c.Connect(ctx, "watch")
	if err != nil {
		return engine.RetainedLog{}, err
	}
	defer conn.Close()
	kept, err := Held(ctx, conn)
	if err != nil {
		return engine.RetainedLog{}, c.Explain(err)
	}
	held := engine.RetainedLog{There: true, Level: engine.RetainedFine}
	at := slices.IndexFunc(kept.Files, func(f LogFile) bool { return f.Name == file })
	if at < 0 {
		held.Level = engine.RetainedUrgent
		held.Advice = fmt.Sprintf("the file %s, where the source goes on, is not among the %d that the server has: it was purged, or the server is another one", file, len(kept.Files))
		return held, nil
	}
	for _, f := range kept.Files[at:] {
		held.Bytes += f.Bytes
	}
	held.Bytes = max(held.Bytes-offset, 0)
	behind := len(kept.Files) - 1 - at
	switch {
	case kept.For == 0 || behind == 0:
	case at == 0:
		held.Level = engine.RetainedUrgent
		held.Advice = fmt.Sprintf("the file %s, where the source goes on, is the oldest that the server has, and %d came since: the server purges a file %s after its last change. Resume the source, or raise binlog_expire_logs_seconds", file, behind, kept.span())
	case at < 2 && behind > 1:
		held.Level = engine.RetainedWarning
		held.Advice = fmt.Sprintf("only %d older files are left before the server purges %s, where the source goes on (%s after its last change). Resume the source, or raise binlog_expire_logs_seconds", at, file, kept.span())
	}
	return held, nil
}
