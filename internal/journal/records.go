package journal

import (
	"context"

	"rillmark/internal/change"
)

// record puts a table's state on record with the events that led to it, and the schema
// version that they follow.
func (w *Writer) record(ctx context.Context, to executor, t *change.TableState) error {
	var fingerprint *int64
	if t.Schema != nil {
		f := int64(t.Schema.Fingerprint())
		fingerprint = &f
		if _, err := to.Exec(ctx, `WITH version AS (
				INSERT INTO rillmark.schema_version (fingerprint, table_name, definition) VALUES ($2, $3, $4) ON CONFLICT DO NOTHING)
			INSERT INTO rillmark.source_schema (source_id, fingerprint) VALUES ($1, $2) ON CONFLICT DO NOTHING`,
			w.source, f, t.Schema.Table, t.Schema.Definition()); err != nil {
			return err
		}
	}
	_, err := to.Exec(ctx, `INSERT INTO rillmark.source_table (source_id, name, state, cause, note, fingerprint, load, rows_done, rows_estimate, rule, members, published, identity)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)
		ON CONFLICT (source_id, name) DO UPDATE SET state = excluded.state, cause = excluded.cause, note = excluded.note, fingerprint = CASE WHEN excluded.state <> '`+change.TableGone+`' THEN coalesce(excluded.fingerprint, source_table.fingerprint) END,
			load = excluded.load, rows_done = excluded.rows_done, rows_estimate = excluded.rows_estimate, rule = excluded.rule, members = excluded.members, published = excluded.published, identity = excluded.identity, reload = NULL, updated_at = now()`,
		w.source, t.Table, t.State, t.Cause, change.Storable(t.Note), fingerprint, t.Progress, t.RowsDone, t.RowsEstimate, t.Rule, t.Members, t.Published, t.Identity)
	return err
}
