package outlet

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"rillmark/internal/encode"
)

// Counts are the events that went out since the service started, by table and
// type.
type Counts map[CountOf]int64

// CountOf names what is counted.
type CountOf struct{ Table, Type string }

// maxCounts bounds the counts; what is above is counted together.
const maxCounts = 10_000

func (c *Counts) add(messages []encode.Message, dead []refusal) {
	if *c == nil {
		*c = make(Counts)
	}
	var out map[int64]bool
	if len(dead) > 0 {
		out = make(map[int64]bool, len(dead))
		for _, one := range dead {
			out[one.offset] = true
		}
	}
	var last CountOf
	n := int64(0)
	put := func() {
		if n == 0 {
			return
		}
		if _, there := (*c)[last]; !there && len(*c) >= maxCounts {
			last = CountOf{Table: "(others)"}
		}
		(*c)[last] += n
	}
	for i := range messages {
		m := &messages[i]
		if m.Part > 0 || out[m.Offset] {
			continue
		}
		one := CountOf{m.Table, m.Type}
		if one != last {
			put()
			last, n = one, 0
		}
		n++
	}
	put()
}

func (c Counts) clone() Counts { return maps.Clone(c) }

// Counts is what went out since the service started.
func (o *Outlet) Counts() Counts {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.counts.clone()
}

const (
	historyStep   = 10 * time.Second
	historyPoints = 360
)

// Point is one step of an outlet's last hour.
type Point struct {
	At        time.Time `json:"at"`
	Read      int64     `json:"read" doc:"Events read from the journal in the ten seconds from then on"`
	Delivered int64     `json:"delivered" doc:"Messages that went out in them"`
	Behind    int64     `json:"behind" doc:"Events behind at their end"`
	Delay     float64   `json:"delay_seconds" doc:"From the newest delivered event's commit until it was delivered"`
}

// History is an outlet's last hour, in steps.
type History struct{ points []Point }

func (h *History) clone() History { return History{slices.Clone(h.points)} }

func (h *History) now(at time.Time) *Point {
	step := at.Truncate(historyStep)
	if n := len(h.points); n > 0 && !h.points[n-1].At.Before(step) {
		return &h.points[n-1]
	}
	if len(h.points) >= historyPoints {
		h.points = append(h.points[:0], h.points[1:]...)
	}
	h.points = append(h.points, Point{At: step})
	return &h.points[len(h.points)-1]
}

func (h *History) delivered(at time.Time, n int64, delay time.Duration) {
	p := h.now(at)
	p.Delivered += n
	p.Delay = delay.Seconds()
}

// countRead notes events that were read from the journal.
func (o *Outlet) countRead(n int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.history.now(time.Now()).Read += n
}

// Sample notes how many events the outlet is behind.
func (o *Outlet) Sample(behind int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.history.now(time.Now()).Behind = behind
}

// KeepHistory stores the last hour, so that it outlives the process.
func (o *Outlet) KeepHistory(ctx context.Context) error {
	points := o.History()
	if len(points) == 0 {
		return nil
	}
	stored, err := json.Marshal(points)
	if err != nil {
		return err
	}
	return o.Catalog.KeepHistory(ctx, o.ID, stored)
}

// Recall takes over what was stored of the last hour, by an earlier process or by
// the instance that delivered before.
func (o *Outlet) Recall(ctx context.Context) error {
	stored, err := o.Catalog.OutletHistory(ctx, o.ID)
	if err != nil || stored == nil {
		return err
	}
	var points []Point
	if err := json.Unmarshal(stored, &points); err != nil {
		return fmt.Errorf("the stored history of the outlet cannot be read: %w", err)
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.history.merge(points, time.Now())
	return nil
}

// merge takes in points of an earlier time; of one time, that with more in it stays.
func (h *History) merge(earlier []Point, now time.Time) {
	busiest := make(map[int64]Point)
	for _, p := range slices.Concat(earlier, h.points) {
		at := p.At.Unix()
		if before, there := busiest[at]; !there || p.Read+p.Delivered >= before.Read+before.Delivered {
			busiest[at] = p
		}
	}
	h.points = h.points[:0]
	for _, at := range slices.Sorted(maps.Keys(busiest)) {
		if age := now.Sub(time.Unix(at, 0)); age >= 0 && age < historyPoints*historyStep {
			h.points = append(h.points, busiest[at])
		}
	}
}

// History is the last hour, oldest first.
func (o *Outlet) History() []Point {
	o.mu.Lock()
	defer o.mu.Unlock()
	return slices.Clone(o.history.points)
}
