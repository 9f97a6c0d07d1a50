package test

import (
	"os"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTargetsThatFormerVersionsLeft: a state database from before is carried over, and the outlets
// name the tables that faults of then may have hit, until a comparison or a load has proved them.
func TestTargetsThatFormerVersionsLeft(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	i, database, db := mariaFollowed(t, m, "", "CREATE TABLE back (id int PRIMARY KEY, note text)", "CREATE TABLE keyless (note text)", "CREATE TABLE replaced (id int PRIMARY KEY)",
		"CREATE TABLE `sound one` (id int PRIMARY KEY, note text)", "CREATE TABLE `replaced too` (id int PRIMARY KEY)", "INSERT INTO back VALUES (1, 'a')")
	s := &stage{instance: i}
	to := targetOf(t, "postgresql")
	only := map[string]any{"source": "catalogue", "tables": []string{database + ".*"}}
	s.keeps("current", to, map[string]any{"schema": "current", "offsets": to.database + ".current_outlets"}, map[string]any{"source": "catalogue", "tables": []string{"*.back", "*.replaced*", "*.sound*"}})
	s.keeps("versions", to, map[string]any{"schema": "versions", "keep": "versions", "offsets": to.database + ".versions_outlets"}, only)
	i.must("POST", "/v1/outlets/desk", map[string]any{"source": "catalogue"}, nil)
	mariaRun(t, db, "ALTER TABLE back DROP note")
	i.mariaReached("catalogue", db)
	mariaRun(t, db, "ALTER TABLE back ADD note text", "ALTER TABLE `sound one` ADD more int", "INSERT INTO back VALUES (2, 'b')", "INSERT INTO `sound one` VALUES (1, 'a', 1)")
	i.mariaReached("catalogue", db)
	mariaRun(t, db, "ALTER TABLE `sound one` RENAME COLUMN more TO MORE")
	i.mariaReached("catalogue", db)
	into := targetOf(t, "mariadb")
	s.keeps("cased", into, map[string]any{"schema": "cased", "offsets": into.database + ".outlets"}, map[string]any{"source": "catalogue", "tables": []string{"*.sound*"}})
	i.caughtUp("current", "versions", "cased")
	i.stop(syscall.SIGTERM)
	// What a version from before leaves: tables made again without a load, and no record of it.
	state := connect(t, i.state, i.stateDB)
	carried, err := os.ReadFile("../internal/state/migrations/0029_unproven.sql")
	require.NoError(t, err)
	run(t, state, "UPDATE rillmark.journal_count SET events = 3 WHERE operation = 'void' AND table_name LIKE '%.replaced%'", "DROP TABLE rillmark.unproven")
	_, err = state.PgConn().Exec(t.Context(), string(carried)).ReadAll()
	require.NoError(t, err)
	i.start()
	named := func(outlet string) map[string]string {
		all := make(map[string]string)
		for _, o := range i.status().Outlets {
			if o.Name == outlet {
				for _, one := range o.Incomplete {
					require.Equal(t, "unproven", one.Code)
					all[one.Table] = one.Fix
				}
			}
		}
		return all
	}
	i.caughtUp("current", "versions")
	tables := func(names ...string) (all []string) {
		for _, name := range names {
			all = append(all, database+"."+name)
		}
		return all
	}
	keys := func(of map[string]string) (all []string) {
		for name := range of {
			all = append(all, name)
		}
		return all
	}
	require.ElementsMatch(t, tables("back", "replaced", "replaced too"), keys(named("current")))
	require.ElementsMatch(t, tables("back", "keyless", "replaced", "replaced too"), keys(named("versions")))
	require.ElementsMatch(t, tables("sound one"), keys(named("cased")))
	require.Empty(t, named("desk"))
	require.Contains(t, named("current")[database+".replaced too"], "`rillmark outlet load current --tables '"+database+".replaced too'`")
	out, _, _ := i.cli("outlet", "list")
	require.Contains(t, out, "outlet current: "+database+".back may not be as the source has it: an earlier version may have left it wrong: a column was dropped and has come back")
	out, errs, code := i.cli("verify", "current")
	require.Zero(t, code, out+errs)
	require.Empty(t, named("current"))
	require.Len(t, named("versions"), 4, "each outlet is proved by itself")
	out, errs, code = i.cli("outlet", "load", "versions", "--tables", database+".keyless", "--wait")
	require.Zero(t, code, out+errs)
	i.eventually("a load has mended it", func() bool { return len(named("versions")) == 3 })
}
