package wire

import (
	"os"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// pauser waits for less than a millisecond, by a timer of the kernel. The runtime's own
// timers are a millisecond at least where nothing else is to be done, and its monitor wakes
// up again and again from when one is due until it has fired.
type pauser struct {
	timer *os.File // nil where the kernel has none
	raw   syscall.RawConn
}

func newPauser() pauser {
	fd, err := unix.TimerfdCreate(unix.CLOCK_MONOTONIC, unix.TFD_CLOEXEC|unix.TFD_NONBLOCK)
	if err != nil {
		return pauser{}
	}
	timer := os.NewFile(uintptr(fd), "timer")
	raw, err := timer.SyscallConn()
	if err != nil {
		timer.Close() //nolint:errcheck // nothing was written
		return pauser{}
	}
	return pauser{timer: timer, raw: raw}
}

// wait returns after the given time, or once the pauser is closed.
func (p pauser) wait(pause time.Duration) {
	if p.timer == nil {
		time.Sleep(pause) //nolint:forbidigo // the pause is what it is for
		return
	}
	set := false
	p.raw.Read(func(fd uintptr) bool { //nolint:errcheck // closed: whoever reads next learns of it
		if set {
			return true
		}
		set = true
		once := unix.ItimerSpec{Value: unix.NsecToTimespec(int64(pause))}
		return unix.TimerfdSettime(int(fd), 0, &once, nil) != nil
	})
}

func (p pauser) close() {
	if p.timer != nil {
		p.timer.Close() //nolint:errcheck // nothing was written
	}
}
