package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"rillmark/internal/capture"
	"rillmark/internal/capture/load"
	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/engine"
	"rillmark/internal/service/base"
	"rillmark/internal/service/running"
	"rillmark/internal/settings"
)

// Add stores a source, which starts when it is resumed.
func (s *Sources) Add(ctx context.Context, name string, d definition.Source) error {
	if err := definition.CheckName("a source", name); err != nil {
		return err
	}
	d = d.Clone()
	if d.Connection.Connection != nil {
		d.Connection.Secure()
	}
	if err := d.Complete(); err != nil {
		return err
	}
	if err := s.tablesFit(ctx, name, &d); err != nil {
		return err
	}
	if err := s.Catalog.AddSource(ctx, name, d); err != nil {
		return base.Answer(err, "source", name)
	}
	s.Note(ctx, "info", "source/"+name, "added", "source added")
	return base.Answer(s.running.Reconcile(), "source", name)
}

// Edit stores a new definition in place of version. A source that runs
// goes on with it.
func (s *Sources) Edit(ctx context.Context, name string, version int64, d definition.Source) error {
	if err := d.Complete(); err != nil {
		return err
	}
	old, err := s.Catalog.Source(ctx, name)
	if err != nil {
		return base.Answer(err, "source", name)
	}
	if err := s.ruleKeysFit(ctx, name, &d); err != nil {
		return err
	}
	if err := s.tablesFit(ctx, name, &d); err != nil {
		return err
	}
	if err := s.Catalog.EditSource(ctx, name, version, d); err != nil {
		return base.Answer(err, "source", name)
	}
	if now, err := s.Catalog.Source(ctx, name); err == nil {
		s.NoteEdited(ctx, "source/"+name, now.Version, old.Definition, now.Definition)
	}
	return base.Answer(s.running.Reconcile(), "source", name)
}

// SetRunning resumes or pauses a source.
func (s *Sources) SetRunning(ctx context.Context, name string, running bool, reason string) error {
	if err := s.Catalog.SetSourceRunning(ctx, name, running, reason); err != nil {
		return base.Answer(err, "source", name)
	}
	s.Note(ctx, "info", "source/"+name, word(running), word(running)+base.Because(reason))
	return base.Answer(s.running.Reconcile(), "source", name)
}

func word(running bool) string {
	if running {
		return "resumed"
	}
	return "paused"
}

// Removal says what a removed source leaves behind.
type Removal struct {
	Remains []string `json:"remains" doc:"What an administrator made for the source on its database, and is still there; the teardown script takes it away"`
}

// Remove removes a source with its journal, and what was made for it on
// the database. forget leaves the database alone, for one that is gone.
func (s *Sources) Remove(ctx context.Context, name string, forget bool) (*Removal, error) {
	record, err := s.Catalog.Source(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "source", name)
	}
	for _, one := range s.running.Outlets() {
		if one.SourceID == record.ID {
			return nil, &engine.Fault{Code: base.CodeInUse, Message: fmt.Sprintf("source %q has outlet %q", name, one.Record.Name), Fix: "remove its outlets first"}
		}
	}
	if record.Running {
		if err := s.SetRunning(ctx, name, false, "being removed"); err != nil {
			return nil, err
		}
	}
	var remains []string
	if !forget {
		built, err := s.build(record)
		if err == nil {
			remains, err = built.Remove(ctx)
		}
		if err != nil {
			return nil, &engine.Fault{Code: "source-not-cleared", Message: fmt.Sprintf("source %q is paused but not removed: what was made on its database could not be taken away", name), Cause: err,
				Fix: "mend that, or remove with --forget and drop slot and publications there yourself: an abandoned slot fills the database's disk"}
		}
	}
	if err := s.Store.Remove(ctx, record.ID); err != nil {
		return nil, base.Answer(err, "source", name)
	}
	if err := s.Catalog.RemoveSource(ctx, name); err != nil {
		return nil, base.Answer(err, "source", name)
	}
	told := "source removed with its journal"
	if len(remains) > 0 {
		told += "; on its database remain " + strings.Join(remains, ", ")
	}
	s.Note(ctx, "info", "source/"+name, "removed", told)
	return &Removal{append([]string{}, remains...)}, base.Answer(s.running.Reconcile(), "source", name)
}

// Check checks a definition before anything is stored, or a stored one
// where d is nil.
func (s *Sources) Check(ctx context.Context, name string, d *definition.Source) ([]change.Check, error) {
	built, err := s.engineOf(ctx, name, d)
	if err != nil {
		return nil, err
	}
	s.Note(ctx, "info", "source/"+name, "checked", "the source was checked")
	checks := built.Check(ctx)
	if d == nil {
		record, err := s.Catalog.Source(ctx, name)
		if err != nil {
			return nil, base.Answer(err, "source", name)
		}
		d = &record.Definition
	}
	for _, one := range s.missingTables(ctx, built, name, d) {
		check := change.Check{Name: "rule " + one.pattern, Verdict: change.Missing, Found: one.says, Why: "until there is one, the rule keeps nothing back", Fix: "correct the name, or set allow_missing in the rule where that table is still to come"}
		if one.allowed {
			check.Verdict, check.Fix = change.Note, "correct the name where it is a wrong one"
		}
		checks = append(checks, check)
	}
	return s.Concealed(checks), nil
}

