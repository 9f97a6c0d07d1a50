package engine

import (
	"errors"
	"strings"
)

// Fault is an error that a person can act on.
type Fault struct {
	// Code is stable and part of the public contract.
	Code string
	// Message says what is wrong and where, in one sentence without a full stop.
	Message string
	// Fix says what to do; empty where waiting is all there is.
	Fix string
	// Final faults are not tried again by themselves: going on could lose or
	// double something.
	Final bool
	// Cause is the error underneath; its text is part of Error.
	Cause error
}

// Error is message, cause and fix in one line.
func (f *Fault) Error() string {
	var b strings.Builder
	b.WriteString(f.Message)
	if f.Cause != nil {
		b.WriteString(": ")
		b.WriteString(f.Cause.Error())
	}
	if f.Fix != "" {
		b.WriteString(". Fix: ")
		b.WriteString(f.Fix)
	}
	return b.String()
}

// Unwrap is the cause.
func (f *Fault) Unwrap() error { return f.Cause }

// IsFinal reports whether trying again without a person's word is wrong.
func IsFinal(err error) bool {
	var f *Fault
	return errors.As(err, &f) && f.Final
}
