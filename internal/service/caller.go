package service

import "context"

type callerKey struct{}

// WithCaller notes who makes a call, in words such as "the console", for the log of the
// run.
func WithCaller(ctx context.Context, by string) context.Context {
	return context.WithValue(ctx, callerKey{}, by)
}

// note puts on record what somebody has had done, and through what.
func (s *Service) note(ctx context.Context, level, subject, event, message string) {
	if by, is := ctx.Value(callerKey{}).(string); is {
		message += " (by " + by + ")"
	}
	s.log.tell(level, subject, event, message)
}
