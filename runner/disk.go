package runner

import (
	"context"
	"fmt"
	"io/fs"
	"path/filepath"
	"time"

	"gentlepiston.example/piston/core/quantity"
)

// watchDisk ends the job when its files take more than they may. It returns a function that ends the watch.
// Counting a large tree takes time, so the pauses between counts grow with it.
func (j *job) watchDisk(ctx context.Context) func() {
	ctx, stop := context.WithCancel(ctx)
	if j.limits.Disk <= 0 {
		return stop
	}
	go func() {
		for took := time.Duration(0); ; {
			pause(ctx, max(500*time.Millisecond, 20*took))
			if ctx.Err() != nil {
				return
			}
			began := time.Now()
			if used := diskUse(j.dir); used > j.limits.Disk {
				j.overLimit("disk", fmt.Sprintf("its files take %s, and %s are allowed", quantity.Bytes(used), quantity.Bytes(j.limits.Disk)))
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
