package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"rillmark/internal/capture"
	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/journal"
	"rillmark/internal/outlet"
	"rillmark/internal/service/base"
	"rillmark/internal/service/running"
	"rillmark/internal/shape"
)

// Status is the whole of what goes on, for pages and commands alike.
type Status struct {
	At            time.Time      `json:"at"`
	Started       time.Time      `json:"started" doc:"When this instance started"`
	StateDatabase StateStatus    `json:"state_database"`
	Sources       []SourceStatus `json:"sources"`
	Outlets       []OutletStatus `json:"outlets"`
}

// StateStatus is how the state database is.
type StateStatus struct {
	OK    bool   `json:"ok"`
	Error string `json:"error,omitempty"`
}

// SourceStatus is how a source stands.
type SourceStatus struct {
	Name     string        `json:"name"`
	Engine   string        `json:"engine"`
	Database string        `json:"database"`
	Phase    string        `json:"phase" enum:"paused,starting,running,waiting,standby,failed" doc:"waiting: for a fault to pass, tried again by itself; standby: another instance captures it; failed: a person has to decide"`
	Doing    string        `json:"doing,omitempty"`
	Since    *time.Time    `json:"since,omitempty" doc:"Since when in this phase"`
	Reason   string        `json:"reason,omitempty" doc:"Why it was paused or resumed, in somebody's words"`
	Once     bool          `json:"once,omitempty" doc:"It ends when it has caught up"`
	Ended    bool          `json:"ended,omitempty" doc:"Paused since its run ended by itself: it had caught up, or loaded all that it was to load"`
	Error    string        `json:"error,omitempty"`
	Code     string        `json:"code,omitempty" doc:"The error's stable code"`
	Journal  JournalStatus `json:"journal"`
	Tables   []TableStatus `json:"tables"`
	Rate     float64       `json:"rate" doc:"Events a second into the journal, over the last ten seconds"`
	Rates    []int64       `json:"rates" doc:"Events in each of the last sixty seconds, oldest first"`
	// Delay is from commit to journal.
	Delay       *float64        `json:"delay_seconds,omitempty" doc:"From the newest event's commit until it was in the journal"`
	LastCommit  *time.Time      `json:"last_commit,omitempty" doc:"When the newest event was committed"`
	Position    string          `json:"position,omitempty" doc:"How far the journal reaches in the source's log, as the engine writes it"`
	RetainedLog *RetainedStatus `json:"retained_log,omitempty" doc:"How much of its log the source keeps for us; absent before it was asked"`
}

// RetainedStatus is how much of its log a source keeps because of us.
type RetainedStatus struct {
	Bytes   int64     `json:"bytes"`
	Limit   int64     `json:"limit,omitempty" doc:"What it keeps at most; absent without a bound"`
	Spilled int64     `json:"spilled,omitempty" doc:"Bytes that the source has written to disk so far to decode large transactions for us"`
	Level   string    `json:"level" enum:"fine,warning,urgent"`
	Advice  string    `json:"advice,omitempty"`
	At      time.Time `json:"at" doc:"When the source was asked"`
}

// JournalStatus is how a journal stands.
type JournalStatus struct {
	Generation int   `json:"generation"`
	First      int64 `json:"first" doc:"The oldest offset that is kept"`
	Next       int64 `json:"next" doc:"The offset that the next event gets"`
	Bytes      int64 `json:"bytes" doc:"On disk"`
	Events     int64 `json:"events" doc:"Events ever journaled, those included that are no longer kept"`
}

