package runner

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
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
			"If every repository this runner builds is trusted with the whole machine, start it with --isolation none", err, strings.TrimSpace(string(out)))
	}
	return nil
}

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

func (j *job) insideSecrets(s *stepSpec) string {
	if j.Isolation == None {
		return s.secrets
	}
	return sandboxSecrets
}

// command makes the process of a step. Its environment travels as bubblewrap's own, not as arguments, which
// everyone on the machine could read.
func (j *job) command(s *stepSpec) (*exec.Cmd, error) {
	env := make([]string, 0, len(s.env))
	for k, v := range s.env {
		env = append(env, k+"="+v)
	}
	if j.Isolation == None {
		argv := append(s.interpreter(), s.script)
		cmd := exec.Command(argv[0], argv[1:]...)
		cmd.Dir, cmd.Env = filepath.Join(j.src, s.dir), env
		ownGroup(cmd)
		return cmd, nil
	}
	args, err := j.fixedArgs()
	if err != nil {
		return nil, err
	}
	args = append([]string(nil), args...)
	if !s.network {
		args = append(args, "--unshare-net")
	}
	if s.secrets != "" {
		args = append(args, "--ro-bind", s.secrets, sandboxSecrets)
	}
	args = append(args, "--ro-bind", s.script, sandboxScript, "--chdir", filepath.Join(sandboxTop, "src", s.dir),
		"--")
	args = append(append(args, s.interpreter()...), sandboxScript)
	if s.interactive {
		args = slices.DeleteFunc(args, func(a string) bool { return a == "--new-session" })
	}
	cmd := exec.Command("bwrap", args...)
	cmd.Dir, cmd.Env = "/", env
	ownGroup(cmd)
	return cmd, nil
}

// fixedArgs are the arguments all steps of a job share. Each mount costs a fraction of a millisecond at every step,
// so what can be one is one.
func (j *job) fixedArgs() ([]string, error) {
	args := []string{"--unshare-user", "--unshare-pid", "--unshare-ipc", "--unshare-uts", "--unshare-cgroup-try",
		"--uid", "1000", "--gid", "1000", "--hostname", "build", "--cap-drop", "ALL", "--die-with-parent", "--new-session",
		"--proc", "/proc", "--dev", "/dev", "--ro-bind", "/usr", "/usr", "--ro-bind", j.etcFolder(), "/etc",
		"--bind", j.build, sandboxTop, "--symlink", filepath.Join(sandboxTop, "tmp"), "/tmp"}
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
