package test

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// dialect is what statements on definitions look like in an engine, where they differ.
type dialect struct {
	types []string
	swap  []string // has the tables a and b take each other's name
	// rows is a SELECT of the numbers from 1 to n, as id.
	rows func(n int) string
	// own is a step that this engine alone knows; has are the table's columns but for its key,
	// name gives new ones.
	own func(random *rand.Rand, table string, has []string, name func() string) (statements, has2 []string)
}

// underSchemaChanges runs random statements on the definitions of two tables, with rows between
// them, while the source is paused for a part of them and the service killed: what is in the
// journal then is what the tables hold, and so is what outlets have made of it in both kinds of
// database, in each way of keeping rows. A table of which that is not certain is stale by name, and
// is once it was loaded again; one that a database cannot take is held by name, and loaded.
func underSchemaChanges(t *testing.T, d *driven, round int, of dialect, also func(step int)) {
	for _, table := range []string{"a", "b"} {
		d.run(fmt.Sprintf("CREATE TABLE %s (id int PRIMARY KEY, c0 int)", table), fmt.Sprintf("INSERT INTO %s (id) %s", table, of.rows(200)))
	}
	targets := []*side{targetOf(t, "postgresql"), targetOf(t, "mariadb")}
	keeps := []string{"current", "flagged", "versions"}
	stage := &stage{instance: d.instance}
	var outlets []string
	for _, to := range targets {
		for _, keep := range keeps {
			outlets = append(outlets, to.engine+"-"+keep)
			stage.keeps(to.engine+"-"+keep, to, map[string]any{"schema": keep, "keep": keep, "offsets": to.database + "." + keep + "_outlets"}, map[string]any{"source": d.source, "tables": []string{"*.a", "*.b"}})
		}
	}
	d.resumeSource()
	d.settle()
	random := draws(t, round, 1796177316459367559)
	t.Cleanup(func() {
		if t.Failed() {
			for _, s := range d.status().Sources {
				t.Logf("%s is %s (%s)", s.Name, s.Phase, s.Error)
				for _, table := range s.Tables {
					t.Logf("%s is %s: %s", table.Name, table.State, table.Note)
				}
			}
			for _, outlet := range outlets {
				t.Logf("%s", d.statusOf(outlet))
			}
			for _, e := range d.journal(d.source) {
				if strings.HasSuffix(e.Data.Table, ".a") || strings.HasSuffix(e.Data.Table, ".b") {
					t.Logf("%d %s %s %s %s %s %s", e.offset(), e.Data.Table, e.Data.Operation, e.Data.Key, e.Data.Transaction.ID, e.Data.After, e.Data.Schema)
				}
			}
		}
	})
	columns := map[string][]string{"a": {"c0"}, "b": {"c0"}}
	next := 0
	for n := range 60 {
		table := []string{"a", "b"}[random.IntN(2)]
		switch n {
		case 20:
			d.pause(d.source)
		case 40:
			d.resumeSource()
		case 30, 50:
			d.stop(syscall.SIGKILL)
			d.start()
		}
		also(n)
		step := of.step(random, table, columns, &next)
		t.Log(n, step)
		d.run(step...)
		id := random.IntN(1000)
		d.run(fmt.Sprintf("INSERT INTO %s (id) SELECT %d WHERE NOT EXISTS (SELECT 1 FROM %s WHERE id = %d)", table, id, table, id), fmt.Sprintf("DELETE FROM %s WHERE id = %d", table, random.IntN(1000)))
		for _, c := range columns[table] {
			if c[0] == 'c' && random.IntN(3) == 0 {
				d.run(fmt.Sprintf("UPDATE %s SET %s = NULL WHERE id %% 5 = %d", table, c, random.IntN(5)))
			}
		}
	}
	d.settle()
	// A name that has wandered is seen at the next look; what is stale is loaded again. The status
	// may be a second old.
	since := time.Now()
	d.eventually("both tables are followed, and stay so", func() bool {
		followed := 0
		for _, s := range d.status().Sources[0].Tables {
			switch table := s.Name[len(s.Name)-2:]; {
			case table != ".a" && table != ".b":
			case s.State == "following":
				followed++
			case s.State == "stale":
				d.call(http.MethodPost, "/v1/sources/"+d.source+"/tables/"+s.Name+"/reload", nil) //nolint:errcheck // it may be gone, or loading, by now
			}
		}
		if followed < 2 {
			since = time.Now()
		}
		return time.Since(since) > 1500*time.Millisecond
	})
	d.settle()
	events := d.journal(d.source)
	f := provePart(t, events)
	for _, table := range []string{"a", "b"} {
		d.equals(f, table)
	}
	require.NotEmpty(t, f.tables)
	for _, outlet := range outlets {
		d.unheld(outlet, events[len(events)-1].offset())
	}
	for _, table := range []string{"a", "b"} {
		for _, to := range targets {
			for keep, where := range map[string]string{"current": "", "flagged": " WHERE NOT _deleted", "versions": " WHERE _until = " + to.infinity() + " AND _operation <> 'delete'"} {
				query := func(from string) string {
					list := "concat(id)"
					for _, c := range columns[table] {
						list += ", CASE WHEN " + c + " IS NULL THEN '-' ELSE concat(" + c + ") END"
					}
					return "SELECT " + list + " FROM " + from
				}
				sameRows(t, d.from.digest(t, query(table)), to.digest(t, query(keep+"."+table)+where), "%s in %s, %s", table, to.engine, keep)
			}
		}
	}
}

