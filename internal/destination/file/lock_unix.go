//go:build unix

package file

import (
	"errors"
	"os"
	"syscall"
)

// lock takes a file's lock, which goes with the file's last handle; false where somebody has it.
func lock(f *os.File) (bool, error) {
	err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	if errors.Is(err, syscall.EWOULDBLOCK) {
		return false, nil
	}
	if errors.Is(err, syscall.ENOTSUP) || errors.Is(err, syscall.ENOLCK) {
		return true, nil // a file system without locks: the token decides
	}
	return err == nil, err
}