// TableStatus is how a table stands.
type TableStatus struct {
	Name         string           `json:"name"`
	State        string           `json:"state" enum:"new,to-load,loading,following,loaded,stale,unpublished,not-loaded,gone,left-out" doc:"not-loaded: its load cannot go on, its changes are captured; gone: dropped or renamed in the source; left-out: no longer chosen by the rules"`
	Cause        change.Cause     `json:"cause,omitempty" enum:"no-key,inserts-only,part,rule-changed,rewritten,unlogged,foreign-key,new-key,replaced,republished,unpublished,value-too-large,value-missing,unreadable,gone,left-out" doc:"Why it is in its state, for programs"`
	Note         string           `json:"note,omitempty" doc:"The same for people, with what to do"`
	RowsDone     int64            `json:"rows_done" doc:"Rows that the last load has read; the counts have all loads together"`
	RowsEstimate int64            `json:"rows_estimate" doc:"The source's own estimate"`
	LoadRate     float64          `json:"load_rate,omitempty" doc:"Rows a second that the load reads"`
	SecondsLeft  *float64         `json:"seconds_left,omitempty" doc:"Of the load, by rate and estimate"`
	Partitions   []string         `json:"partitions,omitempty" doc:"The partitions whose rows carry this name"`
	Description  string           `json:"description,omitempty" doc:"From its rule"`
	Counts       map[string]int64 `json:"counts" doc:"Events in the journal by operation"`
}

// OutletStatus is how an outlet stands.
type OutletStatus struct {
	Name          string                `json:"name"`
	Source        string                `json:"source"`
	Kind          string                `json:"kind" doc:"Its destination's kind, or pull"`
	Destination   string                `json:"destination,omitempty"`
	Phase         string                `json:"phase" enum:"paused,running,waiting,failed,standby,pull" doc:"standby: another instance delivers it; pull: its consumers come and read"`
	Reason        string                `json:"reason,omitempty"`
	Error         string                `json:"error,omitempty"`
	Code          string                `json:"code,omitempty"`
	Committed     int64                 `json:"committed" doc:"The newest offset that was delivered; 0 before the first"`
	Reported      *int64                `json:"reported,omitempty" doc:"How far its consumer says it is, which keeps an offset of its own"`
	ReportedAt    *time.Time            `json:"reported_at,omitempty"`
	CommittedAt   *time.Time            `json:"committed_at,omitempty"`
	HeldAt        int64                 `json:"held_at,omitempty" doc:"The offset of the change of a table before which it holds, as its schema_changes says"`
	Run           int                   `json:"run" doc:"Counts rewinds, from 1"`
	Delivered     int64                 `json:"delivered" doc:"Events that went out, repeats included"`
	Behind        int64                 `json:"behind_events" doc:"Events of the source after the committed offset"`
	BehindSeconds float64               `json:"behind_seconds" doc:"Since the oldest of those was committed"`
	Rate          float64               `json:"rate" doc:"Events a second, over the last ten seconds"`
	Delay         *float64              `json:"delay_seconds,omitempty" doc:"From the newest delivered event's commit until it was delivered"`
	Attempts      int                   `json:"attempts,omitempty" doc:"Tries since one went well, while it waits"`
	RetryAt       *time.Time            `json:"retry_at,omitempty" doc:"When it is tried again, while it waits"`
	Dead          int64                 `json:"dead_letters" doc:"Events that were refused or have failed too often"`
	Lost          int64                 `json:"lost_events" doc:"Events that retention took before they were delivered, in all"`
	Waiting       int64                 `json:"waiting_behind" doc:"Events that wait behind those, since they are of the same rows"`
	Until         int64                 `json:"until,omitempty" doc:"The newest offset that it delivers, while it has an end"`
	ReturnTo      *int64                `json:"return_to,omitempty" doc:"The offset to which it goes back at that end"`
	Retention     *running.RetentionUse `json:"retention,omitempty" doc:"How near it is to losing what it has not delivered"`
	Loads         []OutletLoad          `json:"loads,omitempty" doc:"Tables that are loaded for this outlet alone, until that is done"`
	Verified      *catalog.Verified     `json:"verified,omitempty" doc:"What the last comparison of all its tables has found"`
	Incomplete    []IncompleteTable     `json:"incomplete,omitempty" doc:"Tables that its consumer has not as the source has them: held at the destination, or stale, unread or unpublished at the source, or such as an earlier version may have left wrong. An outlet with any is not in order, though it delivers"`
	Unmatched     []string              `json:"unmatched,omitempty" doc:"Those of its patterns that no table of the source matches, as far as tables are known"`
}

