// Command bench measures Rillmark against what server and hardware allow, in one
// run: the raw drain of the same log, which decodes nothing, and ours alternate.
// It prints a table and writes it to docs/benchmarks.md.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"rillmark/internal/demo"
)

type settings struct {
	binary string
	rounds int
	large  int
	huge   int
	events int
	only   string
	match  string
	small  int
	rate   int
	span   time.Duration
	demo   time.Duration
	port   int
	out    string
}

func main() {
	var s settings
	flag.StringVar(&s.binary, "binary", "bin/rillmark", "the rillmark to measure")
	flag.IntVar(&s.rounds, "rounds", 5, "runs of each, alternating; medians are printed")
	flag.IntVar(&s.large, "large", 1_500_000, "rows of the one large transaction")
	flag.IntVar(&s.huge, "huge", 10_000_000, "rows of the transaction and the table that show how memory grows; run once")
	flag.IntVar(&s.events, "events", 50_000_000, "events in the journal in which rows' histories are looked for")
	flag.StringVar(&s.only, "only", "", "load, small (transactions), delay, fan (outlets beside capture), delivery, databases, mariadb, stalled, rest (outlets with little to do), tables (many of them), mirror (a database kept equal), history (of a row) or demo: that alone")
	flag.StringVar(&s.match, "match", "", "of deliveries, databases and MariaDB, those alone whose names hold this")
	flag.IntVar(&s.small, "small", 200_000, "transactions of one row")
	flag.IntVar(&s.rate, "rate", 1000, "transactions a second for the delay")
	flag.DurationVar(&s.span, "span", 20*time.Second, "how long the delay is measured")
	flag.DurationVar(&s.demo, "demo", 5*time.Minute, "how long the demo is watched at rest")
	flag.IntVar(&s.port, "port", 7550, "first of eight ports")
	flag.StringVar(&s.out, "out", "docs/benchmarks.md", "file to write; empty for none")
	flag.Parse()
	named := false
	flag.Visit(func(f *flag.Flag) { named = named || f.Name == "out" })
	if s.only != "" && !named {
		s.out = "" // a part of the figures is no report
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, s); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// bed is what is measured on.
type bed struct {
	settings
	folder        string
	state, source *demo.Cluster
	core          string // the one that a service is held to; empty for all
}

func run(ctx context.Context, s settings) error {
	folder, err := os.MkdirTemp("", "rillmark-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder) //nolint:errcheck // it lies in the temporary folder
	if err := os.Chmod(folder, 0o755); err != nil {
		return err
	}
	b := &bed{settings: s, folder: folder}
	b.state = &demo.Cluster{Folder: filepath.Join(folder, "state"), Port: s.port + 1, Settings: map[string]string{"shared_buffers": "256MB", "max_wal_size": "4GB"}}
	b.source = &demo.Cluster{Folder: filepath.Join(folder, "source"), Port: s.port + 2, Settings: map[string]string{
		"wal_level": "logical", "max_replication_slots": "40", "shared_buffers": "512MB", "max_wal_size": "8GB", "logical_decoding_work_mem": "64MB"}}
	for _, c := range []*demo.Cluster{b.state, b.source} {
		if err := c.Start(ctx); err != nil {
			return err
		}
		defer c.Stop()
	}
	if err := b.prepare(ctx); err != nil {
		return err
	}
	var report strings.Builder
	fmt.Fprintf(&report, "%s\n\n", b.machine(ctx))
	fmt.Fprintf(&report, "| work | raw drain, events/s | ours, events/s | ratio | CPU of ours, cores | peak memory |\n|---|---:|---:|---:|---:|---:|\n")
	works := []work{b.largeWork(), b.smallWork(), b.hugeWork()}
	only := func(what string) bool { return s.only == what }
	switch {
	case only("load"):
		works = nil
	case only("small"):
		works = works[1:2]
	case s.only != "":
		works = nil
	}
	for _, w := range works {
		line, err := b.compare(ctx, w)
		if err != nil {
			return fmt.Errorf("%s: %w", w.name, err)
		}
		report.WriteString(line)
	}
	if s.only == "" || only("delay") {
		delay, err := b.delay(ctx)
		if err != nil {
			return fmt.Errorf("delay: %w", err)
		}
		report.WriteString("\n" + delay)
	}
	fmt.Fprintf(&report, "\n| load | raw COPY, rows/s | ours, rows/s | ratio | CPU of ours, cores | peak memory |\n|---|---:|---:|---:|---:|---:|\n")
	for _, rows := range []int{s.large, s.huge} {
		if s.only != "" && !only("load") {
			break
		}
		line, err := b.loads(ctx, rows)
		if err != nil {
			return fmt.Errorf("load: %w", err)
		}
		report.WriteString(line)
	}
	if s.only == "" || only("mariadb") {
		table, err := b.mariaDB(ctx)
		if err != nil {
			return fmt.Errorf("MariaDB: %w", err)
		}
		report.WriteString("\n" + table)
	}
	if s.only == "" || only("fan") {
		table, err := b.fanOut(ctx)
		if err != nil {
			return fmt.Errorf("outlets beside capture: %w", err)
		}
		report.WriteString("\n" + table)
	}
	if s.only == "" || only("delivery") {
		table, err := b.deliveries(ctx)
		if err != nil {
			return fmt.Errorf("delivery: %w", err)
		}
		report.WriteString("\n" + table)
	}
	if s.only == "" || only("databases") {
		table, err := b.databases(ctx)
		if err != nil {
			return fmt.Errorf("databases: %w", err)
		}
		report.WriteString("\n" + table)
	}
	if s.only == "" || only("mirror") {
		table, err := b.mirrored(ctx)
		if err != nil {
			return fmt.Errorf("a database that is kept equal: %w", err)
		}
		report.WriteString("\n" + table)
		if table, err = b.comparedMaria(ctx); err != nil {
			return fmt.Errorf("a MariaDB that is kept equal: %w", err)
		}
		report.WriteString("\n" + table)
	}
	if s.only == "" || only("rest") {
		table, err := b.atRest(ctx)
		if err != nil {
			return fmt.Errorf("outlets at rest: %w", err)
		}
		report.WriteString("\n" + table)
	}
	if s.only == "" || only("demo") {
		table, err := b.demoAtRest(ctx)
		if err != nil {
			return fmt.Errorf("the demo at rest: %w", err)
		}
		report.WriteString("\n" + table)
	}
	if s.only == "" || only("tables") {
		table, err := b.wide(ctx)
		if err != nil {
			return fmt.Errorf("many tables: %w", err)
		}
		report.WriteString("\n" + table)
	}
	if s.only == "" || only("history") {
		table, err := b.history(ctx)
		if err != nil {
			return fmt.Errorf("history of a row: %w", err)
		}
		report.WriteString("\n" + table)
	}
	if s.only == "" || only("stalled") {
		line, err := b.stalled(ctx)
		if err != nil {
			return fmt.Errorf("a stalled destination: %w", err)
		}
		report.WriteString("\n" + line)
	}
	fmt.Print("\n" + report.String())
	if s.out == "" {
		return nil
	}
	return os.WriteFile(s.out, []byte("# Benchmarks\n\nMade by `make bench`; medians of "+fmt.Sprint(s.rounds)+
		" alternating runs. The drain reads and discards the same slot's stream, with the same pauses after short reads as ours, and decodes nothing.\n\n"+report.String()), 0o644)
}

func (b *bed) machine(ctx context.Context) string {
	cpu := "unknown CPU"
	if raw, err := os.ReadFile("/proc/cpuinfo"); err == nil {
		for _, line := range strings.Split(string(raw), "\n") {
			if name, value, found := strings.Cut(line, ":"); found && strings.TrimSpace(name) == "model name" {
				cpu = strings.TrimSpace(value)
				break
			}
		}
	}
	version := "PostgreSQL"
	if conn, err := b.source.Connect(ctx, "postgres"); err == nil {
		conn.QueryRow(ctx, "SELECT 'PostgreSQL ' || current_setting('server_version')").Scan(&version) //nolint:errcheck // then its name alone
		conn.Close(ctx)                                                                                //nolint:errcheck // nothing is open on it
	}
	commit := ""
	if out, err := exec.CommandContext(ctx, "git", "rev-parse", "--short", "HEAD").Output(); err == nil {
		commit = ", commit " + strings.TrimSpace(string(out))
	}
	return fmt.Sprintf("%s, %d cores, %s, %s%s, %s.", cpu, runtime.NumCPU(), version, runtime.Version(), commit, time.Now().Format("2006-01-02"))
}

func median(values []float64) float64 {
	sorted := slices.Clone(values)
	slices.Sort(sorted)
	if len(sorted) == 0 {
		return 0
	}
	return sorted[len(sorted)/2]
}

func quantile(sorted []time.Duration, q float64) time.Duration {
	if len(sorted) == 0 {
		return 0
	}
	return sorted[min(int(q*float64(len(sorted))), len(sorted)-1)]
}