// listTime is what listing a source's tables may take before a definition is stored without it.
const listTime = 3 * time.Second

// missingTables are the rules that keep something back and match no table of the source's database;
// none where it cannot be asked.
func (s *Sources) missingTables(ctx context.Context, built engine.Engine, name string, d *definition.Source) (missing []missingTable) {
	if !slices.ContainsFunc(d.Tables, func(r definition.TableRule) bool { return r.KeepsBack() }) {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, listTime)
	defer cancel()
	tables, err := built.Tables(ctx)
	if err != nil {
		return nil
	}
	var known []string
	for _, t := range tables {
		known = append(known, t.Name)
		if t.PartitionOf != "" {
			known = append(known, t.PartitionOf)
		}
	}
	for i := range d.Tables {
		if r := &d.Tables[i]; r.KeepsBack() {
			if one := missingIn(known, name, r.Match); one != nil {
				one.at, one.allowed = fmt.Sprintf("tables[%d].match", i), r.AllowMissing
				missing = append(missing, *one)
			}
		}
	}
	return missing
}

// tablesFit refuses such rules, unless they are allowed to.
func (s *Sources) tablesFit(ctx context.Context, name string, d *definition.Source) error {
	copied := d.Clone()
	built, err := s.engineOf(ctx, name, &copied)
	if err != nil {
		return nil //nolint:nilerr // what is wrong with it is said elsewhere, or mended until it is resumed
	}
	for _, one := range s.missingTables(ctx, built, name, d) {
		if !one.allowed {
			return &definition.Invalid{Location: one.at, Message: one.says + " Where that table is still to come, set allow_missing in the rule"}
		}
	}
	return nil
}

// Scripts are what an administrator runs on a source.
type Scripts struct {
	Setup    string `json:"setup" doc:"Prepares the database, with the least rights for the login"`
	Teardown string `json:"teardown" doc:"Takes that away again"`
	// Statements is a choice of its own: it installs an event trigger.
	Statements string `json:"statements" doc:"Has the database write the text of each schema change into its log; not needed"`
}

// Scripts writes the scripts for a definition, or for a stored one where d
// is nil. It does not reach the source.
func (s *Sources) Scripts(ctx context.Context, name string, d *definition.Source) (*Scripts, error) {
	if d == nil {
		var err error
		if d, err = s.Catalog.SourceOrRemoved(ctx, name); err != nil {
			return nil, base.Answer(err, "source", name)
		}
	}
	bare := d.Clone()
	settings.EachSecret(bare.Connection.Connection, "", func(_, _ string) string { return "" }) // no script needs them, and they may not be there yet
	if bare.HashKey != "" {
		bare.HashKey = "none is needed"
	}
	built, err := s.engineOf(ctx, name, &bare)
	if err != nil {
		return nil, err
	}
	scripter, can := built.(engine.Scripter)
	if !can {
		return nil, engine.Lacks(built.Name(), engine.CanScript)
	}
	return &Scripts{scripter.SetupSQL(), scripter.TeardownSQL(), scripter.StatementsSQL()}, nil
}

// ScriptRun says which script is run, and as whom.
type ScriptRun struct {
	Script     string             `json:"script" enum:"setup,teardown,statements"`
	User       string             `json:"user,omitempty" doc:"A login that may do more than the source's own; it is not kept"`
	Password   string             `json:"password,omitempty" doc:"Its password, or a reference to it; not kept"`
	Definition *definition.Source `json:"definition,omitempty" doc:"The definition that the script is for; the stored one without it"`
}

// RunScript runs one of the scripts on the source's database.
func (s *Sources) RunScript(ctx context.Context, name string, run ScriptRun) error {
	built, err := s.engineOf(ctx, name, run.Definition)
	if err != nil {
		return err
	}
	scripts, err := s.Scripts(ctx, name, run.Definition)
	if err != nil {
		return err
	}
	script := map[string]string{"setup": scripts.Setup, "teardown": scripts.Teardown, "statements": scripts.Statements}[run.Script]
	if script == "" {
		return &definition.Invalid{Location: "script", Message: fmt.Sprintf("%q is none of setup, teardown and statements", run.Script)}
	}
	password, err := s.Catalog.Keeper.Expand(run.Password)
	if err != nil {
		return &definition.Invalid{Location: "password", Message: err.Error()}
	}
	ctx, cancel := context.WithTimeout(ctx, clearTime)
	defer cancel()
	if err := built.(engine.Scripter).RunScript(ctx, script, run.User, password); err != nil {
		return err
	}
	s.Note(ctx, "info", "source/"+name, "script", "the "+run.Script+" script was run on the database")
	return nil
}

