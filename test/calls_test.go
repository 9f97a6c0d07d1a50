package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"github.com/stretchr/testify/require"
)

// caller gives a service that does not answer up at last, so that the test says which call it was.
var caller = &http.Client{Timeout: 2 * patience}

// call makes an API call and returns status and body.
func (i *instance) call(method, path string, body any, headers ...string) (int, []byte, error) {
	var reader io.Reader
	switch b := body.(type) {
	case nil:
	case string:
		reader = strings.NewReader(b)
	default:
		encoded, err := json.Marshal(b)
		if err != nil {
			return 0, nil, err
		}
		reader = bytes.NewReader(encoded)
	}
	r, err := http.NewRequest(method, i.address+path, reader)
	if err != nil {
		return 0, nil, err
	}
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	if i.token != "" {
		r.Header.Set("Authorization", "Bearer "+i.token)
	}
	for n := 0; n+1 < len(headers); n += 2 {
		r.Header.Set(headers[n], headers[n+1])
	}
	response, err := caller.Do(r)
	if err != nil {
		return 0, nil, err
	}
	defer response.Body.Close() //nolint:errcheck // it was only read
	raw, err := io.ReadAll(response.Body)
	return response.StatusCode, raw, err
}

// must makes a call that has to succeed and reads its answer into into.
func (i *instance) must(method, path string, body, into any) {
	i.t.Helper()
	status, raw, err := i.call(method, path, body)
	require.NoError(i.t, err)
	require.Less(i.t, status, 300, "%s %s: %s", method, path, raw)
	if into != nil {
		require.NoError(i.t, json.Unmarshal(raw, into), "%s", raw)
	}
}

// cli runs the client and returns what it printed and its exit code.
func (i *instance) cli(args ...string) (out, errs string, code int) {
	command := exec.Command(binary, append([]string{"--server", i.address}, args...)...)
	var o, e bytes.Buffer
	command.Stdout, command.Stderr = &o, &e
	command.Env = append(os.Environ(), "RILLMARK_TOKEN="+i.token)
	if err := command.Start(); err != nil {
		return "", fmt.Sprint(err), -1
	}
	hangs := time.AfterFunc(2*patience+time.Duration(min(rounds(), 10))*time.Minute, func() {
		i.tellWhere()
		command.Process.Signal(syscall.SIGQUIT) //nolint:errcheck // it may have ended just now
	})
	command.Wait() //nolint:errcheck // the exit code tells
	hangs.Stop()
	return o.String(), e.String(), command.ProcessState.ExitCode()
}

// tellWhere has the service write where each of its goroutines is, and end: the log holds it.
func (i *instance) tellWhere() {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.command != nil {
		i.command.Process.Signal(syscall.SIGQUIT) //nolint:errcheck // it may have gone
	}
}
