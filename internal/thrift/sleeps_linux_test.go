package thrift

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// roundedVariable tells a copy of this test that it is the process to start anew.
const roundedVariable = "RILLMARK_TEST_ROUNDED"

// TestSleepsAreRounded starts this test again as a process of its own, whose main thread
// has the slack in the end, under the number that it had before.
func TestSleepsAreRounded(t *testing.T) {
	if os.Getenv(roundedVariable) != "" {
		RoundSleeps()
		fmt.Println("slack", mainSlack(t), "of", os.Getpid(), os.Args[1])
		return
	}
	for name, chosen := range map[string]int{"nobody has chosen": usualSlack, "somebody has": 70_000} {
		t.Run(name, func(t *testing.T) {
			wanted := slack
			if chosen != usualSlack {
				wanted = chosen
			}
			command := exec.Command("sh", "-c", `echo "$2" > /proc/self/timerslack_ns; exec "$0" "$1"`,
				os.Args[0], "-test.run=^TestSleepsAreRounded$", fmt.Sprint(chosen))
			command.Env = append(os.Environ(), roundedVariable+"=yes")
			var said strings.Builder
			command.Stdout, command.Stderr = &said, &said
			require.NoError(t, command.Run(), said.String())
			require.Contains(t, said.String(), fmt.Sprintf("slack %d of %d -test.run", wanted, command.Process.Pid))
		})
	}
}

// mainSlack is the slack of the process's first thread, from which all others took theirs.
func mainSlack(t *testing.T) int {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/timerslack_ns", os.Getpid()))
	if err != nil { // a kernel may hide it from a thread that is not the first
		now, err := unix.PrctlRetInt(unix.PR_GET_TIMERSLACK, 0, 0, 0, 0)
		require.NoError(t, err)
		return now
	}
	var now int
	_, err = fmt.Sscan(string(text), &now)
	require.NoError(t, err)
	return now
}
