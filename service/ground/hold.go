package ground

import (
	"context"
	"sync"
	"time"

	"github.com/riverqueue/river"
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

// leftEvery is how often is looked for what a server has left that does not come back.
const leftEvery = 10 * time.Second

// TakesUp has others go on with what a server was holding that has ended: left lets go of it and lists it, and due is
// the work that goes on with one.
func TakesUp[ID any](g *Ground, what string, left func(ctx context.Context, q Q) ([]ID, error),
	due func(id ID) river.JobArgs) {
	g.OneOfAll(Upkeep{What: "going on with " + what + " that a server has left", Every: leftEvery,
		Do: func(ctx context.Context) error {
			return g.Tx(ctx, func(q Q) error {
				ids, err := left(ctx, q)
				if err != nil {
					return err
				}
				all := make([]river.JobArgs, len(ids))
				for i, id := range ids {
					all[i] = due(id)
				}
				return q.PutOff(ctx, all...)
			})
		}})
}
