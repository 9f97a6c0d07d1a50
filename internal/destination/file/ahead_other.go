//go:build !linux

package file

import "os"

// startWriting leaves it to the system when a file comes to the disk.
func startWriting(*os.File, int64, int64) {}
