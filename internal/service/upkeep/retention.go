package upkeep

import (
	"context"
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/definition"
	"rillmark/internal/service/base"
	"rillmark/internal/service/running"
)

const roomWarning = 0.8

// retain drops what may go of a source's journal, after it has looked at what its
// outlets still need.
func (s *Upkeep) retain(name string, one *running.Source) {
	age, size := *s.Config.Journal.RetainAge, *s.Config.Journal.RetainBytes
	outlets := s.Running.OutletsOf(one.Record.ID)
	nexts := make(map[*running.Outlet]int64)
	offsets, err := s.Catalog.Offsets(s.Work)
	if err != nil {
		return // without the offsets nothing may be dropped
	}
	for _, o := range outlets {
		offset, there := offsets[o.Record.ID]
		if !there {
			continue // it was removed meanwhile
		}
		nexts[o] = offset.Reached() + 1
	}
	held := func(next, bytes int64) bool {
		for o, at := range nexts {
			if hold := o.Record.Definition.HoldSize; hold > 0 && at < next && bytes <= hold {
				return true
			}
		}
		return false
	}
	first, dropped, err := s.Store.Retain(s.Work, one.Record.ID, age, size, held)
	if err != nil && s.Work.Err() == nil {
		s.RunLog.Write("warn", "source/"+name, "retention", err.Error())
	}
	if dropped > 0 {
		s.RunLog.Write("info", "source/"+name, "retention", fmt.Sprintf("%d segments of the journal dropped; the oldest offset is now %d", dropped, first))
	}
	for o, at := range nexts {
		s.lookAtReserve(o, at, first, age, size)
	}
	if err := s.expire(name, one, nexts); err != nil && s.Work.Err() == nil {
		s.RunLog.Write("warn", "source/"+name, "retention", err.Error())
	}
}

// expire takes out events of tables that are kept for a time of their own. What an
// outlet has yet to deliver of a table stays.
func (s *Upkeep) expire(name string, one *running.Source, nexts map[*running.Outlet]int64) error {
	type term struct {
		age  time.Duration
		upto int64
	}
	rules := one.Record.Definition.Tables
	if !slices.ContainsFunc(rules, func(r definition.TableRule) bool { return r.KeepFor != "" }) {
		return nil
	}
	states, err := s.Catalog.TableStates(s.Work, one.Record.ID)
	if err != nil {
		return err
	}
	terms, parsed := make(map[term][]string), base.ParseRules(rules)
	for table := range states {
		rule := parsed.Of(table)
		if rule == nil || rule.KeepFor == "" {
			continue
		}
		age, err := time.ParseDuration(rule.KeepFor)
		if err != nil {
			return err
		}
		upto := int64(math.MaxInt64)
		for o, next := range nexts {
			if filter, err := o.Record.Definition.Filter(); err != nil || filter.AdmitsTable(table) {
				upto = min(upto, next-1)
			}
		}
		terms[term{age, upto}] = append(terms[term{age, upto}], table)
	}
	for t, tables := range terms {
		events, err := s.Store.Expire(s.Work, one.Record.ID, tables, t.age, t.upto)
		if err != nil {
			return err
		}
		if events > 0 {
			sort.Strings(tables)
			s.RunLog.Write("info", "source/"+name, "retention", fmt.Sprintf("%d events of %s are no longer kept, as keep_for says", events, strings.Join(tables, ", ")))
		}
	}
	return nil
}

// lookAtReserve warns in good time what an outlet is about to lose, and says exactly what
// it has lost.
func (s *Upkeep) lookAtReserve(o *running.Outlet, next, first int64, age time.Duration, size int64) {
	ctx, cancel := context.WithTimeout(s.Work, 10*time.Second)
	defer cancel()
	room := &running.RetentionUse{Level: "fine"}
	before := o.Retention.Load()
	was := "fine"
	if before != nil {
		was = before.Level
	}
	subject := "outlet/" + o.Record.Name
	switch {
	case next < first:
		room.Used, room.Level = 1, "lost"
		if was != "lost" {
			s.noteLost(ctx, o, catalog.Lost{First: next, Last: first - 1})
		}
	default:
		if size > 0 {
			limit := max(size, o.Record.Definition.HoldSize)
			if bytes, err := s.Store.BytesFrom(ctx, o.SourceID, next); err == nil {
				room.Used = float64(bytes) / float64(limit)
			}
		}
		if age > 0 && o.Record.Definition.HoldSize == 0 {
			if at, err := s.Store.CommitTime(ctx, o.SourceID, next); err == nil && !at.IsZero() {
				room.Used = max(room.Used, float64(time.Since(at))/float64(age))
			}
		}
		if head, err := s.Store.Head(ctx, o.SourceID); err == nil && next >= head.Next {
			room.Used = 0 // all is delivered
		}
		if room.Used >= roomWarning {
			room.Level = "warning"
		}
		if room.Level == "warning" && was == "fine" {
			s.RunLog.Write("warn", subject, "retention-near", fmt.Sprintf("what is not delivered from offset %d on has used up %.0f %% of the journal's room: soon retention takes it. Fix: let the outlet catch up, raise journal.retain_age or retain_bytes, or set the outlet's hold_journal_bytes", next, room.Used*100))
		}
		if room.Level == "fine" && was != "fine" {
			s.RunLog.Write("info", subject, "retention-near", "there is room enough in the journal again")
		}
	}
	o.Retention.Store(room)
}

func (s *Upkeep) noteLost(ctx context.Context, o *running.Outlet, lost catalog.Lost) {
	known, err := s.Catalog.LostOffsets(ctx, o.Record.ID)
	if err != nil {
		return
	}
	if len(known) > 0 && known[0].First == lost.First {
		return // logged before the service was started again
	}
	if err := s.Catalog.NoteLost(ctx, o.Record.ID, lost); err != nil {
		return
	}
	s.RunLog.Write("error", "outlet/"+o.Record.Name, "lost", fmt.Sprintf("retention has taken offsets %d to %d before they were delivered", lost.First, lost.Last))
}
