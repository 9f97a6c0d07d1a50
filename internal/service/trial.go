package service

import (
	"context"
	"sort"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
)

// TrialCount is how many events of a table and operation a trial saw.
type TrialCount struct {
	Table     string `json:"table"`
	Operation string `json:"operation"`
	Events    int64  `json:"events"`
}

// longestTrial bounds a trial: its slot holds the source's log back.
const longestTrial = 10 * time.Minute

// Try follows the tables that a definition chooses, or a stored one where d
// is nil, for a while, and stores nothing, here or on the source. each gets the
// events as they would be delivered, with offsets from 1 and generation 0.
func (s *Sources) Try(ctx context.Context, name string, d *definition.Source, span time.Duration, ready func(), each func(encoded []byte) error) ([]TrialCount, error) {
	if span <= 0 || span > longestTrial {
		return nil, &definition.Invalid{Location: "seconds", Message: "a trial lasts from 1 to 600 seconds"}
	}
	built, err := s.engineOf(ctx, name, d)
	if err != nil {
		return nil, err
	}
	trier, can := built.(engine.Trier)
	if !can {
		return nil, engine.Lacks(built.Name(), engine.CanTry)
	}
	database := ""
	if d != nil {
		database = d.Database()
	} else if record, err := s.Catalog.Source(ctx, name); err == nil {
		database = record.Definition.Database()
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	counts := make(map[TrialCount]int64)
	encoder := encode.CloudEvents{Address: s.Config.PublicURL}
	offset := int64(0)
	var buf []byte
	err = trier.Try(ctx, func() {
		ready()
		time.AfterFunc(span, cancel)
	}, func(tx *change.OpenTransaction, row *change.Row) error {
		offset++
		counts[TrialCount{Table: row.Table, Operation: row.Operation.String()}]++
		event := change.Event{Source: name, Offset: offset, Operation: row.Operation, Database: change.DatabaseOf(database, row.Table), Table: row.Table, Schema: row.Schema,
			Before: row.Before, After: row.After, Rekeyed: row.Rekeyed, Body: row.Body, Engine: built.Name(), Place: row.Place,
			Transaction: change.Transaction{ID: tx.ID, CommittedAt: time.UnixMicro(tx.CommitTime), Origin: tx.Origin, Index: tx.Next}}
		buf = encoder.Append(buf[:0], &event)
		return each(buf)
	})
	if err != nil && ctx.Err() == nil {
		return nil, err
	}
	all := make([]TrialCount, 0, len(counts))
	for c, n := range counts {
		c.Events = n
		all = append(all, c)
	}
	sort.Slice(all, func(i, j int) bool {
		return all[i].Table < all[j].Table || all[i].Table == all[j].Table && all[i].Operation < all[j].Operation
	})
	return all, nil
}
