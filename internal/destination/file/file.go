// Package file delivers to files in a directory: one event a line, in files that
// are closed by size and age. A file's name says the outlet, its run and the
// first offset in it: archive.1.00000000000000000001.ndjson.
//
// The newest file is its own record of what was delivered: after a crash a torn
// last line is cut off, and delivery goes on behind the last whole one.
package file

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/engine"
)

// Destination is a directory.
type Destination struct {
	Directory string
	// RotateBytes and RotateAge close a file.
	RotateBytes int64
	RotateAge   time.Duration
}

var _ destination.Destination = (*Destination)(nil)

// Place is the directory that a definition names below root. A directory
// outside of root is refused, symbolic links included.
func Place(root, directory string) (string, error) {
	if root == "" {
		return "", &engine.Fault{Code: "files-not-allowed", Message: "this service writes no files: its configuration has no files_root", Fix: "set files_root and restart the service"}
	}
	root, err := filepath.Abs(root)
	if err != nil {
		return "", err
	}
	place := directory
	if !filepath.IsAbs(place) {
		place = filepath.Join(root, place)
	}
	place = filepath.Clean(place)
	if !within(root, place) {
		return "", outside(root, directory)
	}
	// The part that exists must not lead out through a link.
	if real, err := filepath.EvalSymlinks(root); err == nil {
		root = real
	}
	for at := place; ; at = filepath.Dir(at) {
		real, err := filepath.EvalSymlinks(at)
		if err == nil {
			if !within(root, real) && !within(real, root) {
				return "", outside(root, directory)
			}
			return place, nil
		}
		if at == filepath.Dir(at) {
			return place, nil
		}
	}
}

func within(root, place string) bool {
	return place == root || strings.HasPrefix(place, strings.TrimSuffix(root, "/")+"/")
}

func outside(root, directory string) error {
	return &engine.Fault{Code: "path-outside", Message: fmt.Sprintf("the directory %q lies outside of the service's files_root %s", directory, root),
		Fix: "choose a directory below it, or change files_root and restart the service"}
}

// Check implements [destination.Destination].
func (d *Destination) Check(context.Context) []change.Check {
	check := change.Check{Name: "directory", Verdict: change.Good, Found: d.Directory + " can be written to"}
	at := d.Directory
	if _, err := os.Stat(at); errors.Is(err, os.ErrNotExist) {
		check.Found = d.Directory + " is not there yet and will be made"
		for at != filepath.Dir(at) {
			at = filepath.Dir(at)
			if _, err := os.Stat(at); err == nil {
				break
			}
		}
	}
	probe, err := os.CreateTemp(at, ".rillmark-check-*")
	if err != nil {
		check.Verdict, check.Found = change.Missing, "cannot write to "+at+": "+bare(err)
		check.Fix = "let the service's user write there"
		return []change.Check{check}
	}
	probe.Close()           //nolint:errcheck // nothing was written
	os.Remove(probe.Name()) //nolint:errcheck // an empty file is all that could be left
	return []change.Check{check}
}

// bare is an error of the file system without the path, which is named already.
func bare(err error) string {
	var path *os.PathError
	if errors.As(err, &path) {
		return path.Err.Error()
	}
	return err.Error()
}

// writer is one outlet's delivery.
type writer struct {
	*Destination
	outlet    destination.Outlet
	delivered int64
	file      *os.File
	buffer    *bufio.Writer
	size      int64
	began     time.Time
}

const extension = ".ndjson"

// Open implements [destination.Destination].
func (d *Destination) Open(_ context.Context, o destination.Outlet) (destination.Writer, error) {
	if err := os.MkdirAll(d.Directory, 0o755); err != nil {
		return nil, fault(err)
	}
	w := &writer{Destination: d, outlet: o, delivered: o.Committed}
	if err := w.resume(); err != nil {
		return nil, fault(err)
	}
	return w, nil
}

func fault(err error) error {
	var path *os.PathError
	if errors.As(err, &path) {
		return &engine.Fault{Code: "file", Message: "cannot " + path.Op + " " + path.Path, Cause: path.Err}
	}
	return err
}

func (w *writer) prefix() string { return w.outlet.Name + "." + strconv.Itoa(w.outlet.Run) + "." }

