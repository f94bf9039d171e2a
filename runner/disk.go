package runner

import (
	"context"
	"fmt"
	"io/fs"
	"path/filepath"
	"time"

	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/state"
)

// watchDisk ends the job when its files take more than they may. It returns a function that ends the watch.
// Counting a large tree takes time, so the pauses between counts grow with it.
func (j *job) watchDisk(ctx context.Context) func() {
	ctx, stop := context.WithCancel(ctx)
	if j.Disk <= 0 {
		return stop
	}
	go func() {
		for took := time.Duration(0); ; {
			pause(ctx, max(500*time.Millisecond, 20*took))
			if ctx.Err() != nil {
				return
			}
			began := time.Now()
			if used := diskUse(j.dir); used > j.Disk {
				j.cancel(ending{state.Failed, fmt.Sprintf("the job's files take %s, and %s are allowed on this runner", quantity.Bytes(used), quantity.Bytes(j.Disk))})
				return
			}
			took = time.Since(began)
		}
	}()
	return stop
}

func diskUse(dir string) (total int64) {
	_ = filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return nil // what vanishes while we count needs no space
		}
		if info, err := d.Info(); err == nil {
			total += allocated(info)
		}
		return nil
	})
	return total
}