// IncompleteTable is a table that an outlet's consumer has not as the source has it.
type IncompleteTable struct {
	Table  string `json:"table"`
	Code   string `json:"code" doc:"The cause at the source, or the fault at the destination"`
	Why    string `json:"why"`
	Fix    string `json:"fix,omitempty"`
	Offset int64  `json:"offset,omitempty" doc:"The first event that the destination could not take: the table's events are passed over from there on, until all of its rows are loaded"`
}

// State is how the outlet stands, in one word: its phase, or incomplete.
func (o *OutletStatus) State() string {
	if len(o.Incomplete) > 0 && (o.Phase == outlet.PhaseRunning || o.Phase == outlet.PhasePull) {
		return "incomplete"
	}
	return o.Phase
}

// CodeUnproven is the code of a table that an earlier version may have left wrong.
const CodeUnproven = "unproven"

// incomplete are the tables of a source that are not in order, of those that an outlet takes, and
// those that its destination holds, and those that an earlier version may have left wrong.
func incomplete(one *running.Outlet, tables []TableStatus, unproven []catalog.Unproven) (all []IncompleteTable) {
	if one.Runner != nil {
		for _, h := range one.Runner.Status().Held {
			all = append(all, IncompleteTable{Table: h.Table, Code: h.Code, Why: h.Why, Fix: h.Fix, Offset: h.Offset})
		}
	}
	filter, err := one.Record.Definition.Filter()
	if err != nil {
		return all // the outlet's own fault says it
	}
	for i := range tables {
		t := &tables[i]
		switch t.State {
		case engine.StateStale, engine.StateUnpublished, engine.StateNotLoaded:
			if filter.AdmitsTable(t.Name) {
				all = append(all, IncompleteTable{Table: t.Name, Code: string(t.Cause), Why: t.State + ": " + t.Note})
			}
		}
	}
	for _, u := range unproven {
		if filter.AdmitsTable(u.Table) {
			name := one.Record.Name
			all = append(all, IncompleteTable{Table: u.Table, Code: CodeUnproven, Why: "an earlier version may have left it wrong: " + u.Why,
				Fix: fmt.Sprintf("`rillmark verify %s` proves it, `rillmark outlet load %s --tables %s` loads it again", name, name, change.Argument(u.Table))})
		}
	}
	return all
}

// statusCache keeps the newest status; keepStatus makes one a second while
// somebody looks, and wakes who waits.
type statusCache struct {
	mu      sync.Mutex
	newest  *Status
	made    time.Time
	asked   time.Time
	waken   chan struct{} // has one in it where somebody has asked
	changes int           // of definitions; a status that was begun before one is not new
	changed chan struct{}
	// journals and tables are the last known ones, for when the state database
	// is away.
	journals map[int64]JournalStatus
	tables   map[int64][]TableStatus
	offsets  map[int64]OutletStatus
}

const statusEvery = time.Second

// expire has the next who asks get a new status: what is defined has changed.
func (c *statusCache) expire() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.made = time.Time{}
	c.changes++
}

// ask takes note that somebody looks. The caller holds mu.
func (c *statusCache) ask() {
	c.asked = time.Now()
	select {
	case c.waken <- struct{}{}:
	default:
	}
}

// keep rests while nobody looks.
func (s *Overview) keep() {
	ticker := time.NewTicker(statusEvery)
	defer ticker.Stop()
	for {
		select {
		case <-s.Work.Done():
			return
		case <-s.cache.waken:
		}
		for wanted := true; wanted; {
			select {
			case <-s.Work.Done():
				return
			case <-ticker.C:
			}
			s.cache.mu.Lock()
			wanted = time.Since(s.cache.asked) < 10*statusEvery
			s.cache.mu.Unlock()
			if wanted {
				s.make(s.Work)
			}
		}
	}
}

// Now is how everything stands, at most half a second old.
func (s *Overview) Now(ctx context.Context) *Status {
	s.cache.mu.Lock()
	newest, age := s.cache.newest, time.Since(s.cache.made)
	s.cache.ask()
	s.cache.mu.Unlock()
	if newest != nil && age < statusEvery/2 {
		return newest
	}
	return s.make(ctx)
}

