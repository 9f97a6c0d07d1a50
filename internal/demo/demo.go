package demo

import (
	"context"
	"io"
)

type Options struct {
	Out, Err io.Writer
	Folder   string
	Port     int
	Rate     int
	Example  bool
}

func Run(ctx context.Context, o Options) error { return nil }
