package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"time"
)

const (
	// versionsOfARow is how often each row is changed before its history is asked for.
	versionsOfARow = 20
	// rowsAsked is how many rows are asked about.
	rowsAsked = 9
)

// history measures how long it takes to find all versions of a row in a journal of many
// events: as it is asked for first, and once more.
func (b *bed) history(ctx context.Context) (string, error) {
	rows := b.events / (versionsOfARow + 1)
	fmt.Printf("%d changes of %d rows …\n", b.events, rows)
	conn, err := b.source.Connect(ctx, "circulation")
	if err != nil {
		return "", err
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	const table = "bench_history"
	if _, err := conn.Exec(ctx, "CREATE TABLE "+table+" (id bigint PRIMARY KEY, n integer NOT NULL, note text NOT NULL) WITH (fillfactor = 50)"); err != nil {
		return "", err
	}
	i, err := b.serve(ctx, "history")
	if err != nil {
		return "", err
	}
	defer func() {
		i.stop()
		dropSlot(context.WithoutCancel(ctx), conn.PgConn(), "rillmark_circulation") //nolint:errcheck // the next one says so
		conn.Exec(context.WithoutCancel(ctx), "DROP TABLE "+table)                  //nolint:errcheck // the server goes with its folder
	}()
	if err := b.add(ctx, i, "", "public."+table); err != nil {
		return "", err
	}
	if err := i.post(ctx, "/v1/sources/circulation/resume", map[string]string{}); err != nil {
		return "", err
	}
	if err := i.phase(ctx, "running"); err != nil {
		return "", err
	}
	began := time.Now()
	for version := 0; version <= versionsOfARow; version++ {
		statement := fmt.Sprintf("UPDATE %s SET n = n + 1, note = 'handed on ' || id", table)
		if version == 0 {
			statement = fmt.Sprintf("INSERT INTO %s SELECT k, 0, 'bought ' || k FROM generate_series(1, %d) k", table, rows)
		}
		if _, err := conn.Exec(ctx, statement); err != nil {
			return "", err
		}
		if _, err := conn.Exec(ctx, "VACUUM "+table); err != nil {
			return "", err
		}
		if err := b.captures(ctx, i, int64(version+1)*int64(rows)); err != nil {
			return "", err
		}
	}
	took := time.Since(began)
	if err := b.indexes(ctx, i, int64(b.events)-int64(b.events)/50); err != nil {
		return "", err
	}
	indexed := time.Since(began) - took
	var first, again []time.Duration
	var read, found int64
	for n := range rowsAsked {
		id := 1 + n*(rows/rowsAsked)
		for _, times := range []*[]time.Duration{&first, &again} {
			start := time.Now()
			answer, err := i.historyOf(ctx, table, id)
			if err != nil {
				return "", err
			}
			*times = append(*times, time.Since(start))
			read, found = max(read, answer.Read), int64(len(answer.Events))
			if found != versionsOfARow+1 {
				return "", fmt.Errorf("row %d has %d versions, and %d came", id, versionsOfARow+1, found)
			}
		}
	}
	slices.Sort(first)
	slices.Sort(again)
	var blocks int64
	if err := i.state.QueryRow(ctx, "SELECT pg_database_size(current_database()) >> 20").Scan(&blocks); err != nil {
		return "", err
	}
	return fmt.Sprintf("| history of a row of %d versions | |\n|---|---:|\n| events in the journal | %d |\n| journal on disk | %d MiB |\n| written and captured in | %.0f s |\n| filters of its keys are complete after | %.0f s |\n| events read for it, at most | %d |\n| first time, p50 and max | %.0f and %.0f ms |\n| again, p50 and max | %.0f and %.0f ms |\n| peak memory | %.0f MiB |\n",
		versionsOfARow+1, int64(rows)*(versionsOfARow+1), blocks, took.Seconds(), indexed.Seconds(), read, ms(quantile(first, 0.5)), ms(first[len(first)-1]), ms(quantile(again, 0.5)), ms(again[len(again)-1]), i.peak()), nil
}

func ms(d time.Duration) float64 { return d.Seconds() * 1000 }

// captures waits until so many events are in the journal.
func (b *bed) captures(ctx context.Context, i *instance, events int64) error {
	for deadline := time.Now().Add(10 * time.Minute); ; time.Sleep(20 * time.Millisecond) {
		var next int64
		if err := i.state.QueryRow(ctx, "SELECT next_offset FROM rillmark.journal_head").Scan(&next); err != nil {
			return err
		}
		if next > events {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("only %d of %d events came: %s", next-1, events, i.log)
		}
	}
}

// indexes waits until the filters of keys cover so many events: they are made behind the
// writer, once events are a minute old.
func (b *bed) indexes(ctx context.Context, i *instance, events int64) error {
	for deadline := time.Now().Add(10 * time.Minute); ; time.Sleep(200 * time.Millisecond) {
		var last int64
		if err := i.state.QueryRow(ctx, "SELECT coalesce(max(last_offset), 0) FROM rillmark.journal_keys").Scan(&last); err != nil {
			return err
		}
		if last >= events {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("filters cover only %d of %d events: %s", last, events, i.log)
		}
	}
}

type rowHistory struct {
	Events []json.RawMessage
	Read   int64
}

func (i *instance) historyOf(ctx context.Context, table string, id int) (*rowHistory, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, fmt.Sprintf("%s/v1/sources/circulation/tables/public.%s/history?key=%d&limit=1000", i.address, table, id), nil)
	if err != nil {
		return nil, err
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close() //nolint:errcheck // it was read
	var answer rowHistory
	if err := json.NewDecoder(response.Body).Decode(&answer); err != nil {
		return nil, err
	}
	if response.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the history answers %s", response.Status)
	}
	return &answer, nil
}