// Next waits for a status newer than last, for those who watch.
func (s *Overview) Next(ctx context.Context, last *Status) (*Status, error) {
	for {
		s.cache.mu.Lock()
		s.cache.ask()
		newest, changed := s.cache.newest, s.cache.changed
		s.cache.mu.Unlock()
		if newest != nil && newest != last {
			return newest, nil
		}
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-s.Draining.Done():
			return nil, context.Cause(s.Draining)
		case <-changed:
		}
	}
}

func (s *Overview) make(ctx context.Context) *Status {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	s.cache.mu.Lock()
	changes := s.cache.changes
	s.cache.mu.Unlock()
	st := &Status{At: time.Now(), Started: s.Started, Sources: []SourceStatus{}, Outlets: []OutletStatus{}}
	st.StateDatabase.Error = s.running.StateError()
	st.StateDatabase.OK = st.StateDatabase.Error == ""
	next := make(map[int64]int64)
	for _, one := range s.running.Sources() {
		st.Sources = append(st.Sources, s.sourceStatus(ctx, one, next))
	}
	offsets, err := s.Catalog.Offsets(ctx)
	letters, lettersErr := s.Catalog.CountAllDeadLetters(ctx)
	if err == nil {
		err = lettersErr
	}
	loads, loadsErr := s.Catalog.OutletLoads(ctx)
	if loadsErr != nil {
		loads = nil // the other figures say that the state database is away
	}
	verified, verifiedErr := s.Catalog.AllVerified(ctx)
	if verifiedErr != nil {
		verified = nil
	}
	unproven, unprovenErr := s.Catalog.AllUnproven(ctx)
	if unprovenErr != nil {
		unproven = nil
	}
	for _, one := range s.running.Outlets() {
		o := s.outletStatus(ctx, one, next[one.SourceID], offsets, letters, err)
		o.Verified = verified[one.Record.ID]
		for i := range st.Sources {
			if st.Sources[i].Name == o.Source {
				o.Incomplete = incomplete(one, st.Sources[i].Tables, unproven[one.Record.ID])
				o.Unmatched = unmatched(one.Record.Definition.Tables, st.Sources[i].Tables)
				o.Loads = loadsOf(loads, one.Record.ID, st.Sources[i].Tables)
			}
		}
		st.Outlets = append(st.Outlets, o)
	}
	sort.Slice(st.Sources, func(i, j int) bool { return st.Sources[i].Name < st.Sources[j].Name })
	sort.Slice(st.Outlets, func(i, j int) bool { return st.Outlets[i].Name < st.Outlets[j].Name })
	s.cache.mu.Lock()
	defer s.cache.mu.Unlock()
	s.cache.newest = st
	if s.cache.changes == changes {
		s.cache.made = time.Now()
	}
	close(s.cache.changed)
	s.cache.changed = make(chan struct{})
	return st
}

func (s *Overview) sourceStatus(ctx context.Context, one *running.Source, next map[int64]int64) SourceStatus {
	d := one.Record.Definition
	now := one.Capture.Status()
	figures := one.Capture.Stats.Figures()
	st := SourceStatus{Name: one.Record.Name, Engine: d.Engine, Database: d.Database(), Phase: now.Phase, Doing: now.Doing,
		Reason: one.Record.Reason, Once: one.Record.Once, Ended: one.Record.Ended, Error: s.Catalog.Keeper.Conceal(now.Error), Code: now.Code, Rate: figures.Rate, Rates: one.Capture.Stats.History(60)}
	if st.Phase == "" {
		st.Phase = capture.PhasePaused
	}
	if !now.Since.IsZero() {
		st.Since = &now.Since
	}
	if !figures.LastCommit.IsZero() {
		seconds := figures.Delay.Seconds()
		st.Delay, st.LastCommit = &seconds, &figures.LastCommit
	}
	st.Journal, st.Tables = s.journalStatus(ctx, one)
	if st.Database == "" {
		st.Database = databasesOf(st.Tables)
	}
	rules := base.ParseRules(d.Tables)
	for i := range st.Tables {
		t := &st.Tables[i]
		if t.State == engine.StateLoading {
			t.LoadRate = one.Capture.Stats.LoadRate(t.Name, t.RowsDone)
			if left := t.RowsEstimate - t.RowsDone; t.LoadRate > 0 && left >= 0 {
				seconds := float64(left) / t.LoadRate
				t.SecondsLeft = &seconds
			}
		}
		if rule := rules.Of(t.Name); rule != nil {
			t.Description = rule.Description
		}
	}
	if w := one.Retained.Load(); w != nil && w.Log.There {
		st.RetainedLog = &RetainedStatus{Bytes: w.Log.Bytes, Limit: w.Log.Limit, Spilled: w.Log.Spilled, Level: w.Log.Level, Advice: w.Log.Advice, At: w.At}
	}
	next[one.Record.ID] = st.Journal.Next
	if place := one.Capture.Stats.Place(); place > 0 {
		st.Position = string(change.Engine(d.Engine).AppendPosition(nil, place))
	}
	return st
}

