package test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
	"rillmark/internal/seeded"
)

// driven is a source under writers, of either engine, with a service on it that has a file
// outlet and a pull outlet: what tests that each engine has to pass are written for.
type driven struct {
	*instance
	source   string   // its name
	database string   // where its tables are
	tables   []string // as events name them
	// write starts n writers, stopServer kills the source's server, startServer starts it again.
	write       func(n int) *writers
	stopServer  func()
	startServer func(ctx context.Context) error
	// prove holds that the journal, as an instance shows it, is whole and equal to the source,
	// once all writers have ended and everything is there.
	prove func(i *instance) []*event
	// from is the source as a database.
	from *side
	// run runs statements on the source, settle waits until it follows and everything is in the
	// journal, equals holds that a table's fold is the table.
	run    func(statements ...string)
	settle func()
	equals func(f *fold, table string)
}

// drivenPostgres is one of PostgreSQL; way is what lies between it and the service, or nil.
func drivenPostgres(t *testing.T, source, state *demo.Cluster, copies int, way *proxy) *driven {
	t.Helper()
	name := database(t, source, "postgres")
	fillWorkload(t, connect(t, source, name), copies)
	dropSlotAtEnd(t, source)
	i := newInstance(t, state, killConfig).start()
	stageOutlets(i, "circulation", sourceDefinition(source, name), way)
	d := &driven{instance: i, source: "circulation", database: name, tables: []string{"public.copies", "public.loans", "public.shelves"},
		write: func(n int) *writers { return startWriters(t, source, name, n, copies) }, stopServer: source.Kill, startServer: source.Start}
	var open *pgx.Conn
	db := func() *pgx.Conn { // a kill of the server takes the one before along
		if open == nil || open.Ping(context.Background()) != nil {
			open = connect(t, source, name)
		}
		return open
	}
	d.run, d.from = func(statements ...string) { run(t, db(), statements...) }, postgresSide(t, source, name)
	d.settle = func() { i.settled("circulation", db()) }
	d.equals = func(f *fold, table string) {
		f.loaded["public."+table] = true // or has been followed since it was made
		f.equals(t, db(), table)
	}
	d.prove = func(i *instance) []*event {
		i.settled("circulation", db())
		events := i.journal("circulation")
		f := proveJournal(t, events)
		for _, table := range []string{"copies", "loans", "shelves"} {
			f.equals(t, db(), table)
		}
		return events
	}
	return d
}

// drivenMariaDB is one of MariaDB.
func drivenMariaDB(t *testing.T, m *demo.MariaDB, state *demo.Cluster, copies int, way *proxy) *driven {
	t.Helper()
	name, db := mariaDatabase(t, m, mariaFill(copies)...)
	i := newInstance(t, state, killConfig).start()
	stageOutlets(i, "catalogue", mariaSource(t, m, map[string]any{"match": name + ".*"}), way)
	d := &driven{instance: i, source: "catalogue", database: name, write: func(n int) *writers { return startMariaWriters(t, m, name, n, copies) }, startServer: m.Start,
		run: func(statements ...string) { mariaRun(t, db, statements...) }, settle: func() { i.mariaSettled("catalogue", db) }, equals: func(f *fold, table string) { f.mariaEquals(t, db, name, table) }}
	d.from = mariaSide(t, m, name)
	tables := []string{"copies", "loans", "shelves", "visits"}
	for _, table := range tables {
		d.tables = append(d.tables, name+"."+table)
	}
	crashed := false
	d.stopServer = func() {
		crashed = true
		m.Kill()
	}
	d.prove = func(i *instance) []*event {
		if !crashed {
			return mariaProve(t, i, db, name, tables...)
		}
		mariaRun(t, db, "REPAIR TABLE visits") // MyISAM does not survive a kill
		finishXA(t, db)
		i.mariaSettled("catalogue", db)
		reloadAfterLostRows(t, i, db)
		return mariaProve(t, i, db, name, tables[:3]...)
	}
	return d
}

