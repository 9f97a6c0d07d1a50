// Package guard turns a panic in one piece of work into an error, so that a fault
// of ours in one source or outlet stops that one and leaves the service alive.
package guard

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"

	"golang.org/x/sync/errgroup"

	"rillmark/internal/engine"
)

// Panic is a panic that was caught, with the stack of the goroutine it was in.
type Panic struct {
	Value any
	Stack []byte
}

// Error names what the panic was raised with; the stack is not part of it.
func (p *Panic) Error() string { return fmt.Sprint(p.Value) }

// Unwrap is the panic's value where that is an error.
func (p *Panic) Unwrap() error {
	err, _ := p.Value.(error)
	return err
}

// Run calls f. Where f panics, the error is a final [engine.Fault] with code
// "internal-error" and a [*Panic] as its cause: the same work would most likely
// panic again, so that a person has to resume it.
func Run(f func() error) (err error) {
	defer func() {
		if v := recover(); v != nil {
			err = &engine.Fault{Code: "internal-error", Final: true, Cause: &Panic{v, debug.Stack()},
				Message: "a fault in Rillmark itself ended this work; nothing was lost, it goes on from what is committed",
				Fix:     "report it with the stack in the service's log; resume to try again, or change the definition so that it does not come to this place"}
		}
	}()
	return f()
}

// Stack is the stack of the panic in an error's chain; empty where there is none.
func Stack(err error) string {
	var p *Panic
	if !errors.As(err, &p) {
		return ""
	}
	return string(p.Stack)
}

// Group is an [errgroup.Group] whose goroutines are each under [Run].
type Group struct{ group *errgroup.Group }

// WithContext is a group, and a context that ends with the first error in it.
func WithContext(ctx context.Context) (*Group, context.Context) {
	group, ctx := errgroup.WithContext(ctx)
	return &Group{group}, ctx
}

// Go starts f.
func (g *Group) Go(f func() error) { g.group.Go(func() error { return Run(f) }) }

// SetLimit bounds how many run at the same time.
func (g *Group) SetLimit(n int) { g.group.SetLimit(n) }

// Wait waits for all of them and is the first one's error.
func (g *Group) Wait() error { return g.group.Wait() }
