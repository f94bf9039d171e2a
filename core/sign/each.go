package sign

import (
	"context"
	"runtime"
	"sync"
)

// Each does something for each of n, on all processors. Who does it has a buffer of room bytes of its own. The first
// errors end it; it returns when nothing is at work any more.
func Each(ctx context.Context, n, room int, do func(i int, buffer []byte) error) error {
	workers := min(runtime.GOMAXPROCS(0), max(n, 1))
	errs, next, left := make([]error, workers), make(chan int), sync.WaitGroup{}
	for w := range workers {
		left.Go(func() {
			buffer := make([]byte, room)
			for i := range next {
				if errs[w] == nil {
					errs[w] = do(i, buffer)
				}
			}
		})
	}
	for i := range n {
		if ctx.Err() != nil {
			break
		}
		next <- i
	}
	close(next)
	left.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return context.Cause(ctx)
}
