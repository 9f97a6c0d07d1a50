package base

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"rillmark/internal/catalog"
)

// maxPendingLog bounds what waits for a state database that is away.
const maxPendingLog = 2000

// runLog records what happens twice: as structured log lines at once, and in the
// state database for people to read, as soon as it takes them.
type runLog struct {
	logger *slog.Logger
	// Conceal takes out of messages what is not to be shown; nil for none.
	Conceal func(string) string

	mu      sync.Mutex
	pending []catalog.LogEntry
	wake    chan struct{}
}

func NewRunLog(logger *slog.Logger) *runLog {
	return &runLog{logger: logger, wake: make(chan struct{}, 1)}
}

// Log writes a line in the log of the run. level is info, warn or error; subject what
// it is about, such as source/circulation.
func (s *Common) Log(level, subject, event, message string) {
	s.RunLog.Write(level, subject, event, message)
}

func (l *runLog) Write(level, subject, event, message string) {
	if l.Conceal != nil {
		message = l.Conceal(message)
	}
	var at slog.Level
	switch level {
	case "warn":
		at = slog.LevelWarn
	case "error":
		at = slog.LevelError
	}
	l.logger.Log(context.Background(), at, message, "subject", subject, "event", event)
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.pending) >= maxPendingLog {
		l.pending = append(l.pending[:0], l.pending[maxPendingLog/2:]...)
	}
	l.pending = append(l.pending, catalog.LogEntry{At: time.Now(), Level: level, Subject: subject, Event: event, Message: message})
	select {
	case l.wake <- struct{}{}:
	default:
	}
}

// Keep stores pending lines until ctx is done, and once more then.
func (l *runLog) Keep(ctx context.Context, c *catalog.Catalog) {
	retry := time.Duration(0)
	for {
		var timer <-chan time.Time
		if retry > 0 {
			timer = time.After(retry)
		}
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
			defer cancel()
			l.store(last, c) //nolint:errcheck // the structured log has them
			return
		case <-l.wake:
		case <-timer:
		}
		if err := l.store(ctx, c); err != nil {
			retry = time.Second
		} else {
			retry = 0
		}
	}
}

func (l *runLog) store(ctx context.Context, c *catalog.Catalog) error {
	l.mu.Lock()
	batch := l.pending
	l.pending = nil
	l.mu.Unlock()
	if len(batch) == 0 {
		return nil
	}
	err := c.AppendLog(ctx, batch)
	if err != nil {
		l.mu.Lock()
		l.pending = append(batch, l.pending...)
		l.mu.Unlock()
	}
	return err
}
