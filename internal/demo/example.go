package demo

import (
	"context"
)

func (s *stage) example(ctx context.Context) error { return nil }
