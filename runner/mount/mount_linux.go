package mount

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"gentlepiston.example/piston/runner/process"
)

// apartFrom names, in the environment of a process that is apart, the mount namespace it is apart from.
const apartFrom = "PISTON_APART_FROM"

const ownNamespace = "/proc/self/ns/mnt"

// Apart tells whether this process is in a mount namespace of its own.
var Apart = sync.OnceValue(func() bool {
	from := os.Getenv(apartFrom)
	own, err := os.Readlink(ownNamespace)
	return err == nil && from != "" && from != own
})

// Separate has a process be apart when it is started, if that can be had here.
func Separate(cmd *exec.Cmd) {
	own, err := os.Readlink(ownNamespace)
	if err != nil || !possible() {
		return
	}
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	flags(cmd.SysProcAttr)
	if cmd.Env == nil {
		cmd.Env = os.Environ()
	}
	cmd.Env = append(cmd.Env, apartFrom+"="+own)
}

func flags(a *syscall.SysProcAttr) {
	a.Unshareflags |= syscall.CLONE_NEWNS // and what it mounts is private (syscall.SysProcAttr)
	if os.Geteuid() != 0 {
		a.Cloneflags |= syscall.CLONE_NEWUSER
		a.UidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Geteuid(), Size: 1}}
		a.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getegid(), Size: 1}}
	}
}

// possible tells whether a process can be apart here.
var possible = sync.OnceValue(func() bool {
	cmd := exec.Command("/bin/true")
	cmd.SysProcAttr = &syscall.SysProcAttr{}
	flags(cmd.SysProcAttr)
	return cmd.Run() == nil
})

// Enter starts this program once more, apart, with the same arguments, and waits for it; ended tells that it did, and
// code how that ended. Signals go to it as well. It does nothing in a process that is apart already.
func Enter() (ended bool, code int) {
	if Apart() || !possible() {
		return false, 0
	}
	own, err := os.Executable()
	if err != nil {
		return false, 0
	}
	cmd := exec.Command(own, os.Args[1:]...)
	cmd.Args[0] = os.Args[0]
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	Separate(cmd)
	// It dies with this one, by whose thread it was started; a Ctrl-C reaches it once, by us.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	cmd.SysProcAttr.Pdeathsig, cmd.SysProcAttr.Setpgid = syscall.SIGKILL, true
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT)
	defer signal.Stop(signals)
	if err := cmd.Start(); err != nil {
		return false, 0
	}
	done := make(chan struct{})
	go func() {
		for {
			select {
			case s := <-signals:
				_ = cmd.Process.Signal(s)
			case <-done:
				return
			}
		}
	}()
	err = cmd.Wait()
	close(done)
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return true, process.ExitCode(exit)
	}
	return true, 0
}

// Overlay mounts layers at a folder, the first of them above the others, and above all of them what is in upper,
// which takes in what is changed. work is an empty folder beside it. To all of it belongs an account.
func Overlay(at string, layers []Layer, upper, work string, as *process.Account) (err error) {
	var lower []string
	for i, l := range layers {
		dir := l.Dir
		if l.Owner != as.ID() {
			dir = filepath.Join(filepath.Dir(work), fmt.Sprintf("as-%d", i))
			if err := showAs(l, dir, as.ID()); err != nil {
				return fmt.Errorf("showing %s as another user's: %w", l.Dir, err)
			}
			defer func() { _ = unix.Unmount(dir, unix.MNT_DETACH) }() // the overlay holds it
		}
		lower = append(lower, escape(dir))
	}
	options := "lowerdir=" + strings.Join(lower, ":") + ",upperdir=" + escape(upper) + ",workdir=" + escape(work) +
		",volatile,redirect_dir=nofollow,metacopy=off,index=off,xino=off"
	if !process.IsRoot() {
		options += ",userxattr"
	}
	if len(options) >= os.Getpagesize() {
		return errors.New("the paths of its layers are too long")
	}
	return unix.Mount("overlay", at, "overlay", unix.MS_NOSUID|unix.MS_NODEV, options)
}

// Hide has a layer say that nothing is at a path, whatever lies below it (Documentation/filesystems/overlayfs.rst,
// whiteouts and opaque directories).
func Hide(at string) error { return unix.Mknod(at, unix.S_IFCHR, 0) }

// showAs mounts a layer at a folder, which is made, so that its files are another user's there (mount_setattr(2),
// ID-mapped mounts).
func showAs(l Layer, at string, as int) error {
	users, err := namespaceOf(l.Owner, as)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(at, 0o700); err != nil {
		return err
	}
	tree, err := unix.OpenTree(unix.AT_FDCWD, l.Dir, unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC)
	if err != nil {
		return err
	}
	defer unix.Close(tree)
	err = unix.MountSetattr(tree, "", unix.AT_EMPTY_PATH, &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_IDMAP,
		Userns_fd: uint64(users.Fd())})
	if err != nil {
		return err
	}
	return unix.MoveMount(tree, "", unix.AT_FDCWD, at, unix.MOVE_MOUNT_F_EMPTY_PATH)
}

var (
	namespacesMu sync.Mutex
	namespaces   = map[[2]int]*os.File{}
)

// namespaceOf is a user namespace in which one user is another. Each is made once: they are as many as slots,
// squared at most.
func namespaceOf(owner, as int) (*os.File, error) {
	namespacesMu.Lock()
	defer namespacesMu.Unlock()
	if f, has := namespaces[[2]int{owner, as}]; has {
		return f, nil
	}
	cmd := exec.Command("/bin/cat")
	hold, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	ids := []syscall.SysProcIDMap{{ContainerID: owner, HostID: as, Size: 1}}
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWUSER, UidMappings: ids, GidMappings: ids}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	f, err := os.Open(fmt.Sprintf("/proc/%d/ns/user", cmd.Process.Pid))
	hold.Close()
	_ = cmd.Wait()
	if err == nil {
		namespaces[[2]int{owner, as}] = f
	}
	return f, err
}

// busyFor is how long an overlay may still be in use by what is just ending.
const busyFor = 2 * time.Second

// Unmount takes an overlay away. An error says that something in it is still in use; it is out of sight all the same.
func Unmount(at string) error {
	var err error
	for end := time.Now().Add(busyFor); ; time.Sleep(10 * time.Millisecond) {
		if err = unix.Unmount(at, unix.UMOUNT_NOFOLLOW); err == nil || err != unix.EBUSY || time.Now().After(end) {
			break
		}
	}
	if err != nil {
		err = errors.Join(err, unix.Unmount(at, unix.MNT_DETACH|unix.UMOUNT_NOFOLLOW))
	}
	return err
}
