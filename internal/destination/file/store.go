package file

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"sort"
	"strings"
)

// store is where whole files have their place. Names use slashes.
type store interface {
	// aside is the path of a local file that becomes name.
	aside(spool, name string) string
	// place moves the local file at path into its place, whole.
	place(ctx context.Context, path, name string) error
	// put writes a small file whole.
	put(ctx context.Context, name string, content []byte) error
	get(ctx context.Context, name string) ([]byte, error)
	// list gives the names in a folder, sorted.
	list(ctx context.Context, folder string) ([]string, error)
	remove(ctx context.Context, name string) error
}

// openSuffix marks a file of a directory that is still being written.
const openSuffix = ".open"

type directory struct {
	root string
	mode os.FileMode
}

func newDirectory(root string, mode os.FileMode) (*directory, error) {
	return &directory{root, mode}, makeFolder(root, mode)
}

// makeFolder makes a folder with those above it, of the mode that goes with the files'.
func makeFolder(path string, mode os.FileMode) error {
	return os.MkdirAll(path, folderMode(mode))
}

func (d *directory) path(name string) string { return filepath.Join(d.root, filepath.FromSlash(name)) }

func (d *directory) aside(_, name string) string { return d.path(name) + openSuffix }

func (d *directory) place(_ context.Context, path, name string) error {
	if err := os.Rename(path, d.path(name)); err != nil {
		return err
	}
	syncFolder(filepath.Dir(path))
	return nil
}

// syncFolder makes names survive a crash of the machine.
func syncFolder(folder string) {
	if f, err := os.Open(folder); err == nil {
		f.Sync()  //nolint:errcheck // not every file system can
		f.Close() //nolint:errcheck // it was only read
	}
}

func (d *directory) put(_ context.Context, name string, content []byte) error {
	path := d.path(name)
	if err := makeFolder(filepath.Dir(path), d.mode); err != nil {
		return err
	}
	aside, err := os.CreateTemp(filepath.Dir(path), ".aside-*")
	if err != nil {
		return err
	}
	defer os.Remove(aside.Name()) //nolint:errcheck // it has its name by then
	_, err = aside.Write(content)
	if err == nil {
		err = aside.Chmod(d.mode)
	}
	if err == nil {
		err = aside.Sync()
	}
	if closing := aside.Close(); err == nil {
		err = closing
	}
	if err != nil {
		return err
	}
	if err := os.Rename(aside.Name(), path); err != nil {
		return err
	}
	syncFolder(filepath.Dir(path))
	return nil
}

func (d *directory) get(_ context.Context, name string) ([]byte, error) {
	return os.ReadFile(d.path(name))
}

func (d *directory) list(_ context.Context, folder string) ([]string, error) {
	entries, err := os.ReadDir(d.path(folder))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	var names []string
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), ".") {
			names = append(names, folder+"/"+e.Name())
		}
	}
	sort.Strings(names)
	return names, err
}

func (d *directory) remove(_ context.Context, name string) error {
	err := os.Remove(d.path(name))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}
