package base

import "context"

type callerKey struct{}

// WithCaller notes who makes a call, in words such as "the console", for the log of the
// run.
func WithCaller(ctx context.Context, by string) context.Context {
	return context.WithValue(ctx, callerKey{}, by)
}

// Caller is who makes the call; empty where that was not noted.
func Caller(ctx context.Context) string {
	by, _ := ctx.Value(callerKey{}).(string)
	return by
}
