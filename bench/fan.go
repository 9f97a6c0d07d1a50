package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// fanTables are shared out among as many outlets.
const fanTables = 10

// fanOut measures what outlets cost the capture of a source: none, one that takes
// everything, and ten that each take a tenth of the tables.
func (b *bed) fanOut(ctx context.Context) (string, error) {
	conn, err := b.source.Connect(ctx, "circulation")
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx) //nolint:errcheck // nothing is open on it
	const rows = 500      // a transaction's
	commits := max(b.large/rows, fanTables)
	fmt.Printf("writing %d transactions of %d rows to %d tables …\n", commits, rows, fanTables)
	insert := strings.Replace(fmt.Sprintf(benchRow, 1, rows), "bench_loans", "bench_fan_%s", 1)
	write := fmt.Sprintf("DO $do$ BEGIN FOR n IN 1..%d LOOP EXECUTE format($sql$%s$sql$, n %% %d); COMMIT; END LOOP; END $do$", commits, strings.ReplaceAll(strings.Replace(insert, "bench_fan_%s", "bench_fan_@", 1), "%", "%%"), fanTables)
	write = strings.Replace(write, "bench_fan_@", "bench_fan_%s", 1)
	for _, sql := range []string{"SELECT pg_create_logical_replication_slot('fan', 'pgoutput')", "SET synchronous_commit = off", write, "CHECKPOINT"} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			return "", err
		}
	}
	defer conn.Exec(context.WithoutCancel(ctx), "SELECT pg_drop_replication_slot('fan')") //nolint:errcheck // the server goes too
	outlets := func(n int) func(*instance) error {
		return func(i *instance) error {
			if n == 0 {
				return nil
			}
			if err := i.post(ctx, "/v1/destinations/fan", map[string]any{"kind": "file", "file": map[string]any{"directory": "fan"}}); err != nil {
				return err
			}
			for at := range n {
				definition := map[string]any{"source": "circulation", "destination": "fan"}
				if n > 1 {
					definition["tables"] = []string{fmt.Sprintf("public.bench_fan_%d", at)}
				}
				if err := i.post(ctx, fmt.Sprintf("/v1/outlets/fan%d", at), definition); err != nil {
					return err
				}
			}
			return nil
		}
	}
	kinds := []int{0, 1, fanTables}
	rates := make(map[int][]float64)
	cpus := make(map[int][]float64)
	peaks := make(map[int][]float64)
	for round := range b.rounds {
		for _, kind := range kinds {
			copied := fmt.Sprintf("fan_%d_%d", round, kind)
			if _, err := conn.Exec(ctx, "SELECT pg_copy_logical_replication_slot('fan', $1)", copied); err != nil {
				return "", err
			}
			m, err := b.ours(ctx, copied, "public.bench_fan_*", commits*rows, copied, outlets(kind))
			if err != nil {
				return "", fmt.Errorf("%d outlets: %w", kind, err)
			}
			os.RemoveAll(filepath.Join(b.folder, "files")) //nolint:errcheck // room for the next
			if err := dropSlot(ctx, conn.PgConn(), copied); err != nil {
				return "", err
			}
			rates[kind] = append(rates[kind], float64(commits*rows)/m.took.Seconds())
			cpus[kind], peaks[kind] = append(cpus[kind], m.cpu), append(peaks[kind], m.peak)
			fmt.Printf("  round %d: %d outlets: %.0f events/s captured, %.2f cores, %.0f MiB\n", round+1, kind, rates[kind][round], m.cpu, m.peak)
		}
	}
	report := "| outlets of files on the source | captured, events/s | of none | CPU of ours, cores | peak memory |\n|---|---:|---:|---:|---:|\n"
	for n, name := range []string{"none", "one, of all tables", "ten, of a tenth each"} {
		kind := kinds[n]
		report += fmt.Sprintf("| %s | %.0f | %.2f | %.2f | %.0f MiB |\n", name, median(rates[kind]), median(rates[kind])/median(rates[0]), median(cpus[kind]), median(peaks[kind]))
	}
	return report, nil
}
