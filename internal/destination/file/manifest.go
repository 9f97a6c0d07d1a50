package file

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"rillmark/internal/destination"
)

// manifestLines begin a new part of the manifest.
const manifestLines = 1000

// manifest lists an outlet's files, one a line, in parts: OUTLET.manifest/
// RUN.PART.ndjson. A part is replaced whole.
type manifest struct {
	store  store
	outlet destination.Outlet
	part   int
	lines  []byte
	count  int
	to     int64 // up to which offset this run's files reach
	newest map[string]bool
}

func (m *manifest) folder() string { return m.outlet.Name + ".manifest" }

func (m *manifest) name() string {
	return fmt.Sprintf("%s/%04d.%06d.ndjson", m.folder(), m.outlet.Run, m.part)
}

func openManifest(ctx context.Context, s store, o destination.Outlet) (manifest, error) {
	m := manifest{store: s, outlet: o, part: 1, newest: make(map[string]bool)}
	names, err := s.list(ctx, m.folder())
	if err != nil {
		return m, err
	}
	prefix := fmt.Sprintf("%s/%04d.", m.folder(), o.Run)
	for _, name := range names {
		if strings.HasPrefix(name, prefix) {
			if _, err := fmt.Sscanf(strings.TrimPrefix(name, prefix), "%06d.ndjson", &m.part); err != nil {
				return m, fmt.Errorf("the manifest has a part %s that is none of ours: %w", name, err)
			}
		}
	}
	if len(names) == 0 {
		return m, nil
	}
	if raw, err := s.get(ctx, m.name()); err == nil {
		m.lines = raw
	} else if strings.HasPrefix(names[len(names)-1], prefix) {
		return m, err
	}
	for line := range bytes.Lines(m.lines) {
		var e entry
		if err := json.Unmarshal(line, &e); err != nil {
			return m, fmt.Errorf("the manifest's part %s is damaged: %w", m.name(), err)
		}
		m.count++
		m.to = max(m.to, e.To)
		m.newest[e.File] = true
	}
	return m, nil
}

// has reports whether the newest part lists a file.
func (m *manifest) has(file string) bool { return m.newest[file] }

// append lists files that are in their places.
func (m *manifest) append(ctx context.Context, entries []entry) error {
	if m.count >= manifestLines {
		m.part++
		m.lines, m.count = nil, 0
		clear(m.newest)
	}
	lines := m.lines
	for _, e := range entries {
		raw, err := json.Marshal(e)
		if err != nil {
			return err
		}
		lines = append(append(lines, raw...), '\n')
	}
	if err := m.store.put(ctx, m.name(), lines); err != nil {
		return err
	}
	m.lines = lines
	for _, e := range entries {
		m.count++
		m.to = max(m.to, e.To)
		m.newest[e.File] = true
	}
	return nil
}
