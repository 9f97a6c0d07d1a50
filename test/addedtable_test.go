package test

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestATableComesToAnOutlet: an edit says which tables it has added, whose rows do not come by
// themselves, and has them loaded where that is asked for.
func TestATableComesToAnOutlet(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (id int PRIMARY KEY)", "CREATE TABLE holds (id int PRIMARY KEY)", "CREATE TABLE works (id int PRIMARY KEY)", "INSERT INTO holds VALUES (1), (2)", "INSERT INTO works VALUES (1)")
	db := connect(t, sourceServer(t), name)
	to := targetOf(t, "postgresql")
	s := &stage{instance: i}
	i.resume()
	i.settled("circulation", db)
	s.keeps("desk", to, map[string]any{"schema": "current", "offsets": to.database + ".outlets"}, map[string]any{"tables": []string{"public.loans"}, "from": "now"})
	_, errs, code := i.cli("outlet", "edit", "desk", "--set", "tables=[public.loans, public.holds]")
	require.Zero(t, code, errs)
	require.Contains(t, errs, "new in this outlet: public.holds")
	require.Contains(t, errs, "rillmark outlet load desk --tables public.holds")
	out, errs, code := i.cli("outlet", "edit", "desk", "--set", "tables=[public.loans, public.holds, public.works]", "--load")
	require.Zero(t, code, errs)
	require.Contains(t, out, "loading for desk alone: public.works")
	_, errs, code = i.cli("outlet", "load", "desk", "--tables", "public.holds", "--wait")
	require.Zero(t, code, errs)
	i.eventually("both have their rows", func() bool {
		return len(to.digest(t, "SELECT 1 FROM information_schema.tables WHERE table_schema = 'current' AND table_name IN ('holds', 'works')")) == 2 && len(to.digest(t, "SELECT id FROM current.works")) == 1 && len(to.digest(t, "SELECT id FROM current.holds")) == 2
	})
	_, errs, code = i.cli("outlet", "edit", "desk", "--set", "tables=[public.loans]")
	require.Zero(t, code, errs)
	require.NotContains(t, errs, "new in this outlet")
}
