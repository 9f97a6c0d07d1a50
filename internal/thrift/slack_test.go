package thrift

import (
	"fmt"
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestRelax: the program goes on under the same process id, with its arguments and environment,
// and with more slack; and it is started anew but once.
func TestRelax(t *testing.T) {
	if word := os.Getenv("RELAXED_TEST"); word != "" {
		Relax()
		slack, err := unix.PrctlRetInt(unix.PR_GET_TIMERSLACK, 0, 0, 0, 0)
		require.NoError(t, err)
		fmt.Printf("%s %d %d\n", word, os.Getpid(), slack)
		return
	}
	command := exec.Command(os.Args[0], "-test.run=^TestRelax$")
	command.Env = append(os.Environ(), "RELAXED_TEST=here")
	out, err := command.Output()
	require.NoError(t, err)
	require.Contains(t, string(out), fmt.Sprintf("here %d %d\n", command.Process.Pid, slack))
}