// databasesOf are the databases of a source that is a whole server, as far as tables of them are
// captured.
func databasesOf(tables []TableStatus) string {
	const most = 3
	var names []string
	for i := range tables {
		name := change.DatabaseOf("", tables[i].Name)
		switch {
		case slices.Contains(names, name):
		case len(names) == most:
			return strings.Join(names, ", ") + ", …"
		default:
			names = append(names, name)
		}
	}
	return strings.Join(names, ", ")
}

// unmatched are the patterns that none of the tables matches; none while no table
// is known.
func unmatched(patterns []string, tables []TableStatus) (without []string) {
	for _, text := range patterns {
		p, err := shape.ParsePattern(text)
		if err == nil && len(tables) > 0 && !slices.ContainsFunc(tables, func(t TableStatus) bool { return p.Matches(t.Name) }) {
			without = append(without, text)
		}
	}
	return without
}

// journalStatus reads journal and tables of a source, or answers with what was
// last known where the state database is away.
func (s *Overview) journalStatus(ctx context.Context, one *running.Source) (JournalStatus, []TableStatus) {
	id := one.Record.ID
	counts, next, live := one.Capture.Counts()
	head, err := s.Store.Head(ctx, id)
	var size int64
	if err == nil {
		size, err = s.Store.Size(ctx, id)
	}
	if err == nil && !live {
		counts, err = s.Store.StoredCounts(ctx, id)
		next = head.Next
	}
	states, stateErr := s.Catalog.TableStates(ctx, id)
	if err == nil {
		err = stateErr
	}
	s.cache.mu.Lock()
	defer s.cache.mu.Unlock()
	if err != nil {
		return s.cache.journals[id], append([]TableStatus{}, s.cache.tables[id]...)
	}
	journal := JournalStatus{Generation: head.Generation, First: head.First, Next: next, Bytes: size}
	tables := tableStatuses(states, counts, &journal)
	if s.cache.journals == nil {
		s.cache.journals, s.cache.tables = make(map[int64]JournalStatus), make(map[int64][]TableStatus)
	}
	s.cache.journals[id], s.cache.tables[id] = journal, tables
	return journal, tables
}

func tableStatuses(states map[string]*engine.TableState, counts []journal.Count, into *JournalStatus) []TableStatus {
	byName := make(map[string]*TableStatus)
	for name, t := range states {
		byName[name] = &TableStatus{Name: name, State: t.State, Cause: t.Cause, Note: t.Note, RowsDone: t.RowsDone, RowsEstimate: t.RowsEstimate, Partitions: t.Members, Counts: map[string]int64{}}
	}
	for _, c := range counts {
		into.Events += c.Events
		if c.Table == "" {
			continue // messages belong to no table
		}
		t := byName[c.Table]
		if t == nil {
			t = &TableStatus{Name: c.Table, State: engine.StateGone, Counts: map[string]int64{}}
			byName[c.Table] = t
		}
		t.Counts[c.Operation.String()] = c.Events
	}
	tables := make([]TableStatus, 0, len(byName))
	for _, t := range byName {
		tables = append(tables, *t)
	}
	sort.Slice(tables, func(i, j int) bool { return tables[i].Name < tables[j].Name })
	return tables
}

