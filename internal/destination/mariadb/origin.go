package mariadb

import (
	"context"
	"strconv"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/mariadb/wire"
	"rillmark/internal/settings"
)

// origin is the server id that the outlet's transactions carry; 0 where they carry the
// server's own.
func (o *OutletSettings) origin() (uint32, error) {
	if o.Origin == "" {
		return 0, nil
	}
	id, err := strconv.ParseUint(o.Origin, 10, 32)
	if err != nil || id == 0 {
		return 0, settings.Wrong("mariadb.origin", "%q is no server id: write a number from 1 to 4294967295 that no server has", o.Origin)
	}
	return uint32(id), nil
}

// mark has the server write the outlet's origin into its log with each transaction of the
// session: a source on this server can leave them out by it.
func (d *Destination) mark(ctx context.Context, conn *wire.Conn) error {
	id, err := d.options.origin()
	if err != nil || id == 0 {
		return err
	}
	row, err := conn.Row(ctx, 1, "SELECT @@GLOBAL.server_id")
	if err != nil {
		return err
	}
	if row[0] == d.options.Origin {
		return &engine.Fault{Code: "origin-in-use", Final: true, Message: "the outlet's origin " + row[0] + " is the server's own id: what the outlet writes would look like everybody's", Fix: "give the outlet an origin that no server has"}
	}
	return conn.Exec(ctx, "SET SESSION server_id = "+strconv.FormatUint(uint64(id), 10))
}

// checkOrigin looks whether what the outlet writes can be marked.
func (d *Destination) checkOrigin(ctx context.Context, conn *wire.Conn, account string) change.Check {
	c := change.Check{Name: "origin", Verdict: change.Good, Found: "transactions can be marked with server id " + d.options.Origin}
	if err := d.mark(ctx, conn); err != nil {
		c.Verdict, c.Found, c.Why = change.Missing, explained(err).Error(), "a source on this server would capture what the outlet writes"
		if wire.Code(err) == codeNoRight {
			c.Found, c.Fix = "the user may not write under another server id", "GRANT BINLOG REPLAY ON *.* TO "+account
		}
	}
	return c
}
