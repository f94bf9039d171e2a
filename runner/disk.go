package runner

import (
	"context"
	"fmt"
	"io/fs"
	"path/filepath"
	"sync"
	"time"

	"gentlepiston.example/piston/core/quantity"
)

// diskLook is how often the disk is looked at while a job runs.
const diskLook = 500 * time.Millisecond

// maxReserve is the most room that is kept free on the runner's disk; of a small one a twentieth.
const maxReserve = 500 << 20

// watchDisk ends the job when its files take more than they may; and when the disk is almost full and no other job's
// files take more, before everything else on the machine fails. It returns a function that ends the watch.
func (j *job) watchDisk(ctx context.Context) func() {
	return beside(ctx, func(ctx context.Context) {
		defer j.use.forget(j.work.Attempt)
		// Counting a large tree takes time, so the pauses between counts grow with it.
		for took, low := time.Duration(0), 0; ; {
			pause(ctx, max(diskLook, 20*took))
			if ctx.Err() != nil {
				return
			}
			space, err := j.space(j.dir)
			reserve := min(maxReserve, space.Total/20)
			if low++; err != nil || space.Free >= reserve {
				low = 0
			}
			if j.limits.Disk <= 0 && low == 0 {
				continue
			}
			began := time.Now()
			used := diskUse(ctx, j.dir)
			took = time.Since(began)
			switch most := j.use.of(j.work.Attempt, used); {
			case j.limits.Disk > 0 && used > j.limits.Disk:
				j.overLimit("disk", fmt.Sprintf("its files take %s, and %s are allowed", quantity.Bytes(used),
					quantity.Bytes(j.limits.Disk)))
				return
			case low > 1 && most && used > reserve/2: // at the second look all others have counted theirs, too
				j.overLimit("disk", fmt.Sprintf("its files take %s, and the runner's disk has %s left", quantity.Bytes(used),
					quantity.Bytes(space.Free)))
				return
			}
		}
	})
}

// uses are what the files of a runner's jobs take, in bytes, by attempt, as last counted.
type uses struct {
	mu    sync.Mutex
	bytes map[int64]int64
}

// of notes what a job's files take, and tells whether no other's take more.
func (u *uses) of(attempt, bytes int64) (most bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.bytes == nil {
		u.bytes = map[int64]int64{}
	}
	u.bytes[attempt] = bytes
	for _, other := range u.bytes {
		if other > bytes {
			return false
		}
	}
	return true
}

func (u *uses) forget(attempt int64) {
	u.mu.Lock()
	defer u.mu.Unlock()
	delete(u.bytes, attempt)
}

// diskUse counts what the files of a folder take, as long as ctx lasts.
func diskUse(ctx context.Context, dir string) (total int64) {
	_ = filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return fs.SkipAll
		}
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
