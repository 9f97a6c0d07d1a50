package mariadb

import (
	"context"

	"rillmark/internal/engine"
	"rillmark/internal/mariadb/loads"
)

// The names of storage engines: tables of the second one are unions of tables of the first.
const (
	engineMyISAM = "MyISAM"
	engineMerge  = "MRG_MyISAM"
)

// isMerged asks whether a table that is not captured is a union of others, where a captured one
// can be among them.
func (r *run) isMerged(ctx context.Context, database, name string) (bool, error) {
	for _, t := range r.tables {
		if t.ChosenBy != nil && t.Listed != nil && t.Listed.Engine == engineMyISAM {
			listed, err := r.reader.Find(ctx, database, name)
			return listed != nil && listed.Engine == engineMerge, err
		}
	}
	return false, nil
}

// writtenThrough marks the tables that a union may consist of: what is written through it stands
// in the log as rows of the union alone. The lock is held.
func (r *run) writtenThrough(b *binding) {
	var may []*loads.Table
	for _, t := range r.tables {
		if t.Listed != nil && t.Listed.Engine == engineMyISAM && t.State.State != engine.StateStale {
			may = append(may, t)
		}
	}
	r.doubt("rows were written through "+b.name+", a union of MyISAM tables (MERGE), and the log does not say of which", may)
}
