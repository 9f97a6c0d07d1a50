package mariadb

import (
	"context"

	"rillmark/internal/destination"
	"rillmark/internal/destination/sql"
	"rillmark/internal/mariadb/moving"
	"rillmark/internal/move"
)

var _ destination.CounterSetter = (*Destination)(nil)

// SetCounters implements [destination.CounterSetter].
func (d *Destination) SetCounters(ctx context.Context, counters []move.Counter) ([]move.CounterSet, error) {
	conn, err := d.connect(ctx, "rillmark cutover")
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	all := make([]move.CounterSet, 0, len(counters))
	for _, one := range counters {
		schema, name, err := d.options.Place(one.Table, longestName)
		if err != nil {
			return nil, err
		}
		set, err := moving.SetCounter(ctx, conn, schema, name, one, d.options.Definitions == "follow")
		if err != nil {
			return nil, explained(err)
		}
		all = append(all, set)
	}
	return all, nil
}

// Current implements [destination.CounterSetter].
func (d *Destination) Current(table string) bool {
	kept, err := d.options.Kept()
	return err == nil && kept(table) == sql.Current
}
