package catalog

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
	"rillmark/internal/engine"
)

// TableStates reads what is on record of a source's tables.
func (c *Catalog) TableStates(ctx context.Context, source int64) (map[string]*engine.TableState, error) {
	rows, _ := c.Pool.Query(ctx, `SELECT name, state, cause, note, fingerprint, load, rows_done, rows_estimate, rule, members, published, identity, reload FROM rillmark.source_table WHERE source_id = $1`, source)
	states := make(map[string]*engine.TableState)
	_, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (struct{}, error) {
		t := new(engine.TableState)
		var fingerprint *int64
		if err := row.Scan(&t.Table, &t.State, &t.Cause, &t.Note, &fingerprint, &t.Progress, &t.RowsDone, &t.RowsEstimate, &t.Rule, &t.Members, &t.Published, &t.Identity, &t.Reload); err != nil {
			return struct{}{}, err
		}
		states[t.Table] = t
		if fingerprint != nil {
			// Resolved below: this connection is busy with the rows.
			t.Schema = &change.Schema{Table: change.Fingerprint(*fingerprint).String()}
		}
		return struct{}{}, nil
	})
	if err != nil {
		return nil, err
	}
	for _, t := range states {
		if t.Schema == nil {
			continue
		}
		f, err := change.ParseFingerprint(t.Schema.Table)
		if err != nil {
			return nil, err
		}
		if t.Schema, err = c.Schema(ctx, f); err != nil {
			return nil, err
		}
	}
	return states, nil
}

// TablePhases are the states of a source's tables, by name.
func (c *Catalog) TablePhases(ctx context.Context, source int64) (map[string]string, error) {
	rows, _ := c.Pool.Query(ctx, "SELECT name, state FROM rillmark.source_table WHERE source_id = $1", source)
	phases := make(map[string]string)
	var name, state string
	_, err := pgx.ForEachRow(rows, []any{&name, &state}, func() error {
		phases[name] = state
		return nil
	})
	return phases, err
}

// ReloadTable asks for a table's rows to be read anew: all of them, or, where
// condition is not empty, those for which it holds. It takes effect when the
// source's capture starts the next time.
func (c *Catalog) ReloadTable(ctx context.Context, source int64, table, condition string) error {
	tag, err := c.Pool.Exec(ctx, `UPDATE rillmark.source_table SET updated_at = now(), reload = nullif($6, ''),
			state = CASE WHEN $6 = '' THEN $3 ELSE state END, note = CASE WHEN $6 = '' THEN '' ELSE note END,
			rows_done = CASE WHEN $6 = '' THEN 0 ELSE rows_done END, load = CASE WHEN $6 = '' THEN NULL ELSE load END
		WHERE source_id = $1 AND name = $2 AND state NOT IN ($4, $5, $7) AND ($6 = '' OR load IS NULL AND state <> $3)`,
		source, table, engine.StateToLoad, engine.StateGone, engine.StateUnpublished, condition, engine.StateLeftOut)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// GenerationStarted has a source's outlets look at its journal's generations again.
func (c *Catalog) GenerationStarted(ctx context.Context, source int64) error {
	_, err := c.Pool.Exec(ctx, "UPDATE rillmark.outlet SET updated_at = now() WHERE source_id = $1", source)
	return err
}

// CompleteSource puts on record that all of a source's tables are loaded and none
// is followed; when it is started again, it loads them again.
func (c *Catalog) CompleteSource(ctx context.Context, source int64) error {
	_, err := c.Pool.Exec(ctx, `WITH head AS (UPDATE rillmark.journal_head SET checkpoint = NULL WHERE source_id = $1)
		UPDATE rillmark.source_table SET state = $2, load = NULL, updated_at = now() WHERE source_id = $1 AND state = $3`, source, engine.StateLoaded, engine.StateFollowing)
	return err
}

// SchemaVersion is a version with where it came from.
type SchemaVersion struct {
	Schema    *change.Schema
	Source    string
	FirstSeen time.Time
}

// SchemaVersions lists the versions that a source has used, oldest first; of all
// sources where source is empty.
func (c *Catalog) SchemaVersions(ctx context.Context, source string) ([]SchemaVersion, error) {
	rows, _ := c.Pool.Query(ctx, `SELECT v.definition, s.name, u.first_seen FROM rillmark.source_schema u
		JOIN rillmark.schema_version v USING (fingerprint) JOIN rillmark.source s ON s.id = u.source_id
		WHERE $1 = '' OR s.name = $1 ORDER BY s.name, v.table_name, u.first_seen`, source)
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (SchemaVersion, error) {
		var v SchemaVersion
		var raw []byte
		if err := row.Scan(&raw, &v.Source, &v.FirstSeen); err != nil {
			return v, err
		}
		var err error
		v.Schema, err = change.ParseSchema(raw)
		return v, err
	})
}
