package file

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/encode/parquetfile"
)

// writer is one outlet's delivery: a group of files that are open at the same
// time and are closed together.
type writer struct {
	d       *Destination
	outlet  destination.Outlet
	store   store
	age     time.Duration
	open    map[openOf]*openFile
	began   time.Time // the group
	bytes   int64
	events  int64
	from    int64 // the first offset that the group covers
	at      int64 // the newest offset that was sent
	durable int64
	list    manifest
	names   map[nameOf]string // of files, without the first offset
	byTable bool              // names hold the table's
	byHour  bool              // names hold a date or an hour
	named   nameOf            // what the newest name is of
	newest  string
	last    openOf    // the newest message's file
	lastOne *openFile // nil where it is not open
	notes   *os.File  // the note of open files, once it has a line
	noted   int       // bytes in it
	owned   *os.File  // has the folder's lock; nil where nothing is claimed
}

// openOf identifies an open file.
type openOf struct {
	name   string
	schema change.Fingerprint  // in formats whose files follow one version
	fitted *parquetfile.Fitted // where they follow a model
}

// nameOf is what a file's name depends on.
type nameOf struct {
	table string
	hour  int64 // since 1970
}

// openFile is a file that is being written.
type openFile struct {
	entry
	path  string
	f     *os.File
	lines encoder
}

// entry is a file as manifest and side note have it.
type entry struct {
	File   string `json:"file"`
	Run    int    `json:"run"`
	First  int64  `json:"first"` // the offset of its first event
	Last   int64  `json:"last"`
	Events int64  `json:"events"`
	Bytes  int64  `json:"bytes"`
	Table  string `json:"table,omitempty"`  // where the file has the events of one table
	Schema string `json:"schema,omitempty"` // fingerprint of the version that all its rows follow
	// From and To are the offsets that the files closed together cover: an
	// offset in between is in one of them, or was not let through.
	From int64     `json:"from"`
	To   int64     `json:"to"`
	At   time.Time `json:"at"`
}

// encoder writes messages in one format.
type encoder interface {
	add(b *encode.Batch, m *encode.Message) error
	// drain lets go of what messages were added.
	drain() error
	// flush hands everything to the operating system, where the format can.
	flush() error
	close() error
	// size is about how many bytes the file has.
	size() int64
}

// maxOpen bounds the files of a group.
const maxOpen = 64

// resumable reports whether a file can go on after a crash.
func (w *writer) resumable() bool {
	return w.d.bucket == nil && w.d.options.Compression == "none" && w.d.format != encode.FormatParquet && w.d.format != encode.FormatAvro
}

// note says which files are open, and how much of them is durable.
type note struct {
	Run   int     `json:"run"`
	From  int64   `json:"from"`
	Upto  int64   `json:"upto"`
	Files []entry `json:"files"`
}

func (w *writer) spool() string {
	return filepath.Join(w.d.spool, fmt.Sprintf("%s-%d", w.outlet.Name, w.outlet.ID))
}

func (w *writer) noteName() string { return "." + w.outlet.Name + ".open.json" }

// resume goes on where the files end that are durable.
func (w *writer) resume(ctx context.Context) error {
	var err error
	if w.list, err = openManifest(ctx, w.store, w.outlet); err != nil {
		return err
	}
	w.at = max(w.at, w.list.to)
	if w.d.bucket != nil {
		if err := os.RemoveAll(w.spool()); err != nil {
			return err
		}
		w.durable, w.from = w.at, w.next()
		return os.MkdirAll(w.spool(), 0o700)
	}
	raw, err := w.store.get(ctx, w.noteName())
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	var n note
	if err == nil {
		if n, err = lastNote(raw); err != nil {
			return fmt.Errorf("the note of open files %s is damaged; remove it to deliver their events again: %w", w.noteName(), err)
		}
	}
	// What is durable in open files may be committed: files of an earlier run, or
	// of a form that could go on while today's cannot, are closed and not removed.
	if len(n.Files) > 0 && (n.Run != w.outlet.Run || !w.resumable()) {
		if err := w.finish(ctx, n); err != nil {
			return err
		}
		n = note{}
		if w.list, err = openManifest(ctx, w.store, w.outlet); err != nil {
			return err
		}
		w.at = max(w.at, w.list.to)
	}
	goOn := w.resumable() && n.Upto >= w.at && len(n.Files) > 0
	for _, e := range n.Files {
		if err := w.reopen(ctx, e, goOn && e.Bytes >= 0); err != nil {
			return err
		}
	}
	if goOn {
		w.at, w.from = n.Upto, n.From
		w.began = time.Now()
		for _, f := range w.open {
			w.bytes += f.Bytes
			w.events += f.Events
		}
	} else {
		w.from = w.next()
	}
	w.durable = w.at
	return nil
}

