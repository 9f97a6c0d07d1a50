package asof

import (
	"bufio"
	"cmp"
	"container/heap"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
)

// store keeps what became of keys: in memory up to a limit, and beyond it in files, each in
// the order of the keys. What a key's row is comes of all that the files and memory have of
// it, oldest first, when the rows are walked through.
type store struct {
	dir    string
	limit  int
	join   func(older, newer []byte) ([]byte, error)
	memory map[string][]byte
	bytes  int
	files  []*run
}

// run is a file of keys with what became of them, in order.
type run struct {
	file   *os.File
	sparse []place // where every so many keys are
}

type place struct {
	key string
	at  int64
}

const (
	// entryBytes is about what a key takes in memory besides its texts.
	entryBytes = 64
	// sparseKeys are between two of which the place is known.
	sparseKeys = 256
	// mostFiles are walked through at a time; more are put together.
	mostFiles = 200
)

// put adds what became of a key.
func (s *store) put(key string, entry []byte) error {
	if s.memory == nil {
		s.memory = make(map[string][]byte)
	}
	if old, known := s.memory[key]; known {
		joined, err := s.join(old, entry)
		if err != nil {
			return err
		}
		s.bytes += len(joined) - len(old)
		s.memory[key] = joined
	} else {
		s.memory[key] = entry
		s.bytes += len(key) + len(entry) + entryBytes
	}
	if s.bytes <= s.limit {
		return nil
	}
	if err := s.spill(); err != nil {
		return fmt.Errorf("writing rows that memory has no room for: %w", err)
	}
	return nil
}

// spill writes what is in memory into a file of its own.
func (s *store) spill() error {
	keys := slices.Sorted(maps.Keys(s.memory))
	at := 0
	one, err := s.write(func() (string, []byte, error) {
		if at == len(keys) {
			return "", nil, io.EOF
		}
		at++
		return keys[at-1], s.memory[keys[at-1]], nil
	})
	if err != nil {
		return err
	}
	s.files = append(s.files, one)
	clear(s.memory)
	s.bytes = 0
	if len(s.files) < mostFiles {
		return nil
	}
	return s.compact()
}

// compact puts all files together.
func (s *store) compact() error {
	m, err := s.merge()
	if err != nil {
		return err
	}
	one, err := s.write(m.next)
	if err != nil {
		return err
	}
	for _, old := range s.files {
		err = errors.Join(err, old.file.Close())
	}
	s.files = []*run{one}
	return err
}

// write makes a file of keys in order. The file has no name from the start, so that nothing
// is left of it after a kill.
func (s *store) write(next func() (string, []byte, error)) (_ *run, err error) {
	file, err := os.CreateTemp(s.dir, "rillmark-rows-")
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			file.Close() //nolint:errcheck // the first error is the one to tell
		}
	}()
	if err := os.Remove(file.Name()); err != nil {
		return nil, err
	}
	r := &run{file: file}
	w := bufio.NewWriterSize(file, 1<<20)
	at := int64(0)
	var head []byte
	for n := 0; ; n++ {
		key, entry, err := next()
		if errors.Is(err, io.EOF) {
			return r, w.Flush()
		}
		if err != nil {
			return nil, err
		}
		if n%sparseKeys == 0 {
			r.sparse = append(r.sparse, place{key, at})
		}
		head = binary.AppendUvarint(binary.AppendUvarint(head[:0], uint64(len(key))), uint64(len(entry)))
		for _, part := range [][]byte{head, []byte(key), entry} {
			if _, err := w.Write(part); err != nil {
				return nil, err
			}
			at += int64(len(part))
		}
	}
}

// readEntry reads a key with what became of it.
func readEntry(r *bufio.Reader) (key string, entry []byte, err error) {
	keySize, err := binary.ReadUvarint(r)
	if err != nil {
		return "", nil, err // io.EOF at the file's end
	}
	size, err := binary.ReadUvarint(r)
	if err != nil {
		return "", nil, errTorn
	}
	both := make([]byte, keySize+size)
	if _, err := io.ReadFull(r, both); err != nil {
		return "", nil, errTorn
	}
	return string(both[:keySize]), both[keySize:], nil
}

