package comparing

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/service/base"
)

// Following back keeps the former database equal to the new one, from the moment of a cut
// over on. What led here must not go back: the outlet that leads back begins behind all of it,
// while nobody writes to either side.

// FollowsBack is an outlet that leads back from a cut over on.
type FollowsBack struct {
	Outlet string `json:"outlet"`
	Source string `json:"source" doc:"Its source, on the new database"`
	Offset int64  `json:"offset" doc:"The source's offset behind which it begins"`
}

// wayBack is an outlet that is to lead back.
type wayBack struct {
	record      *catalog.Outlet
	source      *catalog.Source
	destination *catalog.Destination
	reader      engine.Comparer
}

// wayBackOf is the outlet of a name as one that leads back; nil for an empty name.
func (s *Comparing) wayBackOf(ctx context.Context, name string) (*wayBack, error) {
	if name == "" {
		return nil, nil
	}
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	b := &wayBack{record: record}
	if b.source, err = s.Catalog.Source(ctx, record.Definition.Source); err != nil {
		return nil, base.Answer(err, "source", record.Definition.Source)
	}
	if record.Definition.Destination == "" {
		return nil, cannotFollowBack(name, "its consumers read it")
	}
	if b.destination, err = s.Catalog.Destination(ctx, record.Definition.Destination); err != nil {
		return nil, base.Answer(err, "destination", record.Definition.Destination)
	}
	e, err := s.Engine(b.source)
	if err != nil {
		return nil, err
	}
	var can bool
	if b.reader, can = e.(engine.Comparer); !can {
		return nil, engine.Lacks(e.Name(), engine.CanCompare)
	}
	return b, nil
}

func cannotFollowBack(name, why string) error {
	return &engine.Fault{Code: "cannot-cut-over", Message: fmt.Sprintf("outlet %q cannot lead back: %s", name, why),
		Fix: "name one whose source is on the new database, and whose destination is the former one"}
}

// address is where a database is, as sources and destinations have it.
type address struct {
	Host     string `json:"host"`
	Port     int    `json:"port"`
	Database string `json:"database"`
}

func (a address) String() string {
	text := fmt.Sprintf("%s:%d", a.Host, a.Port)
	if a.Database != "" {
		text += " " + a.Database
	}
	return text
}

// mayBe reports whether both may be one database, as far as their addresses tell.
func (a address) mayBe(b address) bool {
	return a.Host == b.Host && a.Port == b.Port && (a.Database == b.Database || a.Database == "" || b.Database == "")
}

// addressIn reads an address out of a definition's section.
func addressIn(section any) (a address) {
	if raw, err := json.Marshal(section); err == nil {
		json.Unmarshal(raw, &a) //nolint:errcheck // one that cannot be read is nowhere
	}
	return a
}

// checkWayBack looks whether an outlet can lead back.
func (s *Comparing) checkWayBack(ctx context.Context, m *mover, add func(name string, verdict change.Verdict, found, fix string)) {
	b, name := m.back, m.back.record.Name
	to, err := s.Catalog.Destination(ctx, m.record.Definition.Destination)
	if err != nil {
		add("follow back", change.Missing, err.Error(), "")
		return
	}
	capture := s.Running.Capturing(b.source.Name)
	from, back := b.source.Definition, b.destination.Definition
	here, there := addressIn(to.Definition.Settings), addressIn(from.Connection)
	was, goes := addressIn(m.source.Definition.Connection), addressIn(back.Settings)
	switch {
	case from.Engine != to.Definition.Kind:
		add("follow back", change.Missing, fmt.Sprintf("source %s is on %s, and the new database is %s", b.source.Name, from.Engine, to.Definition.Kind), "name an outlet whose source is on the new database")
	case back.Kind != m.source.Definition.Engine:
		add("follow back", change.Missing, fmt.Sprintf("destination %s is %s, and the former database is on %s", b.destination.Name, back.Kind, m.source.Definition.Engine), "name an outlet whose destination is the former database")
	case b.record.Running:
		add("follow back", change.Missing, name+" delivers already: what comes here would go back", "rillmark outlet pause "+name)
	case capture == nil || capture.Status().Phase != "running":
		add("follow back", change.Missing, b.source.Name+" is not captured by this instance now", "rillmark source resume "+b.source.Name)
	case !here.mayBe(there):
		add("follow back", change.Note, fmt.Sprintf("source %s is at %s, and the new database at %s", b.source.Name, there, here), "see that both are one database")
	case !was.mayBe(goes):
		add("follow back", change.Note, fmt.Sprintf("destination %s is at %s, and the former database at %s", b.destination.Name, goes, was), "see that both are one database")
	default:
		add("follow back", change.Good, fmt.Sprintf("%s leads from %s back to %s", name, there, goes), "")
	}
	checks, err := s.Check(ctx, name)
	if err != nil {
		add("follow back", change.Missing, err.Error(), "")
		return
	}
	for _, c := range checks {
		if c.Verdict == change.Missing {
			add("follow back: "+c.Name, c.Verdict, c.Found, c.Fix)
		}
	}
}

// backTime is how long the source of the way back has to come to the present.
const backTime = time.Minute

// prepareBack sets the outlet that leads back behind everything that has come here. It stays
// paused: it may not deliver as long as the outlet that leads here does, also after a kill.
func (c *cutover) prepareBack(ctx context.Context) error {
	if c.back == nil {
		return nil
	}
	name, source := c.back.record.Name, c.back.source
	present, err := c.back.reader.Present(ctx)
	if err != nil {
		return err
	}
	waiting, cancel := context.WithTimeoutCause(ctx, backTime, &engine.Fault{Code: "cannot-cut-over", Message: fmt.Sprintf("source %s has not come to the present within %s", source.Name, backTime), Fix: "see `rillmark source show " + source.Name + "`, and cut over again"})
	defer cancel()
	ticker := time.NewTicker(lookAgain)
	defer ticker.Stop()
	for {
		capture := c.Running.Capturing(source.Name)
		if capture == nil {
			return cannotFollowBack(name, "source "+source.Name+" is no longer captured by this instance")
		}
		if capture.Reached(present) {
			break
		}
		select {
		case <-waiting.Done():
			return context.Cause(waiting)
		case <-ticker.C:
		}
	}
	head, err := c.Store.Head(ctx, source.ID)
	if err != nil {
		return base.Answer(err, "source", source.Name)
	}
	c.follows = &FollowsBack{Outlet: name, Source: source.Name, Offset: head.Next - 1}
	if err := c.SetBehind(ctx, name, c.follows.Offset); err != nil {
		return fmt.Errorf("outlet %s cannot be set to where it begins: %w", name, err)
	}
	return nil
}

// followBack has the outlet that leads back deliver, once the other one is paused. The cut over is
// done in any case: an outlet that could not be resumed stands where it has to begin.
func (c *cutover) followBack(ctx context.Context) {
	if c.follows == nil {
		return
	}
	if err := c.Resume(ctx, c.follows.Outlet, "follows back from the cut over of "+c.record.Name); err != nil {
		c.note("error", "back", fmt.Sprintf("outlet %s does not lead back yet: %s; `rillmark outlet resume %[1]s` has it begin", c.follows.Outlet, err))
		return
	}
	c.note("info", "back", fmt.Sprintf("%s leads back from here: it begins behind offset %d of %s", c.follows.Outlet, c.follows.Offset, c.follows.Source))
}