// unheld waits until an outlet has delivered up to an offset, and has what it holds loaded.
func (d *driven) unheld(outlet string, upto int64) {
	d.t.Helper()
	asked := make(map[string]bool)
	d.outletIs(outlet, "has all tables", func(o outletStatus) bool {
		for _, one := range o.Incomplete {
			if one.Offset > 0 && !asked[one.Table] && o.Committed >= upto {
				asked[one.Table] = true
				d.cli("outlet", "load", outlet, "--tables", one.Table)
			}
		}
		return o.Committed >= upto && len(o.Incomplete)+len(o.Loads) == 0 && o.Dead == 0
	})
}

// step is one thing that happens to a table's definition. columns are the tables' but for their
// keys; the name of one that takes no NULL begins with r.
func (of dialect) step(random *rand.Rand, table string, columns map[string][]string, next *int) []string {
	name := func() string {
		*next++
		return fmt.Sprintf("c%d", *next)
	}
	has := columns[table]
	at, kind := random.IntN(max(len(has), 1)), of.types[random.IntN(len(of.types))]
	switch what := random.IntN(14); {
	case what < 3 || len(has) == 0:
		n := name()
		columns[table] = append(has, n)
		return []string{fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s NULL", table, n, kind)}
	case what == 3:
		n := "r" + name()
		columns[table] = append(has, n)
		return []string{fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s int NOT NULL DEFAULT 7", table, n)}
	case what == 4:
		columns[table] = append(has[:at:at], has[at+1:]...)
		return []string{fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", table, has[at])}
	case what == 5:
		n := has[at][:1] + name()
		columns[table] = append(append(has[:at:at], n), has[at+1:]...)
		return []string{fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO %s", table, has[at], n)}
	case what == 6:
		return []string{"TRUNCATE TABLE " + table, fmt.Sprintf("INSERT INTO %s (id) %s", table, of.rows(50))}
	case what == 7:
		columns["a"], columns["b"] = columns["b"], columns["a"]
		return of.swap
	case what == 8:
		columns[table] = []string{"c0"}
		return []string{"DROP TABLE " + table, fmt.Sprintf("CREATE TABLE %s (id int PRIMARY KEY, c0 int)", table), fmt.Sprintf("INSERT INTO %s (id, c0) SELECT id, id * 2 FROM (%s) n", table, of.rows(30))}
	case what == 9 && has[at][0] == 'c': // another column under the same name
		if random.IntN(2) == 0 {
			return []string{fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s, ADD COLUMN %s %s NULL", table, has[at], has[at], kind)}
		}
		return []string{fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", table, has[at]), fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s NULL", table, has[at], kind)}
	case what < 12:
		statements, has := of.own(random, table, has, name)
		columns[table] = has
		return statements
	default:
		return []string{fmt.Sprintf("ALTER TABLE %s ADD CHECK (id >= 0)", table)}
	}
}

// TestSchemaChangesOfTwoTables runs it on PostgreSQL.
func TestSchemaChangesOfTwoTables(t *testing.T) {
	t.Parallel()
	inRounds(t, func(t *testing.T, round int) {
		d := drivenPostgres(t, sourceServer(t), stateServer(t), 200, nil)
		underSchemaChanges(t, d, round, dialect{
			types: []string{"int", "bigint", "varchar(40)", "numeric(12,3)", "timestamptz", "text[]", "jsonb"},
			swap:  []string{"BEGIN; ALTER TABLE a RENAME TO swap; ALTER TABLE b RENAME TO a; ALTER TABLE swap RENAME TO b; COMMIT"},
			rows:  func(n int) string { return fmt.Sprintf("SELECT id FROM generate_series(1, %d) id", n) },
			own: func(random *rand.Rand, table string, has []string, name func() string) ([]string, []string) {
				at := random.IntN(len(has))
				switch random.IntN(3) {
				case 0:
					return []string{fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s TYPE text USING %s::text", table, has[at], has[at]), fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s DROP DEFAULT", table, has[at]), fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s SET DEFAULT 'x'", table, has[at])}, has
				case 1:
					return []string{fmt.Sprintf("ALTER TABLE %s REPLICA IDENTITY %s", table, []string{"FULL", "DEFAULT"}[random.IntN(2)])}, has
				}
				n := name()
				return []string{fmt.Sprintf("BEGIN; ALTER TABLE %s ADD COLUMN %s int; INSERT INTO %s (id, %s) VALUES (%d, 1); ROLLBACK", table, n, table, n, 10_000+random.IntN(1000))}, has
			},
		}, func(int) {})
	})
}
