package expression

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestEffectOf(t *testing.T) {
	for was, row := range map[Verdict]map[Verdict]Effect{
		Fails:   {Fails: Nothing, Holds: Enters, Unknown: Enters},
		Holds:   {Fails: Leaves, Holds: Changes, Unknown: Changes},
		Unknown: {Fails: Leaves, Holds: Changes, Unknown: Changes},
	} {
		for is, effect := range row {
			require.Equal(t, effect, EffectOf(was, is), "%d to %d", was, is)
		}
	}
}