// Tables lists the tables that the database of a definition has, or of a
// stored one where d is nil.
func (s *Sources) Tables(ctx context.Context, name string, d *definition.Source) ([]engine.Table, error) {
	built, err := s.engineOf(ctx, name, d)
	if err != nil {
		return nil, err
	}
	return built.Tables(ctx)
}

func (s *Sources) engineOf(ctx context.Context, name string, d *definition.Source) (engine.Engine, error) {
	if d == nil {
		record, err := s.Catalog.Source(ctx, name)
		if err != nil {
			return nil, base.Answer(err, "source", name)
		}
		return s.build(record)
	}
	if err := definition.CheckName("a source", name); err != nil {
		return nil, err
	}
	if _, err := s.Catalog.Source(ctx, name); err != nil {
		if d.Connection.Connection != nil {
			d.Connection.Secure()
		}
	}
	if err := d.Complete(); err != nil {
		return nil, err
	}
	record := &catalog.Source{Name: name, Definition: *d}
	if err := s.Catalog.Unseal(ctx, name, &record.Definition); err != nil {
		return nil, base.Answer(err, "source", name)
	}
	return s.build(record)
}

// clearTime is what taking things away from a source's database may take.
const clearTime = 30 * time.Second

// Reload has a table's rows read anew: all of them, or those for which a
// condition in the source's own language holds.
func (s *Sources) Reload(ctx context.Context, name, table, condition string) error {
	record, err := s.Catalog.Source(ctx, name)
	if err != nil {
		return base.Answer(err, "source", name)
	}
	if err := base.Loads(record); err != nil {
		return err
	}
	states, err := s.Catalog.TableStates(ctx, record.ID)
	if err != nil {
		return base.Answer(err, "source", name)
	}
	if states[table] == nil {
		return &engine.Fault{Code: base.CodeNotFound, Message: fmt.Sprintf("source %q captures no table %q", name, table), Fix: "`rillmark source show " + name + "` lists its tables"}
	}
	condition = strings.TrimSpace(condition)
	if condition != "" {
		if err := s.checkCondition(ctx, record, []string{table}, condition); err != nil {
			return err
		}
	}
	err = s.reload(ctx, record, table, condition)
	s.overview.cache.expire()
	if errors.Is(err, catalog.ErrNotFound) || errors.Is(err, engine.ErrCannotLoad) {
		return &engine.Fault{Code: base.CodeInvalid, Message: fmt.Sprintf("table %q is %s and cannot be loaded now", table, states[table].State)}
	}
	if err != nil {
		return base.Answer(err, "source", name)
	}
	what := "reload of " + table
	if condition != "" {
		what += " where " + condition
	}
	s.Note(ctx, "info", "source/"+name, "reload", what+" asked for")
	return nil
}

// reload has the running capture take a load on; where none runs, or none that can, it
// stands still while its record of the table is changed.
func (s *Sources) reload(ctx context.Context, record *catalog.Source, table, condition string) error {
	one := s.running.Source(record.Name)
	if one != nil {
		asked, cancel := context.WithTimeout(ctx, running.ReloadTime)
		taken, err := one.Capture.Reload(asked, table, load.Ask{Where: condition})
		cancel()
		if taken || ctx.Err() != nil {
			return err
		}
		if one.Capture.Status().Phase == capture.PhaseStandby {
			// What another instance's capture has in its memory counts, not the record.
			return s.Catalog.AskReload(ctx, record.ID, table, condition)
		}
	}
	goOn, err := s.running.SourceStill(record.Name)
	if err != nil {
		return err
	}
	defer goOn()
	return s.Catalog.ReloadTable(ctx, record.ID, table, condition)
}

// generationsBegin is when numbers of generations that follow the clock began: the
// minutes since then fit into 32 bits for some thousands of years.
var generationsBegin = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

// SourceReset is what a reset did.
type SourceReset struct {
	Generation int   `json:"generation" doc:"The journal's new generation, which ids carry from here on"`
	First      int64 `json:"first" doc:"Its first offset; what lies before is kept"`
}

