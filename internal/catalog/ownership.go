package catalog

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
)

// An outlet is delivered by one instance at a time. Which one stands in the outlet's
// row, with an epoch that each owner raises; it holds as long as the instance renews
// its own line in rillmark.instance. One line is renewed for all outlets, and their
// offsets are committed together, so that the state database has a few sessions and a
// few transactions a second however many outlets there are.
//
// What fences: an offset is committed only where the row still has the committer's
// epoch, in the same statement. An instance that could not renew its line in time
// stops to deliver by its own clock, before another one may take over.
const (
	ownFor     = 7 * time.Second // a line is good for so long, by the state database's clock
	renewEvery = 2 * time.Second
	// trustFor is how long after a renewal was asked for an instance delivers.
	trustFor = 5 * time.Second
	// commitLinger is how long a commit waits for those of other outlets.
	commitLinger = 30 * time.Millisecond
)

// ErrHeld says that another instance delivers an outlet.
var ErrHeld = errors.New("another instance delivers this outlet")

// Instance is this process among those on one state database.
type Instance struct {
	// Configured is what all instances must have in common, in words: key and files.
	Configured string

	catalog *Catalog
	id      string

	mu      sync.Mutex
	renewed time.Time // when the newest renewal that succeeded was asked for
	pending []commit
	wake    chan struct{}
}

// fence is what an outlet's row must still have for a commit to count.
type fence struct {
	outlet, epoch int64
	run           int32
}

type commit struct {
	fence
	committed, delivered int64
	urgent               bool
	done                 chan error
}

// NewInstance makes an instance with a new id. It owns nothing before [Instance.Renew].
func (c *Catalog) NewInstance() *Instance {
	var id [12]byte
	rand.Read(id[:]) // never fails
	return &Instance{catalog: c, id: hex.EncodeToString(id[:]), wake: make(chan struct{}, 1)}
}

// Otherwise is what another instance that lives has been given of what all must have in common, where
// that is something else; empty where there is none.
func (i *Instance) Otherwise(ctx context.Context) (configured string, err error) {
	err = i.catalog.Pool.QueryRow(ctx, "SELECT coalesce((SELECT configured FROM rillmark.instance WHERE until > now() AND configured NOT IN ('', $1) LIMIT 1), '')", i.Configured).Scan(&configured)
	return configured, err
}

// ID is the instance's, new with each process.
func (i *Instance) ID() string { return i.id }

// Renew says that the instance lives.
func (i *Instance) Renew(ctx context.Context) error {
	asked := time.Now()
	_, err := i.catalog.Pool.Exec(ctx, `INSERT INTO rillmark.instance (id, until, configured) VALUES ($1, now() + $2::interval, $3)
		ON CONFLICT (id) DO UPDATE SET until = excluded.until`, i.id, ownFor, i.Configured)
	if err != nil {
		return err
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	i.renewed = asked
	return nil
}

// Valid reports whether the instance may deliver what it owns.
func (i *Instance) Valid() bool {
	i.mu.Lock()
	defer i.mu.Unlock()
	return time.Since(i.renewed) < trustFor
}

// Keep renews the instance's line until ctx is done, and forgets those of instances
// that have been gone for a day.
func (i *Instance) Keep(ctx context.Context) {
	ticker := time.NewTicker(renewEvery)
	defer ticker.Stop()
	for n := 1; ; n++ {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		attempt, cancel := context.WithTimeout(ctx, renewEvery)
		i.Renew(attempt) //nolint:errcheck // what cannot be renewed is not delivered; the next tick tries again
		if n%1800 == 0 {
			i.catalog.Pool.Exec(attempt, "DELETE FROM rillmark.instance WHERE until < now() - interval '1 day'") //nolint:errcheck // the next time does
		}
		cancel()
	}
}

// Leave gives up all that the instance owns.
func (i *Instance) Leave(ctx context.Context) error {
	_, err := i.catalog.Pool.Exec(ctx, "DELETE FROM rillmark.instance WHERE id = $1", i.id)
	return err
}

// Hold is the right to deliver an outlet, which one instance has at a time.
type Hold struct {
	instance      *Instance
	outlet, epoch int64
}

// HoldOutlet takes the right to deliver an outlet; [ErrHeld] where another instance
// has it that lives.
func (i *Instance) HoldOutlet(ctx context.Context, outlet int64) (*Hold, error) {
	h := &Hold{instance: i, outlet: outlet}
	err := i.catalog.Pool.QueryRow(ctx, `UPDATE rillmark.outlet_offset o SET owner = $2, epoch = epoch + 1
		WHERE outlet_id = $1 AND (owner IS NULL OR owner = $2 OR NOT EXISTS (SELECT FROM rillmark.instance i WHERE i.id = o.owner AND i.until > now()))
		RETURNING epoch`, outlet, i.id).Scan(&h.epoch)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, ErrHeld
	}
	if err != nil {
		return nil, err
	}
	return h, nil
}

