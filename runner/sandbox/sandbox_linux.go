package sandbox

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"gentlepiston.example/piston/runner/process"
)

// checkIsolation refuses to start where steps could not be kept apart as asked.
func checkIsolation(i Isolation) error {
	switch i {
	case None:
		return nil
	case Bubblewrap:
	default:
		return fmt.Errorf("isolation %q: use bubblewrap or none", i)
	}
	if _, err := exec.LookPath("bwrap"); err != nil {
		return errors.New("bubblewrap is not installed: install Debian's package bubblewrap, or, if every repository this " +
			"runner builds is trusted with the whole machine, start it with --isolation none")
	}
	out, err := exec.Command("bwrap", "--unshare-user", "--unshare-pid", "--ro-bind", "/", "/", "true").CombinedOutput()
	if err != nil {
		return fmt.Errorf("bubblewrap cannot make a sandbox here (%w: %s): are user namespaces allowed? "+
			"If every repository this runner builds is trusted with the whole machine, start it with --isolation none", err,
			strings.TrimSpace(string(out)))
	}
	return nil
}

// checkAccount refuses to start where the users of slots could make no sandbox.
func checkAccount(i Isolation, a *process.Account) error {
	if i != Bubblewrap || a == nil {
		return nil
	}
	cmd := exec.Command("bwrap", "--unshare-user", "--unshare-pid", "--ro-bind", "/usr", "/usr", "--ro-bind", "/lib64",
		"/lib64", "--ro-bind", "/lib", "/lib",
		"--proc", "/proc", "/usr/bin/true")
	cmd.Dir = "/"
	a.Become(cmd)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("the users without rights that steps run as when the runner is root cannot make a sandbox here "+
			"(%w: %s): are user namespaces "+
			"allowed to everybody? Otherwise run the runner as a user of its own", err, strings.TrimSpace(string(out)))
	}
	return nil
}

// What of /proc a step may only read, and what it finds empty (OCI runtime specification, config-linux.md, Masked Paths
// and Readonly Paths): to root on the host, which a trial's steps are when root tries, they would let the host be
// changed.
var (
	readOnly = []string{"/proc/sys", "/proc/irq", "/proc/bus", "/proc/fs", "/proc/pressure"}
	covered  = []string{"/proc/acpi", "/proc/asound", "/proc/scsi", "/proc/kcore", "/proc/keys", "/proc/kmsg",
		"/proc/latency_stats", "/proc/mtrr",
		"/proc/sched_debug", "/proc/sysrq-trigger", "/proc/timer_list", "/proc/timer_stats"}
)

// coverProc are the arguments that do so with what is there on this machine.
var coverProc = sync.OnceValue(func() (args []string) {
	for _, name := range readOnly {
		if _, err := os.Stat(name); err == nil {
			args = append(args, "--ro-bind", name, name)
		}
	}
	for _, name := range covered {
		switch info, err := os.Stat(name); {
		case err != nil:
		case info.IsDir():
			args = append(args, "--tmpfs", name, "--remount-ro", name)
		default:
			args = append(args, "--ro-bind", "/dev/null", name)
		}
	}
	return args
})

// The places a step sees: the same on every machine, so that what is cached fits elsewhere.
const (
	sandboxTop     = "/build"
	sandboxScript  = "/run/piston/step"
	sandboxSecrets = "/run/piston/secrets"
)

// Inside is where a step sees a part of the job's files.
func (b *Box) Inside(part string) string {
	switch {
	case b.Isolation == None:
		return filepath.Join(b.build, part)
	case part == "tmp":
		return "/tmp"
	}
	return filepath.Join(sandboxTop, part)
}

// NeedsFolder tells whether secret files need a folder of the host.
func (m *Machine) NeedsFolder() bool { return m.Isolation == None }

// PlaceSecret puts a secret beside the workspace, as a file of the sandbox that is on no disk, or of the step's folder.
func (b *Box) PlaceSecret(s *Spec, name string, value []byte) (at string, err error) {
	if b.NeedsFolder() {
		return s.secretFolder(name, value)
	}
	s.files = append(s.files, secretFile{name, value})
	return filepath.Join(sandboxSecrets, name), nil
}

// firstExtra is the number by which a process finds the first of its further files (os/exec, Cmd.ExtraFiles).
const firstExtra = 3

