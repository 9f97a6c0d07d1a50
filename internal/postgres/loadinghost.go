package postgres

import (
	"context"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/session"
	"rillmark/internal/postgres/tables"
)

// loadingHost is a run as its loads see it.
type loadingHost run

// Place implements [host].
func (h *loadingHost) Place(ctx context.Context, conn *pgx.Conn, seen func() error) error {
	return (*run)(h).place(ctx, conn, seen)
}

// MarkSession implements [host].
func (h *loadingHost) MarkSession(ctx context.Context, purpose string) (*pgx.Conn, error) {
	return (*run)(h).markSession(ctx, purpose)
}

// Adopt implements [host].
func (h *loadingHost) Adopt(t *tables.Table, l *catalogue.Layout, place session.LSN) {
	(*run)(h).adopt(t, l, place)
}

// Existing implements [host].
func (h *loadingHost) Existing(l *catalogue.Layout, place session.LSN, row []change.Value, sizes map[string]int64, only int64) {
	h.writer.Existing(l.Layout, uint64(place), row, sizes, only)
}

// LastRow implements [host].
func (h *loadingHost) LastRow() session.LSN { return h.lastRow }

// Hosts implements [host].
func (h *loadingHost) Hosts(t *tables.Table, leaves map[uint32]string) (isNew bool) {
	for oid, own := range leaves {
		isNew = (*run)(h).hosts(t, oid, own) || isNew
	}
	return isNew
}

// Touching implements [host].
func (h *loadingHost) Touching(number uint32) []uint32 { return h.notYetVisible.Of(number) }