// stageOutlets adds a source, and the outlets that the tests read it by.
func stageOutlets(i *instance, source string, definition map[string]any, way *proxy) {
	if way != nil {
		definition["connection"].(map[string]any)["port"] = way.port()
	}
	i.must(http.MethodPost, "/v1/sources/"+source, definition, nil)
	i.must(http.MethodPost, "/v1/destinations/archive", map[string]any{"kind": "file", "file": map[string]string{"directory": "archive"}}, nil)
	i.must(http.MethodPost, "/v1/outlets/archive", map[string]any{"source": source, "destination": "archive", "file": map[string]any{"rotate_bytes": 4 << 20}}, nil)
	i.must(http.MethodPost, "/v1/outlets/desk", map[string]any{"source": source}, nil)
}

func (d *driven) resumeSource() {
	d.must(http.MethodPost, "/v1/sources/"+d.source+"/resume", nil, nil)
}

// reload asks for loads of all tables, as far as the service is there.
func (d *driven) reload() {
	for _, table := range d.tables {
		d.call(http.MethodPost, "/v1/sources/"+d.source+"/tables/"+table+"/reload", nil) //nolint:errcheck // the service may still be starting
	}
}

// proveAll is prove, and that the file outlet has all of it, and each repeat its id.
func (d *driven) proveAll(i *instance) []*event {
	t := i.t
	t.Helper()
	events := d.prove(i)
	last := events[len(events)-1].offset()
	i.outletIs("archive", "has delivered all", func(o outletStatus) bool { return o.Committed >= last })
	delivered := make(map[int64]string)
	for _, e := range i.files("archive") {
		if id, repeated := delivered[e.offset()]; repeated {
			require.Equal(t, id, e.ID, "a repeat has the same id")
		}
		delivered[e.offset()] = e.ID
	}
	for _, e := range events {
		require.Equal(t, e.ID, delivered[e.offset()], "the file has offset %d", e.offset())
	}
	return events
}

// underKills kills the service at random moments, with load and following at work.
func underKills(t *testing.T, d *driven) {
	w := d.write(3)
	reader := startPullReader(t, d.instance, "desk")
	d.resumeSource()
	random := seeded.Random(t, 7)
	loadsCut := 0
	for kill := 0; kill < 24 || loadsCut == 0 && kill < 480; kill++ {
		// From the first instants of a start to well into its work.
		moment := time.Duration(random.IntN(40)) * time.Millisecond
		if kill%3 > 0 {
			moment = time.Duration(100+random.IntN(700)) * time.Millisecond
		}
		if kill%6 == 5 { // and into loads that are under way again
			d.reload()
		}
		<-time.After(moment)
		for _, s := range d.status().Sources {
			for _, table := range s.Tables {
				if table.State == "loading" || table.State == "to-load" {
					loadsCut++
				}
			}
		}
		d.stop(syscall.SIGKILL)
		d.launch()
		if kill%3 > 0 {
			d.answers()
		}
	}
	d.eventually("the service answers again", func() bool { return len(d.status().Sources) == 1 })
	w.end()
	events := d.proveAll(d.instance)
	reader.end()
	reader.prove(t)
	require.Positive(t, loadsCut, "at least one kill fell into a load")
	t.Logf("%d events, %d pages' offsets read, %d loads cut", len(events), len(reader.seen), loadsCut)
	names, _ := filepath.Glob(filepath.Join(d.folder, "files", "archive", "*"))
	require.Greater(t, len(names), 1, "files were rotated")
}

// answers waits until the service answers.
func (i *instance) answers() {
	i.t.Helper()
	i.eventually("the service answers again", func() bool {
		code, _, err := i.call(http.MethodGet, "/readyz", nil)
		return err == nil && code == http.StatusOK
	})
}

