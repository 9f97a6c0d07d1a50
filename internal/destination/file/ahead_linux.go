package file

import (
	"os"

	"golang.org/x/sys/unix"
)

// startWriting has the kernel begin to bring a part of a file to the disk, so that
// a sync finds little left to wait for. It only hurries what happens anyway.
func startWriting(f *os.File, from, bytes int64) {
	raw, err := f.SyscallConn()
	if err != nil {
		return
	}
	raw.Control(func(fd uintptr) { //nolint:errcheck // the file is open
		unix.SyncFileRange(int(fd), from, bytes, unix.SYNC_FILE_RANGE_WRITE) //nolint:errcheck // not every file system can
	})
}
