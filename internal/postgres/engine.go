package postgres

import (
	"context"
	"fmt"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/move"
	"rillmark/internal/postgres/check"
	"rillmark/internal/postgres/compared"
	"rillmark/internal/postgres/moving"
	"rillmark/internal/postgres/rehearsal"
	"rillmark/internal/postgres/script"
	"rillmark/internal/postgres/session"
	"rillmark/internal/verify"
)

// Engine is one PostgreSQL source.
type Engine struct{ config *session.Config }

var _ interface {
	engine.Engine
	engine.Scripter
	engine.Trier
	engine.ConditionChecker
	engine.LogRetainer
	engine.Comparer
	engine.Rehearser
} = (*Engine)(nil)

// New is an engine of a configuration, which stays its own.
func New(c *session.Config) *Engine { return &Engine{c} }

// Name implements [engine.Engine].
func (e *Engine) Name() change.Engine { return change.PostgreSQL }

// Check implements [engine.Engine].
func (e *Engine) Check(ctx context.Context) []change.Check { return check.Check(ctx, e.config) }

// Tables implements [engine.Engine].
func (e *Engine) Tables(ctx context.Context) ([]engine.Table, error) {
	return check.Tables(ctx, e.config)
}

// Run implements [engine.Engine].
func (e *Engine) Run(ctx context.Context, start engine.Start, sink engine.Sink) error {
	return Run(ctx, e.config, start, sink)
}

// Remove implements [engine.Engine].
func (e *Engine) Remove(ctx context.Context) (remains []string, err error) {
	return check.Remove(ctx, e.config)
}

// CheckCondition implements [engine.ConditionChecker].
func (e *Engine) CheckCondition(ctx context.Context, table, condition string) error {
	return check.Condition(ctx, e.config, table, condition)
}

// KeysCondition implements [engine.ConditionChecker].
func (e *Engine) KeysCondition(columns []string, keys [][]string) string {
	return engine.KeysIn(columns, keys, session.Quoted)
}

// Inventory implements [engine.Mover].
func (e *Engine) Inventory(ctx context.Context, tables []string) (*move.Inventory, error) {
	return moving.Inventory(ctx, e.config, tables)
}

// Writers implements [engine.Mover].
func (e *Engine) Writers() move.Writers { return moving.Writers(e.config) }

// RetainedLog implements [engine.LogRetainer].
func (e *Engine) RetainedLog(ctx context.Context, _ []byte) (engine.RetainedLog, error) {
	return check.RetainedLog(ctx, e.config)
}

// Try implements [engine.Trier].
func (e *Engine) Try(ctx context.Context, ready func(), each func(tx *change.OpenTransaction, row *change.Row) error) error {
	return Try(ctx, e.config, ready, each)
}

// SetupSQL implements [engine.Scripter].
func (e *Engine) SetupSQL() string { return script.Setup(e.config) }

// TeardownSQL implements [engine.Scripter].
func (e *Engine) TeardownSQL() string { return script.Teardown(e.config) }

// StatementsSQL implements [engine.Scripter].
func (e *Engine) StatementsSQL() string { return script.Statements(e.config) }

// RunScript implements [engine.Scripter].
func (e *Engine) RunScript(ctx context.Context, name, user, password string) error {
	return script.Run(ctx, e.config, name, user, password)
}

// CompareRows implements [engine.Comparer].
func (e *Engine) CompareRows(ctx context.Context, table string) (verify.Side, error) {
	c := *e.config
	c.Defaults()
	rule := c.Rules.For(table)
	if rule == nil {
		return nil, fmt.Errorf("the source's rules do not choose %s", table)
	}
	conn, err := c.Connect(ctx, "verify")
	if err != nil {
		return nil, err
	}
	return compared.Open(ctx, &c, conn, table, rule, "")
}

// Rehearse implements [engine.Rehearser].
func (e *Engine) Rehearse(ctx context.Context, scratch, statement string) ([]*engine.Rehearsal, error) {
	c := *e.config
	c.Defaults()
	return rehearsal.Run(ctx, &c, scratch, statement)
}

// Present implements [engine.Comparer].
func (e *Engine) Present(ctx context.Context) (uint64, error) {
	c := *e.config
	c.Defaults()
	conn, err := c.Connect(ctx, "verify")
	if err != nil {
		return 0, err
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // it was only asked
	return compared.Present(ctx, conn)
}
