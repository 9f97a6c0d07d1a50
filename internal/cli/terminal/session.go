// Package terminal is one command line's session: what it reads and prints, its calls of the
// service's API, and the exit codes that errors lead to. Whatever others have written, names
// and rows, is printed so that it cannot steer the terminal.
package terminal

import "io"

// Session is a person or a script at one command line: what it reads and writes, and the
// service that it speaks to.
type Session struct {
	version string // the client's
	In      io.Reader
	// Out and Err are written to as plain text; Screen is Err as it is, for drawing over lines.
	Out, Err, Screen io.Writer
	// JSON asks for answers as they come.
	JSON   bool
	Server string
}

// NewSession is a session in which nothing that others have written can steer the terminal.
func NewSession(version string, in io.Reader, out, errs io.Writer) Session {
	return Session{version: version, In: in, Out: Plain{out}, Err: Plain{errs}, Screen: errs}
}
