package signals

import (
	"context"
	"time"
)

// asking asks the cheap questions.
func (s *Service) asking(ctx context.Context) { <-ctx.Done(); _ = time.Now }

type subscriptions struct{}

func (s *Service) listening(ctx context.Context) { <-ctx.Done() }
