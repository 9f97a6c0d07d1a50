package thrift

import (
	"os"
	"runtime"
	"syscall"

	"golang.org/x/sys/unix"
)

// slack is how late the kernel may wake a thread whose pause is over. By default it is 50
// microseconds, at which the runtime's monitor, which pauses for 20 while anything runs, takes
// a fifth of what a service at rest takes in all. Nothing that we wait for by a timer is
// shorter than a few milliseconds; what is, asks the kernel for a timer of its own.
const slack = 1_000_000 // nanoseconds

// Relax allows the kernel to wake the threads of this process a millisecond late. The runtime
// has started its monitor before any of our code runs, and a thread's slack is that of the one
// that started it: so the program is started anew in its place, with its process id, arguments
// and environment. It is for the first line of main; where it cannot be, all stays as it is.
func Relax() {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	now, err := unix.PrctlRetInt(unix.PR_GET_TIMERSLACK, 0, 0, 0, 0)
	if err != nil || now >= slack {
		return // it is the second time, or whoever started it has seen to it
	}
	path, err := os.Executable()
	if err != nil || unix.Prctl(unix.PR_SET_TIMERSLACK, slack, 0, 0, 0) != nil {
		return
	}
	syscall.Exec(path, os.Args, os.Environ()) //nolint:errcheck // then it goes on as it is; the path is this program's own
}
