package terminal

import (
	"fmt"

	"rillmark/internal/engine"
)

// The exit codes, which scripts may depend on.
const (
	ExitOK          = 0
	ExitFailed      = 1 // something failed that none of the others names
	ExitUsage       = 2 // the command line, or a file that it names, is wrong
	ExitRefused     = 3 // the service refused: there is no such thing, a name is taken, a definition is wrong
	ExitUnreachable = 4 // the service cannot be reached
	ExitNotReady    = 5 // a check found something missing
)

// ExitCodes are they, for people.
const ExitCodes = `Exit codes:
  0  done
  1  failed
  2  the command line, or a file that it names, is wrong
  3  the service refused: no such thing, a name that is taken, a wrong definition
  4  the service cannot be reached
  5  a check found something missing`

// Coded is an error with the exit code that goes with it.
type Coded struct {
	// Code is the process's.
	Code int
	err  error
}

// WithCode is an error that ends the command with an exit code.
func WithCode(code int, err error) error { return &Coded{code, err} }

// Error implements error.
func (c *Coded) Error() string { return c.err.Error() }

// Unwrap is what went wrong.
func (c *Coded) Unwrap() error { return c.err }

// Usage is the error of a command line that is wrong.
func Usage(format string, args ...any) error {
	return &Coded{ExitUsage, fmt.Errorf(format, args...)}
}

// faultText is a problem as a person reads it.
func faultText(message, fix string) string {
	return (&engine.Fault{Message: message, Fix: fix}).Error()
}
