package runner

import (
	"context"
	"fmt"
	"io/fs"
	"time"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/quantity"
)

// counts are how often a job's processes met its limits: were killed for want of memory, or refused to begin.
type counts struct{ killed, refused int64 }

// since says which limit was met after earlier counts; "" when none was.
func (c counts) since(before counts, l definition.Numbers) string {
	switch {
	case c.killed > before.killed:
		return fmt.Sprintf("the job's limit of memory is reached: %s", quantity.Bytes(l.Memory))
	case c.refused > before.refused:
		return fmt.Sprintf("the job's limit of processes is reached: %d at a time", l.Processes)
	}
	return ""
}

// bounded is what may still be taken of a job's files, by the sizes they say they have: a file of holes takes little of
// the disk and is as long to read as any.
type bounded struct {
	what string // the limit's name
	most int64  // bytes; 0 any
}

// less is what is left after some were taken. It never becomes no limit.
func (b bounded) less(taken int64) bounded {
	if b.most > 0 {
		b.most = max(b.most-taken, 1)
	}
	return b
}

// check refuses a file that does not fit.
func (b bounded) check(name string, info fs.FileInfo) error {
	if b.most <= 0 || info.Size() <= b.most {
		return nil
	}
	size := quantity.Bytes(info.Size())
	if on := allocated(info); on < info.Size()/2 {
		size += fmt.Sprintf(" (of which %s are more than holes)", quantity.Bytes(on))
	}
	return &unmendable{fmt.Sprintf("the job's limit of %s is reached: %s has %s, and %s are left", b.what, name, size,
		quantity.Bytes(b.most))}
}

// openGroup makes the control group of the job's steps, where there can be one.
func (j *job) openGroup() (err error) {
	if j.groups == nil || j.limits.Memory == 0 && j.limits.Processes == 0 {
		return nil
	}
	j.group, err = j.groups.make(fmt.Sprint(j.work.Attempt), j.limits.Memory, j.limits.Processes)
	if err == nil {
		err = j.group.open()
	}
	if err != nil {
		j.group.close()
		return fmt.Errorf("making the job's control group: %w", err)
	}
	return nil
}

// watchEvery is how often processes are looked at where no control group bounds them.
const watchEvery = 250 * time.Millisecond

// watchProcesses ends the job when its processes take more than they may. It returns a function that ends the watch.
func (j *job) watchProcesses(ctx context.Context) func() {
	if j.group != nil || j.limits.Memory == 0 && j.limits.Processes == 0 {
		return func() {}
	}
	return beside(ctx, func(ctx context.Context) {
		for {
			pause(ctx, watchEvery)
			if ctx.Err() != nil {
				return
			}
			top := j.at.Load()
			if top == 0 {
				continue
			}
			processes, memory := processUse(int(top))
			switch {
			case j.limits.Memory > 0 && memory > j.limits.Memory:
				j.overLimit("memory", quantity.Bytes(j.limits.Memory))
				return
			case j.limits.Processes > 0 && processes > j.limits.Processes:
				j.overLimit("processes", fmt.Sprintf("%d at a time", j.limits.Processes))
				return
			}
		}
	})
}

// enter is the script that a step's outermost process runs before it becomes the step: it lowers what one process may
// have open, and leaves no memory dumps. Its first argument is that number, then comes the step.
const enter = `[ "$1" = 0 ] || ulimit -n "$1" || exit 125
shift
ulimit -c 0
exec "$@"`

// entering is the command that enters the job's limits and becomes argv. Into the control groups it is born.
func (j *job) entering(argv []string) []string {
	return append([]string{"/bin/sh", "-c", enter, "piston-step", fmt.Sprint(j.limits.OpenFiles)}, argv...)
}
