package asof

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"go.etcd.io/bbolt"
)

// store keeps rows by their keys: in memory up to a limit, and in a file of its own beyond.
type store struct {
	dir     string
	limit   int
	memory  map[string][]byte // beyond the limit, what is not in the file yet; nil for what is gone
	bytes   int
	db      *bbolt.DB
	scratch []byte
}

// pendingBytes are kept back before they go into the file.
const pendingBytes = 8 << 20

var bucket = []byte("rows")

// longestKey is how long a key in the file may be; a longer one stands as its hash.
const longestKey = 1 << 10

func fileKey(key string) string {
	if len(key) <= longestKey {
		return key
	}
	sum := sha256.Sum256([]byte(key))
	return string(sum[:])
}

// get is a row, good until the next call; nil where there is none.
func (s *store) get(key string) ([]byte, error) {
	key = fileKey(key)
	if row, known := s.memory[key]; known || s.db == nil {
		return row, nil
	}
	err := s.db.View(func(tx *bbolt.Tx) error {
		s.scratch = append(s.scratch[:0], tx.Bucket(bucket).Get([]byte(key))...)
		return nil
	})
	if len(s.scratch) == 0 {
		return nil, err
	}
	return s.scratch, err
}

// put keeps a row, which nobody changes any more; nil takes it out.
func (s *store) put(key string, row []byte) error {
	key = fileKey(key)
	if s.memory == nil {
		s.memory = make(map[string][]byte)
	}
	if old, known := s.memory[key]; known {
		s.bytes -= len(key) + len(old) + entryBytes
	}
	if row == nil && s.db == nil {
		delete(s.memory, key)
		return nil
	}
	s.memory[key] = row
	s.bytes += len(key) + len(row) + entryBytes
	switch {
	case s.db == nil && s.bytes > s.limit:
		if err := s.open(); err != nil {
			return err
		}
		return s.flush()
	case s.db != nil && s.bytes > pendingBytes:
		return s.flush()
	}
	return nil
}

// entryBytes is about what a row takes in memory besides its texts.
const entryBytes = 64

func (s *store) open() error {
	folder, err := os.MkdirTemp(s.dir, "rillmark-rows-")
	if err != nil {
		return fmt.Errorf("making a folder for rows that memory has no room for: %w", err)
	}
	s.db, err = bbolt.Open(filepath.Join(folder, "rows"), 0o600, &bbolt.Options{NoSync: true, NoFreelistSync: true, NoGrowSync: true, FreelistType: bbolt.FreelistMapType})
	if err != nil {
		os.RemoveAll(folder) //nolint:errcheck // the first error is the one to tell
		return fmt.Errorf("opening a file for rows that memory has no room for: %w", err)
	}
	return s.db.Update(func(tx *bbolt.Tx) error {
		_, err := tx.CreateBucketIfNotExists(bucket)
		return err
	})
}

// flush puts what is in memory into the file.
func (s *store) flush() error {
	err := s.db.Update(func(tx *bbolt.Tx) error {
		b := tx.Bucket(bucket)
		for _, key := range slices.Sorted(maps.Keys(s.memory)) {
			row := s.memory[key]
			if row == nil {
				if err := b.Delete([]byte(key)); err != nil {
					return err
				}
				continue
			}
			if err := b.Put([]byte(key), row); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("writing rows that memory has no room for: %w", err)
	}
	clear(s.memory)
	s.bytes = 0
	return nil
}

// empty takes all rows out.
func (s *store) empty() error {
	clear(s.memory)
	s.bytes = 0
	return s.close()
}

// each walks through the rows; a row is good during the call only.
func (s *store) each(f func(row []byte) error) error {
	if s.db == nil {
		for _, key := range slices.Sorted(maps.Keys(s.memory)) {
			if err := f(s.memory[key]); err != nil {
				return err
			}
		}
		return nil
	}
	if err := s.flush(); err != nil {
		return err
	}
	return s.db.View(func(tx *bbolt.Tx) error {
		return tx.Bucket(bucket).ForEach(func(_, row []byte) error { return f(bytes.Clone(row)) })
	})
}

// close removes the file, if there is one.
func (s *store) close() error {
	if s.db == nil {
		return nil
	}
	folder := filepath.Dir(s.db.Path())
	err := errors.Join(s.db.Close(), os.RemoveAll(folder))
	s.db = nil
	return err
}
