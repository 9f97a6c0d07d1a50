// Package localfile reads files that a definition names. Somebody else has written its path: it may
// be a device without an end, or a pipe that nobody writes.
package localfile

import (
	"fmt"
	"io"
	"io/fs"
	"os"
	"syscall"
)

// MostText is the size of a certificate, a key or a secret, in bytes.
const MostText = 1 << 20

// opening does not wait for the other end of a pipe.
const opening = os.O_RDONLY | syscall.O_NONBLOCK

// Read reads a regular file of up to a number of bytes.
func Read(path string, most int64) ([]byte, error) {
	f, err := os.OpenFile(path, opening, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close() //nolint:errcheck // it was only read
	if _, err := regular(f, path, most); err != nil {
		return nil, err
	}
	text, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(text)) > most {
		err = tooLarge(path, most)
	}
	return text, err
}

// Check is Read for a file that somebody else reads then.
func Check(path string, most int64) error {
	f, err := os.OpenFile(path, opening, 0)
	if err != nil {
		return err
	}
	defer f.Close() //nolint:errcheck // it was only looked at
	_, err = regular(f, path, most)
	return err
}

// Open opens a regular file of up to a number of bytes within a folder; its size is given back.
func Open(within *os.Root, path string, most int64) (*os.File, int64, error) {
	f, err := within.OpenFile(path, opening, 0)
	if err != nil {
		return nil, 0, err
	}
	size, err := regular(f, path, most)
	if err != nil {
		f.Close() //nolint:errcheck // it was only looked at
		return nil, 0, err
	}
	return f, size, nil
}

func regular(f *os.File, path string, most int64) (size int64, err error) {
	info, err := f.Stat()
	switch {
	case err != nil:
		return 0, err
	case !info.Mode().IsRegular():
		return 0, &fs.PathError{Op: "read", Path: path, Err: fmt.Errorf("it is no regular file")}
	case info.Size() > most:
		return 0, tooLarge(path, most)
	}
	return info.Size(), nil
}

func tooLarge(path string, most int64) error {
	return &fs.PathError{Op: "read", Path: path, Err: fmt.Errorf("it has more than %d KiB", most>>10)}
}
