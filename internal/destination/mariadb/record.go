package mariadb

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"

	"rillmark/internal/destination"
	"rillmark/internal/destination/sql"
	"rillmark/internal/engine"
	"rillmark/internal/mariadb/wire"
)

// offsetsTable is the quoted name of the table of offsets, and its database's.
func (o *OutletSettings) offsetsTable() (schema, name string) {
	schema, name = o.OffsetsTable()
	return wire.Name(schema), wire.Name(schema) + "." + wire.Name(name)
}

func createOffsets(schema, name string) []string {
	return []string{"CREATE DATABASE IF NOT EXISTS " + schema + " CHARACTER SET utf8mb4",
		"CREATE TABLE IF NOT EXISTS " + name + " (" +
			"token char(36) CHARACTER SET ascii COLLATE ascii_bin NOT NULL PRIMARY KEY COMMENT 'the outlet''s own, whatever its name', " +
			"outlet varchar(200) NOT NULL, " +
			"run int NOT NULL COMMENT 'counts its rewinds', " +
			"`offset` bigint NOT NULL COMMENT 'everything up to it is in the tables', " +
			"committed_at datetime(6) NULL COMMENT 'when that was committed at the source, in UTC', " +
			"epoch bigint NOT NULL COMMENT 'whoever delivers takes the next one', " +
			"tables longtext NOT NULL) ENGINE = InnoDB CHARACTER SET utf8mb4"}
}

// takeOverWithin is how long the session waits for an earlier one to end.
const takeOverWithin = 20

// TakeOver implements [sql.Database]. A lock of the server, held as long as the session is,
// names the one that writes.
func (d *database) TakeOver(ctx context.Context, o destination.Outlet) (*sql.Record, error) {
	schema, name := d.options.offsetsTable()
	bareSchema, bareName := d.options.OffsetsTable()
	there, err := d.conn.One(ctx, 1, "SELECT 1 FROM information_schema.TABLES WHERE TABLE_SCHEMA = "+literal(bareSchema)+" AND TABLE_NAME = "+literal(bareName))
	if err != nil {
		return nil, err
	}
	if there == nil {
		for _, statement := range createOffsets(schema, name) {
			if err := d.conn.Exec(ctx, statement); err != nil {
				return nil, err
			}
		}
	}
	lock := literal("rillmark:" + o.Token)
	holder, err := d.conn.One(ctx, 1, "SELECT coalesce(IS_USED_LOCK("+lock+"), '')")
	if err != nil {
		return nil, err
	}
	if len(holder) > 0 && holder[0] != "" {
		if err := d.conn.Exec(ctx, "KILL "+holder[0]); err != nil && wire.Code(err) != codeNoSession {
			return nil, fmt.Errorf("ending an earlier session of the outlet: %w", err)
		}
	}
	got, err := d.conn.One(ctx, 1, fmt.Sprintf("SELECT coalesce(GET_LOCK(%s, %d), 0)", lock, takeOverWithin))
	if err != nil {
		return nil, err
	}
	if len(got) == 0 || got[0] != "1" {
		return nil, &engine.Fault{Code: "taken-over", Message: "another session writes for this outlet and does not end", Fix: "delivery goes on by itself once it has"}
	}
	for _, statement := range []string{"BEGIN",
		fmt.Sprintf("INSERT INTO %s (token, outlet, run, `offset`, epoch, tables) VALUES (%s, %s, %d, %d, 1, '{}') ON DUPLICATE KEY UPDATE epoch = epoch + 1, outlet = VALUES(outlet)", name, literal(o.Token), literal(o.Name), o.Run, o.Committed)} {
		if err := d.conn.Exec(ctx, statement); err != nil {
			return nil, err
		}
	}
	row, err := d.conn.One(ctx, 4, "SELECT run, `offset`, epoch, tables FROM "+name+" WHERE token = "+literal(o.Token)+" FOR UPDATE")
	if err == nil && len(row) < 4 {
		err = fmt.Errorf("the outlet's row of %s is gone", name)
	}
	if err != nil {
		return nil, err
	}
	r := new(sql.Record)
	r.Run, err = strconv.Atoi(row[0])
	if err == nil {
		r.Offset, err = strconv.ParseInt(row[1], 10, 64)
	}
	if err == nil {
		d.epoch, err = strconv.ParseInt(row[2], 10, 64)
	}
	if err == nil {
		err = json.Unmarshal([]byte(row[3]), &r.Tables)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the outlet's row of %s: %w", name, err)
	}
	return r, d.conn.Exec(ctx, "COMMIT")
}

// codeNoSession is the server's error for a session that has ended.
const codeNoSession = 1094

// WriteRecord implements [sql.Database].
func (d *database) WriteRecord(ctx context.Context, r *sql.Record) error {
	done, err := d.conn.Run(ctx, d.recording(r))
	if err == nil && done.Touched == 0 {
		err = sql.ErrFenced
	}
	return err
}

func (d *database) recording(r *sql.Record) string {
	_, name := d.options.offsetsTable()
	set := fmt.Sprintf("run = %d, `offset` = %d", r.Run, r.Offset)
	if !r.Committed.IsZero() {
		set += ", committed_at = '" + string(d.AppendTime(nil, r.Committed)) + "'"
	}
	if r.TablesChanged {
		raw, _ := json.Marshal(r.Tables) // strings and numbers always marshal
		set += ", tables = " + literal(string(raw))
	}
	return fmt.Sprintf("UPDATE %s SET %s WHERE token = %s AND epoch = %d", name, set, literal(d.outlet.Token), d.epoch)
}

// Other implements [sql.Database].
func (d *database) Other(ctx context.Context, target string) (string, error) {
	_, name := d.options.offsetsTable()
	rows, err := d.conn.All(ctx, 2, "SELECT outlet, tables FROM "+name+" WHERE token <> "+literal(d.outlet.Token))
	if err != nil {
		return "", err
	}
	for _, row := range rows {
		var tables map[string]*sql.TableState
		if err := json.Unmarshal([]byte(row[1]), &tables); err != nil {
			return "", fmt.Errorf("reading the row of outlet %s in %s: %w", row[0], name, err)
		}
		for _, state := range tables {
			if state.Target == target {
				return row[0], nil
			}
		}
	}
	return "", nil
}
