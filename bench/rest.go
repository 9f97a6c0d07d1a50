package main

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// restOutlets and restRates are how many outlets are measured at how many transactions
// a second.
var (
	restOutlets = []int{10, 100, 500}
	restRates   = []int{0, 10, 100}
)

// settleFor is what a service has to come to rest.
const settleFor = 5 * time.Second

// atRest measures what outlets cost that have little or nothing to do: CPU, sessions of
// the state database, and memory.
func (b *bed) atRest(ctx context.Context) (string, error) {
	report := "| outlets of lines, none of them behind | transactions a second | CPU of ours, cores | sessions of the state database | memory | delivered, of what was written |\n|---|---:|---:|---:|---:|---:|\n"
	for _, n := range restOutlets {
		lines, err := b.outletsAtRest(ctx, n)
		if err != nil {
			return "", fmt.Errorf("%d outlets: %w", n, err)
		}
		report += lines
	}
	return report, nil
}

func (b *bed) outletsAtRest(ctx context.Context, n int) (string, error) {
	fmt.Printf("%d outlets with little to do …\n", n)
	conn, err := b.source.Connect(ctx, "circulation")
	if err != nil {
		return "", err
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	table := fmt.Sprintf("bench_rest_%d", n)
	if _, err := conn.Exec(ctx, "CREATE TABLE "+table+" (id bigint PRIMARY KEY, note text)"); err != nil {
		return "", err
	}
	name := fmt.Sprintf("rest_%d", n)
	i, err := b.serve(ctx, name)
	if err != nil {
		return "", err
	}
	defer func() {
		i.stop()
		conn.Exec(context.WithoutCancel(ctx), "SELECT pg_drop_replication_slot('rillmark_circulation')") //nolint:errcheck // the next one says so
	}()
	if err := b.add(ctx, i, "", "public."+table); err != nil {
		return "", err
	}
	if err := i.post(ctx, "/v1/destinations/rest", map[string]any{"kind": "file", "file": map[string]any{"directory": name}}); err != nil {
		return "", err
	}
	for k := range n {
		if err := i.post(ctx, fmt.Sprintf("/v1/outlets/rest%d", k), map[string]any{"source": "circulation", "destination": "rest", "operations": []string{"insert"}}); err != nil {
			return "", err
		}
	}
	if err := i.post(ctx, "/v1/sources/circulation/resume", map[string]string{}); err != nil {
		return "", err
	}
	report, written := "", 0
	for _, rate := range restRates {
		if err := pause(ctx, settleFor); err != nil {
			return "", err
		}
		before, err := i.cpu()
		if err != nil {
			return "", err
		}
		began := time.Now()
		for time.Since(began) < b.span {
			if rate == 0 {
				if err := pause(ctx, b.span); err != nil {
					return "", err
				}
				continue
			}
			written++
			if _, err := conn.Exec(ctx, "INSERT INTO "+table+" VALUES ($1, 'a note')", written); err != nil {
				return "", err
			}
			step := time.Second / time.Duration(rate)
			if err := pause(ctx, step-time.Since(began)%step); err != nil {
				return "", err
			}
		}
		took := time.Since(began)
		after, err := i.cpu()
		if err != nil {
			return "", err
		}
		if err := pause(ctx, 2*time.Second); err != nil {
			return "", err
		}
		var sessions int
		var delivered int64
		if err := i.state.QueryRow(ctx, "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND application_name LIKE 'rillmark%'").Scan(&sessions); err != nil {
			return "", err
		}
		if err := i.state.QueryRow(ctx, "SELECT coalesce(sum(delivered), 0)::bigint FROM rillmark.outlet_offset").Scan(&delivered); err != nil {
			return "", err
		}
		line := fmt.Sprintf("| %d | %d | %.3f | %d | %.0f MiB | %d of %d |\n", n, rate, (after-before).Seconds()/took.Seconds(), sessions, resident(i.command.Process.Pid), delivered, int64(written)*int64(n))
		fmt.Print("  " + line)
		report += line
	}
	return report, nil
}

func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(d):
		return nil
	}
}

// resident is a process's size in memory now, in MiB.
func resident(pid int) float64 {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	for _, line := range strings.Split(string(raw), "\n") {
		if rest, found := strings.CutPrefix(line, "VmRSS:"); found {
			kib, _ := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			return kib / 1024
		}
	}
	return 0
}

// demoAtRest measures the demo's service, one minute after the other: what it costs
// where a day is played at twenty transactions a second, and whether anything grows.
func (b *bed) demoAtRest(ctx context.Context) (string, error) {
	fmt.Printf("the demo for %s …\n", b.demo)
	folder := filepath.Join(b.folder, "demo")
	command := exec.CommandContext(ctx, b.binary, "demo", "--folder", folder, "--port", fmt.Sprint(b.port+20))
	command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	command.Cancel = func() error { return command.Process.Signal(syscall.SIGTERM) }
	out, err := command.StdoutPipe()
	if err != nil {
		return "", err
	}
	if err := command.Start(); err != nil {
		return "", err
	}
	defer func() {
		command.Process.Signal(syscall.SIGTERM) //nolint:errcheck // it may have gone
		command.Wait()                          //nolint:errcheck // it was asked to
	}()
	for in := bufio.NewScanner(out); in.Scan(); {
		if strings.Contains(in.Text(), "Ctrl-C stops everything") {
			break
		}
	}
	pid, err := childServing(command.Process.Pid)
	if err != nil {
		return "", err
	}
	i := &instance{command: &exec.Cmd{Process: &os.Process{Pid: pid}}, address: fmt.Sprintf("http://127.0.0.1:%d", b.port+20)}
	report := "| the demo's service at rest, minute | CPU, cores | memory |\n|---|---:|---:|\n"
	for _, part := range []struct {
		name, call string
		minutes    time.Duration
	}{{"five outlets of one source", "pause", b.demo}, {"ten outlets of two sources", "resume", min(b.demo, 2*time.Minute)}} {
		for _, record := range demoRest {
			if err := i.post(ctx, record+"/"+part.call, nil); err != nil {
				return "", err
			}
		}
		for minute := 1; time.Duration(minute)*time.Minute <= part.minutes; minute++ {
			before, err := i.cpu()
			if err != nil {
				return "", err
			}
			if err := pause(ctx, time.Minute); err != nil {
				return "", err
			}
			after, err := i.cpu()
			if err != nil {
				return "", err
			}
			line := fmt.Sprintf("| %s, %d | %.4f | %.0f MiB |\n", part.name, minute, (after-before).Seconds()/60, resident(pid))
			fmt.Print("  " + line)
			report += line
		}
	}
	return report, nil
}

// demoRest are what the demo has besides five outlets of different kinds: lines, Parquet, a
// broker, a function and a pull outlet.
var demoRest = []string{"/v1/outlets/feed", "/v1/outlets/feed-catalogue", "/v1/outlets/reporting", "/v1/outlets/reporting-catalogue", "/v1/outlets/works", "/v1/sources/catalogue"}

// childServing is the process of a demo's service.
func childServing(parent int) (int, error) {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return 0, err
	}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		args, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
		stat, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		at := bytes.LastIndexByte(stat, ')')
		if at < 0 || !bytes.Contains(args, []byte("\x00serve\x00")) {
			continue
		}
		if fields := strings.Fields(string(stat[at+1:])); len(fields) > 1 && fields[1] == fmt.Sprint(parent) {
			return pid, nil
		}
	}
	return 0, fmt.Errorf("the demo's service was not found")
}
