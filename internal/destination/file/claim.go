package file

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"rillmark/internal/destination"
	"rillmark/internal/engine"
)

// A folder with an outlet's files belongs to one state database. What says so is a file in it, with
// a token that is made anew at each take-over and is on record there: a copy of the state database
// does not know the newest one, and so cannot cut the files back to where it has come. While two
// services run at once, a lock on that file keeps the second one off, but for one on the same state
// database: that decides by itself who writes.

// owner is what the file says.
type owner struct {
	// Outlet is the outlet's own token; another outlet of this name may follow one that is gone.
	Outlet string `json:"outlet"`
	Claim  string `json:"claim"`
	// State names the state database of who holds the lock.
	State string `json:"state"`
}

// claim makes an outlet's folder its own. The file that it returns holds the lock; it is the
// caller's to close.
func claim(ctx context.Context, folder string, mode os.FileMode, o destination.Outlet) (*os.File, error) {
	if o.Claim == nil {
		return nil, nil // nobody keeps what is claimed
	}
	if err := makeFolder(folder, mode); err != nil {
		return nil, err
	}
	path := filepath.Join(folder, "."+o.Name+".owner")
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, mode)
	if err != nil {
		return nil, err
	}
	if err := claimed(ctx, f, path, o); err != nil {
		f.Close() //nolint:errcheck // the first error is the one to tell
		return nil, err
	}
	return f, nil
}

func claimed(ctx context.Context, f *os.File, path string, o destination.Outlet) error {
	locked, err := lock(f)
	if err != nil {
		return fmt.Errorf("locking %s: %w", path, err)
	}
	raw, err := io.ReadAll(io.LimitReader(f, 4096))
	if err != nil {
		return err
	}
	var is owner
	if len(raw) > 0 && json.Unmarshal(raw, &is) != nil {
		return &engine.Fault{Code: "folder-damaged", Final: true, Message: path + " cannot be read, so that it is not known whose folder it is", Fix: "remove it where no other service writes there"}
	}
	if !locked && is.State != o.Claim.State {
		return &engine.Fault{Code: "folder-in-use", Message: fmt.Sprintf("another service writes the files of outlet %s in %s, on another state database", o.Name, filepath.Dir(path)),
			Fix: "stop that one, or give this outlet's destination another directory; delivery goes on by itself then"}
	}
	if is.Outlet == o.Token && !slices.Contains(o.Claim.Known, is.Claim) {
		return &engine.Fault{Code: "folder-of-another", Final: true, Message: fmt.Sprintf("the files of outlet %s in %s were written on by a service with another copy of this state database: going on here would cut them back", o.Name, filepath.Dir(path)),
			Fix: fmt.Sprintf("give this outlet's destination another directory; or, if that other service is gone for good and its files may be cut back to offset %d, remove %s and resume the outlet", o.Committed, path)}
	}
	var token [16]byte
	rand.Read(token[:]) // never fails
	now := owner{Outlet: o.Token, Claim: hex.EncodeToString(token[:]), State: o.Claim.State}
	// On record first: either of both is known if this ends in between.
	if err := o.Claim.Record(ctx, now.Claim); err != nil {
		return err
	}
	raw, err = json.Marshal(now)
	if err != nil {
		return err
	}
	if err = f.Truncate(0); err == nil {
		if _, err = f.WriteAt(append(raw, '\n'), 0); err == nil {
			err = f.Sync()
		}
	}
	if err != nil {
		return errors.Join(fmt.Errorf("writing %s", path), err)
	}
	syncFolder(filepath.Dir(path))
	return nil
}