// get is all that became of a key, joined; nil where nothing did.
func (s *store) get(key string) (joined []byte, err error) {
	for _, one := range s.files {
		i, exact := slices.BinarySearchFunc(one.sparse, key, func(p place, key string) int { return cmp.Compare(p.key, key) })
		if !exact {
			i--
		}
		if i < 0 {
			continue
		}
		r := bufio.NewReaderSize(io.NewSectionReader(one.file, one.sparse[i].at, 1<<62), 16<<10)
		for range sparseKeys {
			found, entry, err := readEntry(r)
			if errors.Is(err, io.EOF) || err == nil && found > key {
				break
			}
			if err != nil {
				return nil, err
			}
			if found == key {
				if joined, err = s.joined(joined, entry); err != nil {
					return nil, err
				}
				break
			}
		}
	}
	if entry, known := s.memory[key]; known {
		return s.joined(joined, entry)
	}
	return joined, nil
}

func (s *store) joined(older, newer []byte) ([]byte, error) {
	if older == nil {
		return newer, nil
	}
	return s.join(older, newer)
}

// each walks through the keys with all that became of them.
func (s *store) each(f func(key string, entry []byte) error) error {
	m, err := s.merge()
	if err != nil {
		return err
	}
	for {
		key, entry, err := m.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = f(key, entry)
		}
		if err != nil {
			return err
		}
	}
}

// empty forgets everything.
func (s *store) empty() error {
	clear(s.memory)
	s.bytes = 0
	return s.close()
}

// close gives the files back.
func (s *store) close() (err error) {
	for _, one := range s.files {
		err = errors.Join(err, one.file.Close())
	}
	s.files = nil
	return err
}

// merge walks through all files and memory at once.
type merge struct {
	s     *store
	heads heads
}

// head is the next key of a file, or of memory.
type head struct {
	key   string
	entry []byte
	age   int // older files come first
	next  func() (string, []byte, error)
}

type heads []*head

func (h heads) Len() int { return len(h) }
func (h heads) Less(i, j int) bool {
	return h[i].key < h[j].key || h[i].key == h[j].key && h[i].age < h[j].age
}
func (h heads) Swap(i, j int) { h[i], h[j] = h[j], h[i] }

// Push implements [heap.Interface].
func (h *heads) Push(x any) { *h = append(*h, x.(*head)) }

// Pop implements [heap.Interface].
func (h *heads) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}

func (s *store) merge() (*merge, error) {
	m := &merge{s: s}
	for age, one := range s.files {
		r := bufio.NewReaderSize(io.NewSectionReader(one.file, 0, 1<<62), 128<<10)
		if err := m.begin(age, func() (string, []byte, error) { return readEntry(r) }); err != nil {
			return nil, err
		}
	}
	keys, at := slices.Sorted(maps.Keys(s.memory)), 0
	return m, m.begin(len(s.files), func() (string, []byte, error) {
		if at == len(keys) {
			return "", nil, io.EOF
		}
		at++
		return keys[at-1], s.memory[keys[at-1]], nil
	})
}

func (m *merge) begin(age int, next func() (string, []byte, error)) error {
	key, entry, err := next()
	if errors.Is(err, io.EOF) {
		return nil
	}
	if err == nil {
		heap.Push(&m.heads, &head{key, entry, age, next})
	}
	return err
}

// next is the next key with all that became of it; io.EOF at the end.
func (m *merge) next() (key string, joined []byte, err error) {
	if len(m.heads) == 0 {
		return "", nil, io.EOF
	}
	key = m.heads[0].key
	for len(m.heads) > 0 && m.heads[0].key == key {
		h := m.heads[0]
		if joined, err = m.s.joined(joined, h.entry); err != nil {
			return "", nil, err
		}
		if h.key, h.entry, err = h.next(); errors.Is(err, io.EOF) {
			heap.Pop(&m.heads)
			continue
		}
		if err != nil {
			return "", nil, err
		}
		heap.Fix(&m.heads, 0)
	}
	return key, joined, nil
}