// next is where the next group begins: behind what the manifest covers, so that
// its lines leave no offset out.
func (w *writer) next() int64 {
	if w.list.to > 0 {
		return w.list.to + 1
	}
	return w.at + 1
}

// finish puts the open files of a note into their places, as far as they are
// durable, and into their run's manifest.
func (w *writer) finish(ctx context.Context, n note) error {
	earlier := w.outlet
	earlier.Run = n.Run
	list, err := openManifest(ctx, w.store, earlier)
	if err != nil {
		return err
	}
	var entries []entry
	for _, e := range n.Files {
		path := w.store.aside("", e.File)
		if e.Bytes <= 0 {
			if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
			continue
		}
		if err := os.Truncate(path, e.Bytes); err == nil {
			err = w.store.place(ctx, path, e.File)
			if err != nil {
				return err
			}
		} else if !errors.Is(err, os.ErrNotExist) {
			return err // one that is gone came into its place before a crash
		}
		if !list.has(e.File) {
			e.From, e.To, e.At = n.From, n.Upto, time.Now().UTC().Truncate(time.Millisecond)
			entries = append(entries, e)
		}
	}
	if len(entries) > 0 {
		if err := list.append(ctx, entries); err != nil {
			return err
		}
	}
	return w.remember(ctx, nil)
}

// reopen cuts a file back to what is durable; one that cannot go on is removed,
// and so is one that came into its place without being listed.
func (w *writer) reopen(ctx context.Context, e entry, goOn bool) error {
	path := w.store.aside("", e.File)
	if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) && !w.list.has(e.File) {
		placed := strings.TrimSuffix(path, openSuffix)
		if err := os.Rename(placed, path); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	if !goOn {
		if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		return nil
	}
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	err = f.Truncate(e.Bytes)
	if err == nil {
		_, err = f.Seek(e.Bytes, 0)
	}
	if err != nil {
		f.Close() //nolint:errcheck // the first error is the one to tell
		return err
	}
	lines, err := newLines(f, "none", e.Bytes)
	if err != nil {
		return err
	}
	key := openOf{name: strings.Replace(e.File, fmt.Sprintf("%020d", e.First), "", 1)}
	w.open[key] = &openFile{entry: e, path: path, f: f, lines: lines}
	return nil
}

// Delivered implements [destination.Writer].
func (w *writer) Delivered() int64 { return w.at }

// Send implements [destination.Writer].
func (w *writer) Send(ctx context.Context, batch *encode.Batch) ([]destination.Refusal, error) {
	aged := w.aged() // asked once: a batch takes a moment
	for i := range batch.Messages {
		m := &batch.Messages[i]
		if m.Offset > w.at && (aged || w.full()) {
			aged = false
			if err := w.roll(ctx); err != nil {
				return nil, fault(err)
			}
		}
		if err := w.add(ctx, batch, m); err != nil {
			return nil, fault(err)
		}
		// The messages of one offset are in one group.
		if i+1 < len(batch.Messages) {
			w.at = max(w.at, batch.Messages[i+1].Offset-1)
		}
	}
	w.at = batch.Last
	for _, f := range w.open {
		if err := f.lines.drain(); err != nil {
			return nil, fault(err)
		}
	}
	return nil, nil
}

// full reports whether the open group has all that it may have, aged whether it is
// old enough to be closed.
func (w *writer) full() bool {
	o := w.d.options
	return w.bytes >= o.RotateBytes || o.RotateEvents > 0 && w.events >= o.RotateEvents || len(w.open) >= maxOpen
}

func (w *writer) aged() bool { return len(w.open) > 0 && time.Since(w.began) >= w.age }

func (w *writer) add(ctx context.Context, batch *encode.Batch, m *encode.Message) error {
	name := w.name(m)
	key := openOf{name: name}
	if w.d.format == encode.FormatAvro || w.d.format == encode.FormatParquet {
		key.schema, key.fitted = m.Schema.Fingerprint(), fittedOf(m)
	}
	f := w.lastOne
	if f == nil || key != w.last {
		if f = w.open[key]; f == nil {
			var err error
			if f, err = w.create(ctx, name, m); err != nil {
				return err
			}
			w.open[key] = f
		}
		w.last, w.lastOne = key, f
	}
	before := f.lines.size()
	if err := f.lines.add(batch, m); err != nil {
		return err
	}
	w.bytes += f.lines.size() - before
	w.events++
	f.Events++
	f.Last = m.Offset
	return nil
}