// Valid reports whether the outlet may be delivered now.
func (h *Hold) Valid() bool { return h.instance.Valid() }

// Commit moves the outlet's committed offset; see [Catalog.Commit]. It returns at
// once; the answer comes over the channel: [ErrVersion] where another instance or
// another run has the outlet. urgent does not wait for other outlets' commits.
func (h *Hold) Commit(run int, committed, delivered int64, urgent bool) <-chan error {
	one := commit{fence{h.outlet, h.epoch, int32(run)}, committed, delivered, urgent, make(chan error, 1)}
	i := h.instance
	i.mu.Lock()
	i.pending = append(i.pending, one)
	i.mu.Unlock()
	select {
	case i.wake <- struct{}{}:
	default:
	}
	return one.done
}

// KeepCommitting commits offsets, those of many outlets in one statement, until ctx is
// done.
func (i *Instance) KeepCommitting(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			i.answer(i.take(), context.Cause(ctx))
			return
		case <-i.wake:
		}
		if !i.urgent() {
			timer := time.NewTimer(commitLinger)
			select {
			case <-ctx.Done():
			case <-timer.C:
			}
			timer.Stop()
		}
		if all := i.take(); len(all) > 0 {
			i.commit(ctx, all)
		}
	}
}

func (i *Instance) take() []commit {
	i.mu.Lock()
	defer i.mu.Unlock()
	all := i.pending
	i.pending = nil
	return all
}

func (i *Instance) urgent() bool {
	i.mu.Lock()
	defer i.mu.Unlock()
	for _, one := range i.pending {
		if one.urgent {
			return true
		}
	}
	return false
}

func (i *Instance) answer(all []commit, err error) {
	for _, one := range all {
		one.done <- err
	}
}

// commitTimeout is what the state database has for one commit.
const commitTimeout = 30 * time.Second

func (i *Instance) commit(ctx context.Context, all []commit) {
	ctx, cancel := context.WithTimeout(ctx, commitTimeout)
	defer cancel()
	// Two of one outlet count together: one statement changes a row only once.
	sums := make(map[fence]commit, len(all))
	for _, one := range all {
		sum := sums[one.fence]
		sum.committed, sum.delivered = max(sum.committed, one.committed), sum.delivered+one.delivered
		sums[one.fence] = sum
	}
	n := len(sums)
	outlets, epochs, runs := make([]int64, 0, n), make([]int64, 0, n), make([]int32, 0, n)
	committed, delivered := make([]int64, 0, n), make([]int64, 0, n)
	for f, sum := range sums {
		outlets, epochs, runs = append(outlets, f.outlet), append(epochs, f.epoch), append(runs, f.run)
		committed, delivered = append(committed, sum.committed), append(delivered, sum.delivered)
	}
	rows, _ := i.catalog.Pool.Query(ctx, `UPDATE rillmark.outlet_offset o SET committed = greatest(o.committed, c.committed), delivered = o.delivered + c.delivered, committed_at = now()
		FROM unnest($1::bigint[], $2::bigint[], $3::integer[], $4::bigint[], $5::bigint[]) AS c(outlet, epoch, run, committed, delivered)
		WHERE o.outlet_id = c.outlet AND o.epoch = c.epoch AND o.run = c.run RETURNING c.outlet, c.epoch, c.run`, outlets, epochs, runs, committed, delivered)
	moved := make(map[fence]bool, n)
	var f fence
	if _, err := pgx.ForEachRow(rows, []any{&f.outlet, &f.epoch, &f.run}, func() error {
		moved[f] = true
		return nil
	}); err != nil {
		i.answer(all, fmt.Errorf("committing offsets: %w", err))
		return
	}
	for _, one := range all {
		if moved[one.fence] {
			one.done <- nil
		} else {
			one.done <- ErrVersion
		}
	}
}

// Release lets another instance deliver the outlet.
func (h *Hold) Release() {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	h.instance.catalog.Pool.Exec(ctx, "UPDATE rillmark.outlet_offset SET owner = NULL WHERE outlet_id = $1 AND epoch = $2", h.outlet, h.epoch) //nolint:errcheck // the line's end releases it too
}
