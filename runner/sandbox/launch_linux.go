package sandbox

import (
	"errors"
	"os"
	"os/exec"
	"runtime"

	"golang.org/x/sys/unix"
)

// launcher starts processes from a thread of its own that has gone where they are to be born: into control groups, into
// a network. To move a process into a group that exists takes the kernel up to tens of milliseconds; to be born there
// takes none, so that is paid once for a job and not for each step.
type launcher struct {
	births chan *birth
	ended  chan struct{}
}

// birth is a process to start.
type birth struct {
	cmd  *exec.Cmd
	done chan error
}

// newLauncher makes one whose thread has gone where enter leads.
func newLauncher(enter func() error) (*launcher, error) {
	l := &launcher{births: make(chan *birth), ended: make(chan struct{})}
	entered := make(chan error)
	go l.giveBirth(enter, entered)
	return l, <-entered
}

// giveBirth enters with a thread of its own, says so, and starts processes.
func (l *launcher) giveBirth(enter func() error, entered chan<- error) {
	runtime.LockOSThread() // and never unlocked: the thread, which is elsewhere, ends with this
	if unix.Gettid() == unix.Getpid() {
		// The main thread ends with the process only: it would stay there, and in a control group be first among those the
		// kernel may kill for want of memory. While it is held here another is taken.
		inner := make(chan error)
		go l.giveBirth(enter, inner)
		err := <-inner
		runtime.UnlockOSThread()
		entered <- err
		return
	}
	defer close(l.ended)
	err := enter()
	entered <- err
	if err != nil {
		return
	}
	for b := range l.births {
		b.done <- b.cmd.Start()
	}
}

func (l *launcher) start(cmd *exec.Cmd) error {
	b := &birth{cmd, make(chan error, 1)}
	l.births <- b
	return <-b.done
}

// close lets the thread end.
func (l *launcher) close() {
	if l != nil {
		close(l.births)
		<-l.ended
	}
}

// launchers are where a job's steps are born: with the machine's network, and with the job's own.
type launchers struct{ plain, inside *launcher }

// openLaunchers makes those that the job's groups and network need.
func (b *Box) openLaunchers() (err error) {
	grouped := b.group != nil && !b.group.v2
	if grouped {
		if b.launch.plain, err = newLauncher(b.group.enter); err != nil {
			return err
		}
	}
	if b.network != nil && os.Geteuid() == 0 {
		b.launch.inside, err = newLauncher(func() error { return errors.Join(b.group.enter(), b.network.Enter()) })
	}
	return err
}

func (b *Box) closeLaunchers() {
	b.launch.plain.close()
	b.launch.inside.close()
}

// start starts a process of the job: in its control groups, and when inside is set in its network.
func (b *Box) start(cmd *exec.Cmd, inside bool) error {
	b.group.receive(cmd)
	l := b.launch.plain
	if inside && b.launch.inside != nil {
		l = b.launch.inside
	}
	if l == nil {
		return cmd.Start()
	}
	return l.start(cmd)
}
