package stream

import (
	"context"

	"rillmark/internal/engine"
	"rillmark/internal/mariadb/wire"
)

// LogEnd is where the server's log ends now.
func LogEnd(ctx context.Context, conn *wire.Conn) (Place, error) {
	row, err := conn.One(ctx, 2, "SHOW BINLOG STATUS")
	if err != nil {
		return Place{}, err
	}
	if len(row) < 2 {
		return Place{}, &engine.Fault{Code: "log-off", Message: "the source writes no binary log any more", Fix: "set log_bin in the server's configuration, and restart it"}
	}
	return PlaceOf(row[0], row[1]), nil
}
