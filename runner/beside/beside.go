// Package beside does things beside others, each with somebody who waits for its end.
package beside

import (
	"context"
	"time"
)

// Do does something beside the rest until it is done or stopped; stop waits for its end.
func Do(ctx context.Context, do func(ctx context.Context)) (stop func()) {
	ctx, cancel := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		do(ctx)
	}()
	return func() {
		cancel()
		<-ended
	}
}

// Pause waits for a while, or for the end of ctx.
func Pause(ctx context.Context, d time.Duration) {
	select {
	case <-time.After(d):
	case <-ctx.Done():
	}
}
