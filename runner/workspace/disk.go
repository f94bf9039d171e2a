package workspace

import (
	"context"
	"fmt"
	"io/fs"
	"path/filepath"
	"sync"
	"time"

	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/disk"
	"gentlepiston.example/piston/runner/beside"
)

// diskLook is how often the disk is looked at while a job runs.
const diskLook = 500 * time.Millisecond

// maxReserve is the most room that is kept free on the runner's disk; of a small one a twentieth.
const maxReserve = 500 << 20

// Uses are what the workspaces of a runner take, in bytes, as last counted, and the disk they are all on.
type Uses struct {
	Space func(dir string) (disk.Space, error) // nil: disk.Of

	mu    sync.Mutex
	bytes map[*Workspace]int64
}

// WatchDisk watches until ctx ends, or the workspace takes more than it may (0: any amount), or the disk is almost full
// and no other workspace takes more: better it ends than everything on the machine. over is told why.
func (w *Workspace) WatchDisk(ctx context.Context, all *Uses, most int64, over func(why string)) {
	defer all.forget(w)
	// Counting a large tree takes time, so the pauses between counts grow with it.
	for took, low := time.Duration(0), 0; ; {
		beside.Pause(ctx, max(diskLook, 20*took))
		if ctx.Err() != nil {
			return
		}
		space, err := all.space(w.folder)
		reserve := min(maxReserve, space.Total/20)
		if low++; err != nil || space.Free >= reserve {
			low = 0
		}
		if most <= 0 && low == 0 {
			continue
		}
		began := time.Now()
		used := w.count(ctx)
		took = time.Since(began)
		switch largest := all.of(w, used); {
		case most > 0 && used > most:
			over(fmt.Sprintf("its files take %s, and %s are allowed", quantity.Bytes(used), quantity.Bytes(most)))
			return
		case low > 1 && largest && used > reserve/2: // at the second look all others have counted theirs, too
			over(fmt.Sprintf("its files take %s, and the runner's disk has %s left", quantity.Bytes(used),
				quantity.Bytes(space.Free)))
			return
		}
	}
}

func (u *Uses) space(dir string) (disk.Space, error) {
	if u.Space != nil {
		return u.Space(dir)
	}
	return disk.Of(dir)
}

// of notes what a workspace takes, and tells whether no other takes more.
func (u *Uses) of(w *Workspace, bytes int64) (most bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.bytes == nil {
		u.bytes = map[*Workspace]int64{}
	}
	u.bytes[w] = bytes
	for _, other := range u.bytes {
		if other > bytes {
			return false
		}
	}
	return true
}

func (u *Uses) forget(w *Workspace) {
	u.mu.Lock()
	defer u.mu.Unlock()
	delete(u.bytes, w)
}

// count tells what its files take in bytes, as long as ctx lasts.
func (w *Workspace) count(ctx context.Context) (total int64) {
	_ = filepath.WalkDir(w.folder, func(at string, d fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return fs.SkipAll
		}
		if d != nil && d.IsDir() && w.Below.laid.Load() && at == w.Source() {
			return fs.SkipDir // what is the job's own of it is counted where it is
		}
		if d != nil && d.IsDir() && d.Name() == seen && filepath.Dir(filepath.Dir(at)) == w.folder {
			return fs.SkipDir // so is what a step makes in a view
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