// underServerKills kills a server that the service needs, again and again, and starts it: the
// service says what is away, and goes on by itself.
func underServerKills(t *testing.T, d *driven, code string, stop func(), start func(context.Context) error) {
	w := d.write(2)
	d.resumeSource()
	random := seeded.Random(t, 8)
	for range 4 {
		<-time.After(time.Duration(200+random.IntN(1200)) * time.Millisecond)
		stop()
		d.eventually("the service says what is away", func() bool {
			for _, s := range d.status().Sources {
				return s.Phase == "waiting" && s.Error != "" && (code == "" || s.Code == code)
			}
			return false
		})
		// Its orphans hold its memory for a moment yet.
		d.eventually("the server starts again", func() bool { return start(context.Background()) == nil })
		d.eventually("capture goes on by itself", func() bool {
			for _, s := range d.status().Sources {
				return s.Phase == "running" && s.Error == ""
			}
			return false
		})
	}
	w.end()
	d.proveAll(d.instance)
}

// disturb does to a connection, and to the servers at both of its ends, what happens to them:
// it is cut, hangs, comes in slices, while loads begin and the service and servers are killed.
func disturb(i *instance, way *proxy, random *rand.Rand, reload func(), servers ...func()) {
	for n := range 24 {
		<-time.After(time.Duration(100+random.IntN(500)) * time.Millisecond)
		switch n % 6 {
		case 0:
			way.cut()
		case 3:
			reload()
			way.cut()
		case 1:
			way.sliced.Store(!way.sliced.Load())
		case 2:
			way.stalled.Store(true)
			<-time.After(300 * time.Millisecond)
			if random.IntN(2) == 0 {
				way.cut()
			}
			way.stalled.Store(false)
		case 4:
			i.stop(syscall.SIGKILL)
			i.launch()
		case 5:
			if len(servers) > 0 {
				servers[n/6%len(servers)]()
			}
		}
	}
	way.sliced.Store(false)
}

// underReloads loads tables again and again while others write to them; also does something
// else at each step. Each load is what the server has.
func underReloads(t *testing.T, d *driven, also func(step int)) {
	w := d.write(4)
	d.resumeSource()
	random := draws(t, 1, 5)
	ticker := time.NewTicker(120 * time.Millisecond)
	defer ticker.Stop()
	for step := range 60 {
		<-ticker.C
		d.call(http.MethodPost, "/v1/sources/"+d.source+"/tables/"+d.tables[random.IntN(len(d.tables))]+"/reload", nil) //nolint:errcheck // it may be loading
		also(step)
	}
	// How many loads fit into that is the machine's matter; one more than the first ones has to be.
	asked := time.Time{}
	d.eventually("tables are loaded again while others write to them", func() bool {
		if time.Since(asked) > time.Second {
			asked = time.Now()
			d.call(http.MethodPost, "/v1/sources/"+d.source+"/tables/"+d.tables[0]+"/reload", nil) //nolint:errcheck // it may be loading
		}
		return d.loads(d.source, "") > len(d.tables)
	})
	w.end()
	events := d.proveAll(d.instance)
	t.Logf("%d events, %d loads", len(events), d.loads(d.source, ""))
}

// changingKeys loads a small table again and again while its rows take each other's keys. swap
// gives a row another key where no other row has it; each writer has one of its own.
func changingKeys(t *testing.T, i *instance, source, table string, swaps ...func(from, to string) error) {
	ctx, cancel := context.WithCancel(context.Background())
	w := &writers{stop: cancel}
	t.Cleanup(w.end)
	for n, swap := range swaps {
		random := seeded.Random(t, uint64(n))
		w.done.Go(func() {
			pace := time.NewTicker(2 * time.Millisecond) // the stream has to keep up
			defer pace.Stop()
			for ctx.Err() == nil {
				<-pace.C
				if err := swap(fmt.Sprint("m", 1+random.IntN(330)), fmt.Sprint("m", 1+random.IntN(330))); err != nil {
					t.Errorf("a writer's statement failed: %v", err)
					return
				}
			}
		})
	}
	for range 6 {
		i.must(http.MethodPost, "/v1/sources/"+source+"/tables/"+table+"/reload", nil, nil)
		i.eventually("it is loaded again", func() bool {
			for _, one := range i.status().Sources[0].Tables {
				if one.Name == table {
					return one.State == "following"
				}
			}
			return false
		})
	}
	w.end()
}