func (s *Overview) outletStatus(ctx context.Context, one *running.Outlet, next int64, offsets map[int64]catalog.Offset, letters map[int64][2]int64, err error) OutletStatus {
	st := OutletStatus{Name: one.Record.Name, Source: one.Record.Definition.Source, Kind: "pull", Destination: one.Record.Definition.Destination,
		Phase: outlet.PhasePull, Reason: one.Record.Reason}
	s.cache.mu.Lock()
	if s.cache.offsets == nil {
		s.cache.offsets = make(map[int64]OutletStatus)
	}
	known := s.cache.offsets[one.Record.ID]
	s.cache.mu.Unlock()
	if offset, there := offsets[one.Record.ID]; there && err == nil {
		known = OutletStatus{Committed: offset.Committed, Run: offset.Run, Delivered: offset.Delivered, CommittedAt: &offset.CommittedAt, Until: offset.Until, ReturnTo: offset.ReturnTo, Lost: offset.Lost}
		if offset.ReportedAt != nil {
			known.Reported, known.ReportedAt = &offset.Reported, offset.ReportedAt
		}
		known.Dead, known.Waiting = letters[one.Record.ID][0], letters[one.Record.ID][1]
	}
	st.Committed, st.Run, st.Delivered, st.CommittedAt, st.Until = known.Committed, known.Run, known.Delivered, known.CommittedAt, known.Until
	st.Reported, st.ReportedAt = known.Reported, known.ReportedAt
	st.Lost, st.ReturnTo = known.Lost, known.ReturnTo
	st.Dead, st.Waiting, st.Retention = known.Dead, known.Waiting, one.Retention.Load()
	if one.Runner != nil {
		now := one.Runner.Status()
		st.Kind, st.Phase, st.Error, st.Code, st.Rate, st.HeldAt = one.Kind, now.Phase, now.Error, now.Code, now.Rate, now.HeldAt
		if now.Phase == outlet.PhaseWaiting {
			st.Attempts, st.RetryAt = now.Attempts, &now.Retry
		}
		st.Committed = max(st.Committed, now.Committed)
		if now.Delay > 0 {
			seconds := now.Delay.Seconds()
			st.Delay = &seconds
		}
		if st.Phase == "" {
			st.Phase = outlet.PhasePaused
		}
	} else if !one.Record.Running {
		st.Phase = outlet.PhasePaused
	}
	if one.Wrong != nil {
		var fault *engine.Fault
		st.Phase, st.Error = outlet.PhaseFailed, one.Wrong.Error()
		if errors.As(one.Wrong, &fault) {
			st.Code = fault.Code
		}
	}
	st.Error = s.Catalog.Keeper.Conceal(st.Error)
	reached := st.Committed
	if st.Reported != nil {
		reached = max(reached, *st.Reported)
	}
	st.Behind = max(next-1-reached, 0)
	if st.Behind > 0 {
		st.BehindSeconds = known.BehindSeconds
		if at, err := s.Store.CommitTime(ctx, one.SourceID, reached+1); err == nil && !at.IsZero() {
			st.BehindSeconds = max(time.Since(at).Seconds(), 0)
		}
	}
	known.BehindSeconds = st.BehindSeconds
	s.cache.mu.Lock()
	s.cache.offsets[one.Record.ID] = known
	s.cache.mu.Unlock()
	return st
}

// OutletHistory is an outlet's last hour, what went out since the service
// started, and what retention took from it.
func (s *Overview) OutletHistory(ctx context.Context, name string) (points []outlet.Point, counts outlet.Counts, lost []catalog.Lost, err error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, nil, nil, base.Answer(err, "outlet", name)
	}
	if lost, err = s.Catalog.LostOffsets(ctx, record.ID); err != nil {
		return nil, nil, nil, base.Answer(err, "outlet", name)
	}
	one := s.running.Outlet(name)
	points = []outlet.Point{}
	if one != nil && one.Runner != nil {
		points, counts = append(points, one.Runner.History()...), one.Runner.Counts()
	}
	return points, counts, append([]catalog.Lost{}, lost...), nil
}
