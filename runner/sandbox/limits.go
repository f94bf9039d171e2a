package sandbox

import (
	"context"
	"fmt"
	"time"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/runner/beside"
	"gentlepiston.example/piston/runner/process"
)

// Counts are how often a job's processes met its limits: were killed for want of memory, or refused to begin.
type Counts struct{ killed, refused int64 }

// Since says which limit was met after earlier counts; "" when none was.
func (c Counts) Since(before Counts, l definition.Numbers) string {
	switch {
	case c.killed > before.killed:
		return fmt.Sprintf("the job's limit of memory is reached: %s", quantity.Bytes(l.Memory))
	case c.refused > before.refused:
		return fmt.Sprintf("the job's limit of processes is reached: %d at a time", l.Processes)
	}
	return ""
}

// Counts are how often the box's processes have met limits so far.
func (b *Box) Counts() Counts { return b.group.counts() }

// openGroup makes the control group of the steps, where there can be one.
func (b *Box) openGroup(name string) (err error) {
	if b.groups == nil || b.limits.Memory == 0 && b.limits.Processes == 0 {
		return nil
	}
	b.group, err = b.groups.make(name, b.limits.Memory, b.limits.Processes)
	if err == nil {
		err = b.group.open()
	}
	if err != nil {
		b.group.close()
		return fmt.Errorf("making the job's control group: %w", err)
	}
	return nil
}

// watchEvery is how often processes are looked at where no control group bounds them.
const watchEvery = 250 * time.Millisecond

// Watch looks at processes until ctx ends, or they take more than they may. over is told of which limit that is, and
// what it is.
func (b *Box) Watch(ctx context.Context, over func(limit, most string)) {
	if b.group != nil || b.limits.Memory == 0 && b.limits.Processes == 0 {
		return
	}
	for {
		beside.Pause(ctx, watchEvery)
		if ctx.Err() != nil {
			return
		}
		top := b.top.Load()
		if top == 0 {
			continue
		}
		processes, memory := process.Use(int(top))
		switch {
		case b.limits.Memory > 0 && memory > b.limits.Memory:
			over("memory", quantity.Bytes(b.limits.Memory))
			return
		case b.limits.Processes > 0 && processes > b.limits.Processes:
			over("processes", fmt.Sprintf("%d at a time", b.limits.Processes))
			return
		}
	}
}

// enter is the script that a step's outermost process runs before it becomes the step: it lowers how many files one
// process may have open. Its first argument is that number, then comes the step.
const enter = `ulimit -n "$1" || exit 125
shift
exec "$@"`

// entering is the command that enters the job's limits and becomes argv. Into the control groups it is born, and that
// it leaves no memory dumps it has from the runner.
func (b *Box) entering(argv []string) []string {
	if b.limits.OpenFiles == 0 {
		return argv
	}
	return append([]string{"/bin/sh", "-c", enter, "piston-step", fmt.Sprint(b.limits.OpenFiles)}, argv...)
}