// resume finds this run's newest file and goes on in it.
func (w *writer) resume() error {
	names, err := filepath.Glob(filepath.Join(w.Directory, w.prefix()+"*"+extension))
	if err != nil {
		return err
	}
	if len(names) == 0 {
		return nil
	}
	sort.Strings(names)
	newest := names[len(names)-1]
	f, err := os.OpenFile(newest, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	end, last, err := lastWhole(f)
	if err == nil {
		err = f.Truncate(end)
	}
	if err == nil {
		_, err = f.Seek(end, io.SeekStart)
	}
	if err != nil {
		f.Close() //nolint:errcheck // the first error is the one to tell
		return err
	}
	info, err := f.Stat()
	if err != nil {
		f.Close() //nolint:errcheck // the first error is the one to tell
		return err
	}
	w.file, w.size, w.began = f, end, info.ModTime()
	w.buffer = bufio.NewWriterSize(f, 256<<10)
	w.delivered = max(w.delivered, last)
	return nil
}

// lastWhole finds where a file's last whole line ends and its offset; 0 and 0 in
// a file without one. It reads backwards in growing steps.
func lastWhole(f *os.File) (end, offset int64, err error) {
	info, err := f.Stat()
	if err != nil {
		return 0, 0, err
	}
	size := info.Size()
	for step := int64(64 << 10); ; step *= 4 {
		from := max(size-step, 0)
		tail := make([]byte, size-from)
		if _, err := f.ReadAt(tail, from); err != nil && !errors.Is(err, io.EOF) {
			return 0, 0, err
		}
		stop := bytes.LastIndexByte(tail, '\n')
		if stop < 0 {
			if from == 0 {
				return 0, 0, nil
			}
			continue
		}
		start := bytes.LastIndexByte(tail[:stop], '\n') + 1
		if start == 0 && from > 0 {
			continue // the line begins further ahead
		}
		var line struct {
			Sequence string `json:"sequence"`
		}
		if err := json.Unmarshal(tail[start:stop], &line); err != nil {
			return 0, 0, fmt.Errorf("the last whole line of %s is not one of ours: %w", f.Name(), err)
		}
		offset, err := strconv.ParseInt(line.Sequence, 10, 64)
		if err != nil {
			return 0, 0, fmt.Errorf("the last whole line of %s has no sequence: %w", f.Name(), err)
		}
		return from + int64(stop) + 1, offset, nil
	}
}

// Delivered implements [destination.Writer].
func (w *writer) Delivered() int64 { return w.delivered }

// Write implements [destination.Writer].
func (w *writer) Write(ctx context.Context, offset int64, encoded []byte) error {
	if w.file != nil && w.size > 0 && (w.size+int64(len(encoded)) > w.RotateBytes || time.Since(w.began) > w.RotateAge) {
		if err := w.Flush(ctx); err != nil {
			return err
		}
		if err := w.Close(); err != nil {
			return fault(err)
		}
	}
	if w.file == nil {
		if err := w.create(offset); err != nil {
			return fault(err)
		}
	}
	_, err := w.buffer.Write(encoded)
	if err == nil {
		err = w.buffer.WriteByte('\n')
	}
	w.size += int64(len(encoded)) + 1
	return fault(err)
}

func (w *writer) create(first int64) error {
	name := filepath.Join(w.Directory, fmt.Sprintf("%s%020d%s", w.prefix(), first, extension))
	f, err := os.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	// The name has to survive a crash of the machine, too.
	if dir, err := os.Open(w.Directory); err == nil {
		dir.Sync()  //nolint:errcheck // not every file system can
		dir.Close() //nolint:errcheck // it was only read
	}
	w.file, w.size, w.began = f, 0, time.Now()
	w.buffer = bufio.NewWriterSize(f, 256<<10)
	return nil
}

// Show implements [destination.Writer].
func (w *writer) Show() error {
	if w.buffer == nil {
		return nil
	}
	return fault(w.buffer.Flush())
}

// Flush implements [destination.Writer].
func (w *writer) Flush(context.Context) error {
	if w.file == nil {
		return nil
	}
	if err := w.buffer.Flush(); err != nil {
		return fault(err)
	}
	return fault(w.file.Sync())
}

// Close implements [destination.Writer].
func (w *writer) Close() error {
	if w.file == nil {
		return nil
	}
	err := w.file.Close()
	w.file, w.buffer = nil, nil
	return err
}