// Reset begins a source's capture anew where its stream cannot go on: with
// a new slot, a load of all tables, and a new generation of the journal, whose old events
// stay. reason is a person's, for the record.
func (s *Sources) Reset(ctx context.Context, name, reason string) (*SourceReset, error) {
	record, err := s.Catalog.Source(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "source", name)
	}
	if !record.Definition.Loads() {
		return nil, &engine.Fault{Code: base.CodeInvalid, Message: fmt.Sprintf("source %q is defined to follow only: what it missed cannot be loaded", name),
			Fix: "set mode to load-and-follow in its definition, or remove it and add it again to follow from now on"}
	}
	one := s.running.Source(name)
	fault := ""
	if one != nil {
		fault = one.Capture.Status().Code
	}
	if err := s.SetRunning(ctx, name, false, "being reset"); err != nil {
		return nil, err
	}
	built, err := s.build(record)
	if err == nil {
		_, err = built.Remove(ctx)
	}
	if err != nil {
		return nil, &engine.Fault{Code: "source-not-cleared", Message: fmt.Sprintf("source %q is paused and not reset: its old slot and publications could not be taken away", name), Cause: err}
	}
	why := strings.TrimSpace(strings.Join([]string{fault, reason}, " "))
	least := 0
	if fault == "slot-advanced" {
		// The state database may be a restored copy, and may be restored again: the
		// next number could have been used by a journal that nobody has any more. One
		// that follows the clock has not.
		least = int(time.Since(generationsBegin) / time.Minute)
	}
	start, err := s.Store.StartGeneration(ctx, record.ID, least, why)
	if err == nil {
		err = s.Catalog.GenerationStarted(ctx, record.ID)
	}
	if err != nil {
		return nil, base.Answer(err, "source", name)
	}
	s.Note(ctx, "warn", "source/"+name, "reset", fmt.Sprintf("capture begins anew: generation %d from offset %d on%s", start.Generation, start.First, base.Because(why)))
	// Outlets first: they have to know of the new generation before an event lies behind it.
	if err := s.running.Reconcile(); err != nil {
		return nil, base.Answer(err, "source", name)
	}
	return &SourceReset{start.Generation, start.First}, s.SetRunning(ctx, name, true, "reset"+base.Because(reason))
}

// complete ends a source that was to load only: what was made on its database is
// taken away, so that its log is not held back.
func (s *Sources) complete(record *catalog.Source) {
	ctx, cancel := context.WithTimeout(s.Work, clearTime)
	defer cancel()
	subject := "source/" + record.Name
	built, err := s.build(record)
	if err == nil {
		_, err = built.Remove(ctx)
	}
	if err != nil {
		s.RunLog.Write("error", subject, "not-cleared", "all tables are loaded, but the slot is still there and holds log back: "+err.Error())
	}
	reason := "all tables are loaded"
	var failed []string
	states, err := s.Catalog.TableStates(ctx, record.ID)
	for name, t := range states {
		if t.State == engine.StateNotLoaded {
			failed = append(failed, name)
		}
	}
	if len(failed) > 0 {
		sort.Strings(failed)
		reason = "all tables are loaded but " + strings.Join(failed, ", ")
	}
	if err == nil {
		err = s.Catalog.EndSourceRun(ctx, record.ID, reason)
	}
	if err == nil {
		s.RunLog.Write("info", subject, "ended", reason+": paused")
		err = s.running.Reconcile()
	}
	if err == nil {
		err = s.Catalog.CompleteSource(ctx, record.ID)
	}
	s.overview.cache.expire()
	if err != nil {
		s.RunLog.Write("error", subject, "state-database", err.Error())
	}
}

// SourceRun is what running a source once begins with.
type SourceRun struct {
	Next int64 `json:"next" doc:"The offset that the next event gets: where the journal still stands there when the source is paused again, there was nothing to do"`
}

// RunOnce lets a paused source load what is to be loaded and follow what had been
// committed by then, and pauses it again.
func (s *Sources) RunOnce(ctx context.Context, name string) (*SourceRun, error) {
	record, err := s.Catalog.Source(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "source", name)
	}
	if record.Running {
		return nil, &engine.Fault{Code: base.CodeRunning, Message: fmt.Sprintf("source %q runs already", name), Fix: "`rillmark source pause " + name + "` first, or leave it running"}
	}
	head, err := s.Store.Head(ctx, record.ID)
	if err != nil {
		return nil, base.Answer(err, "source", name)
	}
	const reason = "runs until it has caught up"
	if err := s.Catalog.RunSourceOnce(ctx, name, reason); err != nil {
		return nil, base.Answer(err, "source", name)
	}
	s.Note(ctx, "info", "source/"+name, "resumed", reason)
	return &SourceRun{head.Next}, base.Answer(s.running.Reconcile(), "source", name)
}

// caughtUp pauses a source that was to run once.
func (s *Sources) caughtUp(record *catalog.Source) {
	s.UntilRecorded(func(ctx context.Context) error {
		if err := s.Catalog.EndSourceRun(ctx, record.ID, "has caught up"); err != nil {
			return err
		}
		s.RunLog.Write("info", "source/"+record.Name, "ended", "has caught up: paused")
		return s.running.Reconcile()
	})
}