// name is a message's file, without the first offset.
func (w *writer) name(m *encode.Message) string {
	var of nameOf
	if w.byTable {
		of.table = m.Table
	}
	if w.byHour {
		of.hour = m.Committed.Unix() / 3600
	}
	if of == w.named && w.newest != "" {
		return w.newest
	}
	name, known := w.names[of]
	if !known {
		if w.names == nil || len(w.names) > 10_000 {
			w.names = make(map[nameOf]string)
		}
		name = w.expand(w.d.options.Name, m, "")
		w.names[of] = name
	}
	w.named, w.newest = of, name
	return name
}

func (w *writer) expand(template string, m *encode.Message, first string) string {
	at := m.Committed.UTC()
	table := m.Table
	if table == "" {
		table = "_"
	}
	return strings.NewReplacer("{outlet}", w.outlet.Name, "{run}", strconv.Itoa(w.outlet.Run), "{table}", safe(table),
		"{date}", at.Format("2006-01-02"), "{hour}", at.Format("15"), "{first}", first).Replace(template) + w.extension()
}

// safe is a table's name as part of a file's, no two alike: what cannot stand there
// is written as in an address, a percent sign and two hexadecimal digits.
func safe(table string) string {
	var b strings.Builder
	for i := 0; i < len(table); i++ {
		c := table[i]
		if c < 0x20 || c == 0x7f || strings.IndexByte(`/\{}%"*?<>|:`, c) >= 0 || c == '.' && i == 0 {
			fmt.Fprintf(&b, "%%%02X", c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

func (w *writer) extension() string {
	switch w.d.format {
	case encode.FormatAvro:
		return ".avro"
	case encode.FormatParquet:
		return ".parquet"
	default: // lines of JSON
	}
	switch w.d.options.Compression {
	case "gzip":
		return ".ndjson.gz"
	case "zstd":
		return ".ndjson.zst"
	}
	return ".ndjson"
}

func (w *writer) create(ctx context.Context, name string, m *encode.Message) (*openFile, error) {
	f := &openFile{entry: entry{File: w.expand(w.d.options.Name, m, fmt.Sprintf("%020d", m.Offset)), Run: w.outlet.Run, First: m.Offset, Last: m.Offset, Bytes: -1}}
	if strings.Contains(w.d.options.Name, "{table}") || w.d.format == encode.FormatAvro || w.d.format == encode.FormatParquet {
		f.Table = m.Table
	}
	if m.Schema != nil && w.d.format != encode.FormatRow {
		f.Schema = m.Schema.Fingerprint().String()
	}
	f.path = w.store.aside(w.spool(), f.File)
	if err := makeFolder(filepath.Dir(f.path), w.d.mode); err != nil {
		return nil, err
	}
	var err error
	if f.f, err = os.OpenFile(f.path, os.O_CREATE|os.O_RDWR|os.O_TRUNC, w.d.mode); err != nil {
		return nil, err
	}
	switch w.d.format {
	case encode.FormatAvro:
		f.lines, err = newContainer(f.f, m.Schema, w.d.options.Compression)
	case encode.FormatParquet:
		f.lines = newParquet(f.f, m.Schema, fittedOf(m), w.d.options.Compression)
	default:
		f.lines, err = newLines(f.f, w.d.options.Compression, 0)
	}
	if err == nil {
		err = f.f.Chmod(w.d.mode) // whatever the process's own mask is
	}
	if err != nil {
		f.f.Close() //nolint:errcheck // the first error is the one to tell
		return nil, err
	}
	if len(w.open) == 0 {
		w.began = time.Now()
	}
	return f, w.remember(ctx, f)
}

// remember writes the note of open files, with a new one that is about to be
// used.
func (w *writer) remember(ctx context.Context, more *openFile) error {
	if w.d.bucket != nil {
		return nil // the spool is emptied whole
	}
	n := note{Run: w.outlet.Run, From: w.from, Upto: w.durable}
	for _, f := range w.open {
		n.Files = append(n.Files, f.entry)
	}
	if more != nil {
		n.Files = append(n.Files, more.entry)
	}
	sort.Slice(n.Files, func(i, j int) bool { return n.Files[i].File < n.Files[j].File })
	raw, err := json.Marshal(n)
	if err != nil {
		return err
	}
	return w.note(ctx, append(raw, '\n'))
}

// maxNotes bounds the note of open files; above it, it begins anew.
const maxNotes = 64 << 10

// note adds a line to the note of open files, of which the last whole one counts. It is
// written often, and a file of its own for each would cost three syncs instead of one.
func (w *writer) note(ctx context.Context, line []byte) error {
	if w.notes != nil && w.noted+len(line) <= maxNotes {
		if _, err := w.notes.Write(line); err != nil {
			return err
		}
		w.noted += len(line)
		return w.notes.Sync()
	}
	w.closeNotes()
	if err := w.store.put(ctx, w.noteName(), line); err != nil {
		return err
	}
	if d, is := w.store.(*directory); is {
		f, err := os.OpenFile(d.path(w.noteName()), os.O_APPEND|os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		w.notes, w.noted = f, len(line)
	}
	return nil
}

func (w *writer) closeNotes() {
	if w.notes != nil {
		w.notes.Close() //nolint:errcheck // every line was synced
		w.notes = nil
	}
}

// lastNote is the last whole line of a note.
func lastNote(raw []byte) (n note, err error) {
	lines := bytes.Split(bytes.TrimRight(raw, "\n"), []byte{'\n'})
	for i := len(lines) - 1; i >= 0; i-- {
		n = note{}
		if err = json.Unmarshal(lines[i], &n); err == nil {
			return n, nil
		}
	}
	return n, err
}

// Flush implements [destination.Writer].
func (w *writer) Flush(ctx context.Context, last bool) (int64, error) {
	switch {
	case len(w.open) == 0:
		w.durable = w.at // what was passed over belongs to the next group
		return w.durable, nil
	case w.full() || w.aged() || last && !w.resumable():
		if err := w.roll(ctx); err != nil {
			return 0, fault(err)
		}
		return w.durable, nil
	case !w.resumable():
		return w.durable, nil
	}
	for _, f := range w.open {
		if err := f.lines.flush(); err != nil {
			return 0, fault(err)
		}
		if f.Bytes == f.lines.size() {
			continue
		}
		if err := f.f.Sync(); err != nil {
			return 0, fault(err)
		}
		f.Bytes = f.lines.size()
	}
	w.durable = w.at
	return w.durable, fault(w.remember(ctx, nil))
}

// Show hands what was sent to readers of open files, if the format can.
func (w *writer) Show() error {
	for _, f := range w.open {
		if err := f.lines.flush(); err != nil {
			return fault(err)
		}
	}
	return nil
}

// roll closes the group: its files come into their places, and then into the
// manifest, all at once.
func (w *writer) roll(ctx context.Context) error {
	entries := make([]entry, 0, len(w.open))
	for _, f := range w.open {
		if err := f.lines.close(); err != nil {
			return err
		}
		if err := f.f.Sync(); err != nil {
			return err
		}
		info, err := f.f.Stat()
		if err != nil {
			return err
		}
		if err := f.f.Close(); err != nil {
			return err
		}
		f.f = nil
		f.Bytes = info.Size()
		if err := w.store.place(ctx, f.path, f.File); err != nil {
			return err
		}
		f.From, f.To, f.At = w.from, w.at, time.Now().UTC().Truncate(time.Millisecond)
		entries = append(entries, f.entry)
	}
	sort.Slice(entries, func(i, j int) bool { return entries[i].First < entries[j].First })
	if err := w.list.append(ctx, entries); err != nil {
		return err
	}
	clear(w.open)
	w.bytes, w.events, w.lastOne = 0, 0, nil
	w.durable, w.from = w.at, w.at+1
	return w.remember(ctx, nil)
}

// Close implements [destination.Writer].
func (w *writer) Close() error {
	var first error
	w.closeNotes()
	if w.owned != nil {
		defer w.owned.Close() //nolint:errcheck // its lock goes with it, once all else is closed
	}
	for _, f := range w.open {
		if f.f == nil {
			continue
		}
		if err := f.f.Close(); err != nil && first == nil {
			first = err
		}
		if w.d.bucket != nil {
			os.Remove(f.path) //nolint:errcheck // the next start empties the folder
		}
	}
	clear(w.open)
	return fault(first)
}
