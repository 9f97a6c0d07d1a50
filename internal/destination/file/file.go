// Package file delivers to files: lines of JSON, Avro object containers or
// Parquet, in a directory or in a bucket of an object storage.
//
// A file is written under a temporary name and moved into its place; the manifest then
// lists it with its offsets, so that a reader who follows the manifest takes
// each event exactly once. Lines of JSON that go to a directory uncompressed can
// be read while the file grows: its name ends in .open until it is whole.
//
// What is durable: such lines at each flush, everything else when its file is
// in its place. After a crash, delivery goes on behind that.
package file

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/netguard"
)

// Destination is a directory, or a bucket.
type Destination struct {
	directory string // where there is no bucket
	bucket    *Bucket
	// spool is where files of a bucket are written before they are uploaded.
	spool   string
	format  encode.Format
	options *OutletSettings
	dial    netguard.Dial // of a bucket
	// mode is that of files, and with the right to enter for those who may read, of
	// folders.
	mode os.FileMode
}

// folderMode lets those enter a folder who may read the files in it.
func folderMode(files os.FileMode) os.FileMode { return files | files&0o444>>2 | 0o700 }

var _ destination.Destination = (*Destination)(nil)

// Capabilities implements [destination.Destination].
func (d *Destination) Capabilities() encode.Capabilities {
	rows := d.format == encode.FormatParquet || d.format == encode.FormatAvro
	return encode.Capabilities{Bare: true, Lines: !rows, Followed: true, Late: rows || d.bucket != nil || d.options.Compression != "none"}
}

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
	// The part that exists must not lead out through a link; what is above the root is
	// the administrator's own.
	named := root
	if real, err := filepath.EvalSymlinks(root); err == nil {
		root = real
	}
	for at := place; within(named, at); at = filepath.Dir(at) {
		real, err := filepath.EvalSymlinks(at)
		if err == nil {
			if !within(root, real) {
				return "", outside(named, directory)
			}
			break
		}
		if _, missing := os.Lstat(at); missing == nil {
			return "", outside(named, directory) // a link that leads nowhere may lead anywhere later
		}
	}
	return place, nil
}

func within(root, place string) bool {
	return place == root || strings.HasPrefix(place, strings.TrimSuffix(root, "/")+"/")
}

func outside(root, directory string) error {
	return &engine.Fault{Code: "path-outside", Message: fmt.Sprintf("the directory %q lies outside of the service's files_root %s", directory, root),
		Fix: "choose a directory below it, or change files_root and restart the service"}
}

// Check implements [destination.Destination].
func (d *Destination) Check(ctx context.Context) []change.Check {
	if d.bucket != nil {
		return d.checkBucket(ctx)
	}
	check := change.Check{Name: "directory", Verdict: change.Good, Found: d.directory + " can be written to"}
	at := d.directory
	if _, err := os.Stat(at); errors.Is(err, os.ErrNotExist) {
		check.Found = d.directory + " is not there yet and will be made"
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

func fault(err error) error {
	var path *os.PathError
	if errors.As(err, &path) {
		return &engine.Fault{Code: "file", Message: "cannot " + path.Op + " " + path.Path, Cause: path.Err}
	}
	return err
}

// Open implements [destination.Destination].
func (d *Destination) Open(ctx context.Context, o destination.Outlet) (destination.Writer, error) {
	age, err := time.ParseDuration(d.options.RotateEvery)
	if err != nil {
		return nil, err
	}
	w := &writer{d: d, outlet: o, age: age, open: make(map[openOf]*openFile), at: o.Committed,
		byTable: strings.Contains(d.options.Name, "{table}"), byHour: strings.Contains(d.options.Name, "{date}") || strings.Contains(d.options.Name, "{hour}")}
	if d.bucket != nil {
		w.store, err = newBucket(d.bucket, d.dial)
	} else {
		w.store, err = newDirectory(d.directory, d.mode)
	}
	if err != nil {
		return nil, fault(err)
	}
	place := d.directory
	if d.bucket != nil {
		place = d.spool
	}
	if w.owned, err = claim(ctx, place, d.mode, o); err != nil {
		return nil, fault(err)
	}
	if err := w.resume(ctx); err != nil {
		w.Close() //nolint:errcheck // the first error is the one to tell
		return nil, fault(err)
	}
	return w, nil
}
