package runner

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
	"syscall"

	"golang.org/x/sys/unix"
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
func checkAccount(i Isolation, a *account) error {
	if i != Bubblewrap || a == nil {
		return nil
	}
	cmd := exec.Command("bwrap", "--unshare-user", "--unshare-pid", "--ro-bind", "/usr", "/usr", "--ro-bind", "/lib64",
		"/lib64", "--ro-bind", "/lib", "/lib",
		"--proc", "/proc", "/usr/bin/true")
	cmd.Dir = "/"
	a.become(cmd)
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

func (j *job) inside(part string) string {
	switch {
	case j.Isolation == None:
		return filepath.Join(j.build, part)
	case part == "tmp":
		return "/tmp"
	}
	return filepath.Join(sandboxTop, part)
}

// placeOutside puts a secret beside the workspace, as a file of the sandbox that is on no disk.
func (j *job) placeOutside(s *stepSpec, name string, value []byte) (at string, err error) {
	if j.Isolation == None {
		return j.placeSecretFolder(s, name, value)
	}
	s.files = append(s.files, sandboxFile{name, value})
	return filepath.Join(sandboxSecrets, name), nil
}

// firstExtra is the number by which a process finds the first of its further files (os/exec, Cmd.ExtraFiles).
const firstExtra = 3

// command makes the process of a step. What the step gets, its environment among it, travels to bubblewrap in a file
// without a name: arguments everyone on the machine could read, and an environment would be bubblewrap's own, which
// runs outside the sandbox and must not load what a step names.
func (j *job) command(s *stepSpec) (*exec.Cmd, error) {
	if j.Isolation == None {
		argv := j.entering(append(s.interpreter(), s.script))
		cmd := exec.Command(argv[0], argv[1:]...)
		cmd.Dir, cmd.Env = filepath.Join(j.src, s.dir), environ(s.env)
		ownGroup(cmd)
		return cmd, nil
	}
	args, err := j.fixedArgs()
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
	for k, v := range s.env {
		args = append(args, "--setenv", k, v)
	}
	if s.network == "none" {
		args = append(args, "--unshare-net")
	}
	if s.network == "outside" {
		args = append(args, "--ro-bind", j.resolvFile(), "/etc/resolv.conf")
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
	args = append(args, "--ro-bind", s.script, sandboxScript, "--chdir", filepath.Join(sandboxTop, "src", s.dir))
	if s.interactive {
		args = slices.DeleteFunc(args, func(a string) bool { return a == "--new-session" })
	}
	told, err := give(strings.Join(args, "\x00") + "\x00")
	if err != nil {
		return nil, err
	}
	argv := j.entering(append(append([]string{"bwrap", "--args", told, "--"}, s.interpreter()...), sandboxScript))
	if s.network == "outside" && j.network != nil {
		argv, extra = j.network.Wrap(argv, extra, firstExtra)
	}
	cmd := exec.Command(argv[0], argv[1:]...)
	cmd.Dir, cmd.Env, cmd.ExtraFiles = "/", []string{"PATH=" + os.Getenv("PATH")}, extra
	ownGroup(cmd)
	j.account.become(cmd)
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
func (j *job) fixedArgs() ([]string, error) {
	args := []string{"--unshare-user", "--unshare-pid", "--unshare-ipc", "--unshare-uts", "--unshare-cgroup-try",
		"--uid", "1000", "--gid", "1000", "--hostname", "build", "--disable-userns", "--cap-drop", "ALL", "--die-with-parent",
		"--new-session",
		"--proc", "/proc", "--dev", "/dev", "--ro-bind", "/usr", "/usr", "--ro-bind", j.etcFolder(), "/etc",
		"--bind", j.build, sandboxTop, "--symlink", filepath.Join(sandboxTop, "tmp"), "/tmp"}
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

// stepPath keeps of the runner's PATH what a step can see.
func stepPath(i Isolation) string {
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

// askToEnd sends SIGTERM to every process of the step. Bubblewrap does not pass signals on, so they are found by
// their parents.
func askToEnd(cmd *exec.Cmd) {
	for _, pid := range descendants(cmd.Process.Pid) {
		name, _ := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
		if strings.TrimSpace(string(name)) != "bwrap" {
			_ = syscall.Kill(pid, syscall.SIGTERM)
		}
	}
}

// descendants lists the processes below one, by /proc (proc(5), stat: the fourth field is the parent).
func descendants(top int) []int {
	entries, _ := os.ReadDir("/proc")
	children := map[int][]int{}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		stat, err := os.ReadFile("/proc/" + e.Name() + "/stat")
		if err != nil {
			continue
		}
		_, rest, _ := strings.Cut(string(stat), ") ")
		fields := strings.Fields(rest)
		if len(fields) > 1 {
			if parent, err := strconv.Atoi(fields[1]); err == nil {
				children[parent] = append(children[parent], pid)
			}
		}
	}
	var all []int
	for queue := []int{top}; len(queue) > 0; queue = queue[1:] {
		all = append(all, children[queue[0]]...)
		queue = append(queue, children[queue[0]]...)
	}
	return all
}

// allocated is the space a file takes on disk: holes do not count.
func allocated(info fs.FileInfo) int64 {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return st.Blocks * 512
	}
	return info.Size()
}

// processUse is what a process and those below it have: their number, threads counted, and their resident memory
// (proc(5), stat and status; what processes share is counted for each).
func processUse(top int) (processes int, memory int64) {
	for _, pid := range append(descendants(top), top) {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			name, rest, _ := strings.Cut(line, ":")
			fields := strings.Fields(rest)
			if len(fields) == 0 {
				continue
			}
			n, _ := strconv.ParseInt(fields[0], 10, 64)
			switch name {
			case "Threads":
				processes += int(n)
			case "RssAnon", "RssShmem":
				memory += n << 10
			}
		}
	}
	return processes, memory
}
