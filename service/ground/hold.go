package ground

import (
	"context"
	"sync"
	"time"
)

const (
	// HoldFor is how long something is held from other servers without a word of the one that has it in hand.
	HoldFor = 10 * time.Second
	// holdAgain is how often that one says so.
	holdAgain = HoldFor / 4
)

// Holding goes on holding something until letGo is called, or ctx ends. What it cannot say, since the records are away,
// it says again.
func Holding(ctx context.Context, again func(ctx context.Context) error) (letGo func()) {
	ctx, cancel := context.WithCancel(ctx)
	var held sync.WaitGroup
	held.Go(func() {
		for {
			select {
			case <-time.After(holdAgain):
				_ = again(ctx) // it is held for a while yet
			case <-ctx.Done():
				return
			}
		}
	})
	return func() {
		cancel()
		held.Wait()
	}
}
