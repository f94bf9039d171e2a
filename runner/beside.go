package runner

import "context"

// beside does something beside the rest until it is done or stopped; stop waits for its end.
func beside(ctx context.Context, do func(ctx context.Context)) (stop func()) {
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
