//go:build !linux

package thrift

// RoundSleeps does nothing here: the slack of timers is Linux's.
func RoundSleeps() {}
