package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/pgoutput"
)

// noted is what the source's event trigger writes into the log at a statement
// that changes a schema. Any role may write such a message: it is believed to
// tell a statement's words and columns' names, and nothing depends on it.
type noted struct {
	Tag       string `json:"tag"`
	Statement string `json:"statement"`
	Tables    []struct {
		OID     uint32 `json:"oid"`
		Table   string `json:"table"`
		Columns []struct {
			Name   string `json:"name"`
			Number int    `json:"number"`
		} `json:"columns"`
	} `json:"tables"`
	Dropped []string `json:"dropped"`
}

// maxStatement bounds the text that goes into an event, in bytes.
const maxStatement = 16 << 10

// statement takes a note of the event trigger: the schema event that it is about
// carries the statement, and comes at once where the catalogue has nothing newer.
func (r *run) statement(ctx context.Context, m *pgoutput.LogicalMessage, start LSN) error {
	var n noted
	if json.Unmarshal(m.Content, &n) != nil {
		return nil // not the trigger's
	}
	if r.config.private() {
		// A statement's text may hold values, also of statements beside it.
		n.Statement = n.Tag
	}
	if len(n.Statement) > maxStatement {
		n.Statement = n.Statement[:maxStatement]
	}
	type changed struct {
		table  *table
		layout *layout
	}
	var adopts []changed
	for _, one := range n.Tables {
		t := r.tables[one.Table]
		if t == nil || t.rule() == nil {
			continue
		}
		// Several may come before the first row by the newest.
		if t.statement != "" && len(t.statement)+len(n.Statement) < maxStatement {
			t.statement += ";\n" + n.Statement
		} else {
			t.statement = n.Statement
		}
		for _, c := range one.Columns {
			if was := t.names[c.Number]; was != "" && was != c.Name {
				t.renamed = append(t.renamed, rename{was, c.Name})
			}
			if t.names != nil {
				t.names[c.Number] = c.Name
			}
		}
		l, err := r.config.catalogueLayout(ctx, r.control, one.OID, one.Table, t.rule())
		var fault *engine.Fault
		if errors.As(err, &fault) {
			continue // told at the table's next row
		}
		if err != nil {
			return err
		}
		same := len(l.raw) == len(one.Columns)
		for i := 0; same && i < len(l.raw); i++ {
			same = l.raw[i].number == one.Columns[i].Number && l.raw[i].Name == one.Columns[i].Name
		}
		if same && (t.state.Schema == nil || t.state.Schema.Fingerprint() != l.schema.Fingerprint()) && (t.state.Schema == nil || l.exposes(t.state.Schema) == "") {
			adopts = append(adopts, changed{t, l})
		}
	}
	var gone []*table
	for _, name := range n.Dropped {
		if t := r.tables[name]; t != nil && t.state.Schema != nil && t.state.State != engine.StateGone {
			gone = append(gone, t)
		}
	}
	isNew, err := r.arrive(start, len(adopts)+len(gone) > 0)
	if err != nil || !isNew {
		return err
	}
	for _, c := range adopts {
		r.adopt(c.table, c.layout, start)
		c.table.learn(c.layout)
	}
	for _, t := range gone {
		r.goes(t, n.Statement, start)
	}
	return nil
}

// goes puts on record that a table is dropped or renamed; a unit is open.
func (r *run) goes(t *table, statement string, place LSN) {
	body := schemaBody{Previous: t.state.Schema, Statement: statement}
	r.sink.Add(&change.Row{Operation: change.Definition, Table: t.state.Table, Schema: t.state.Schema, Place: uint64(place), Body: body.encode()})
	t.state.State, t.state.Note, t.load = engine.StateGone, "dropped or renamed in the source", nil
	r.sink.Table(t.progressState())
}

// followCatalogue puts schema changes on record that no row has brought, as they
// are found by looking at the source: each at a mark, where the catalogue is
// looked at again.
func (r *run) followCatalogue(ctx context.Context, conn *pgx.Conn, changed map[*table]uint32, gone []*table) error {
	for t, oid := range changed {
		err := r.place(ctx, conn, func() error {
			rule := t.rule()
			if rule == nil || t.state.State == engine.StateGone {
				return nil
			}
			l, err := r.config.catalogueLayout(ctx, r.control, oid, t.state.Table, rule)
			var fault *engine.Fault
			if errors.As(err, &fault) || err == nil && len(l.raw) == 0 {
				return nil // told at the table's next row, or just dropped
			}
			if err != nil {
				return fmt.Errorf("looking up %s: %w", t.state.Table, err)
			}
			if t.state.Schema == nil || l.exposes(t.state.Schema) == "" {
				r.adopt(t, l, r.lastRow)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	for _, t := range gone {
		err := r.place(ctx, conn, func() error {
			if t.state.State != engine.StateGone && t.state.Schema != nil {
				r.goes(t, "", r.lastRow)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}