// command makes the process of a step. What the step gets, its environment among it, travels to bubblewrap in a file
// without a name: arguments everyone on the machine could read, and an environment would be bubblewrap's own, which
// runs outside the sandbox and must not load what a step names.
func (b *Box) command(s *Spec) (*exec.Cmd, error) {
	if b.Isolation == None {
		command, err := s.command()
		if err != nil {
			return nil, err
		}
		argv := b.entering(command)
		cmd := exec.Command(argv[0], argv[1:]...)
		cmd.Dir, cmd.Env = filepath.Join(s.source(b.build), s.Dir), environ(s.Env)
		process.OwnGroup(cmd)
		return cmd, nil
	}
	args, err := b.fixedArgs()
	if err != nil {
		return nil, err
	}
	var extra []*os.File
	give := func(text string) (fd string, err error) { // to bubblewrap
		f, err := unnamedFile(text)
		if err != nil {
			return "", err
		}
		s.undo, extra = append(s.undo, f.Close), append(extra, f)
		return strconv.Itoa(firstExtra + len(extra) - 1), nil
	}
	args = append(args, "--clearenv")
	for k, v := range s.Env {
		args = append(args, "--setenv", k, v)
	}
	if s.View == nil && b.lent != "" { // who has files of its own sees nothing else
		args = append(args, "--ro-bind", b.lent, filepath.Join(sandboxTop, Lent))
	}
	if s.View != nil {
		for _, part := range []string{"src", "home", "tmp"} {
			args = append(args, "--bind", s.View(part), filepath.Join(sandboxTop, part))
		}
	}
	if s.Network == "none" {
		args = append(args, "--unshare-net")
	}
	if s.Network == "outside" {
		args = append(args, "--ro-bind", b.resolvFile(), "/etc/resolv.conf")
	}
	for _, f := range s.files {
		fd, err := give(string(f.text))
		if err != nil {
			return nil, err
		}
		args = append(args, "--perms", "0600", "--file", fd, filepath.Join(sandboxSecrets, f.name))
	}
	filter, err := filterCalls()
	if err != nil {
		return nil, fmt.Errorf("the filter of system calls: %w", err)
	}
	if len(filter) > 0 {
		fd, err := give(string(filter))
		if err != nil {
			return nil, err
		}
		args = append(args, "--seccomp", fd)
	}
	command := append(slices.Clone(s.Command), sandboxScript)
	if len(s.Own) > 0 {
		// By its descriptor: where the file is, a step's user may not go.
		own, err := os.Open("/proc/self/exe")
		if err != nil {
			return nil, err
		}
		s.undo, extra = append(s.undo, own.Close), append(extra, own)
		command = append([]string{fmt.Sprintf("/proc/self/fd/%d", firstExtra+len(extra)-1)}, s.Own...)
	} else {
		args = append(args, "--ro-bind", s.Script, sandboxScript)
	}
	args = append(args, "--chdir", filepath.Join(sandboxTop, "src", s.Dir))
	if s.Terminal {
		args = slices.DeleteFunc(args, func(a string) bool { return a == "--new-session" })
	}
	told, err := give(strings.Join(args, "\x00") + "\x00")
	if err != nil {
		return nil, err
	}
	argv := b.entering(append([]string{"bwrap", "--args", told, "--"}, command...))
	if s.Network == "outside" && b.network != nil {
		argv, extra = b.network.Wrap(argv, extra, firstExtra)
	}
	cmd := exec.Command(argv[0], argv[1:]...)
	cmd.Dir, cmd.Env, cmd.ExtraFiles = "/", []string{"PATH=" + os.Getenv("PATH")}, extra
	process.OwnGroup(cmd)
	b.as.Become(cmd)
	return cmd, nil
}

func environ(values map[string]string) []string {
	env := make([]string, 0, len(values))
	for k, v := range values {
		env = append(env, k+"="+v)
	}
	return env
}

// unnamedFile holds a text that is nowhere on disk (memfd_create(2)), ready to be read.
func unnamedFile(text string) (*os.File, error) {
	fd, err := unix.MemfdCreate("piston", unix.MFD_CLOEXEC)
	if err != nil {
		return nil, err
	}
	f := os.NewFile(uintptr(fd), "piston")
	_, err = f.WriteString(text)
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// fixedArgs are the arguments all steps of a job share. Each mount costs a fraction of a millisecond at every step,
// so what can be one is one.
func (b *Box) fixedArgs() ([]string, error) {
	args := []string{"--unshare-user", "--unshare-pid", "--unshare-ipc", "--unshare-uts", "--unshare-cgroup-try",
		"--uid", "1000", "--gid", "1000", "--hostname", "build", "--disable-userns", "--cap-drop", "ALL", "--die-with-parent",
		"--new-session",
		"--proc", "/proc", "--dev", "/dev", "--ro-bind", "/usr", "/usr", "--ro-bind", b.etcFolder(), "/etc",
		"--bind", b.build, sandboxTop, "--symlink", filepath.Join(sandboxTop, "tmp"), "/tmp"}
	args = append(args, coverProc()...)
	for _, name := range []string{"/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/opt"} {
		info, err := os.Lstat(name)
		switch {
		case errors.Is(err, fs.ErrNotExist), name == "/opt" && isEmpty(name):
		case err == nil && info.Mode()&fs.ModeSymlink != 0:
			target, err := os.Readlink(name)
			if err != nil {
				return nil, err
			}
			args = append(args, "--symlink", target, name)
		default:
			args = append(args, "--ro-bind", name, name)
		}
	}
	return args, nil
}

func isEmpty(dir string) bool {
	entries, err := os.ReadDir(dir)
	return err == nil && len(entries) == 0
}

// StepPath keeps of the runner's PATH what a step can see.
func StepPath(i Isolation) string {
	own := os.Getenv("PATH")
	if i == None && own != "" {
		return own
	}
	keep := []string{}
	for _, dir := range append(filepath.SplitList(own), "/usr/local/bin", "/usr/bin", "/bin", "/usr/sbin", "/sbin") {
		visible := false
		for _, top := range []string{"/usr/", "/opt/", "/bin", "/sbin"} {
			visible = visible || strings.HasPrefix(dir, top)
		}
		if visible && !slices.Contains(keep, dir) {
			keep = append(keep, dir)
		}
	}
	return strings.Join(keep, ":")
}
