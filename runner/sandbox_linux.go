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
		return filepath.Join(j.dir, part)
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

// etc lists what of /etc a step may see: what programs need to run, and nothing of who lives on the machine.
var etc = []string{"alternatives", "ld.so.cache", "ld.so.conf", "ld.so.conf.d", "nsswitch.conf", "hosts", "resolv.conf",
	"localtime", "timezone", "ssl", "ca-certificates", "ca-certificates.conf", "pki", "fonts", "mime.types", "protocols", "services",
	"java-11-openjdk", "java-17-openjdk", "java-21-openjdk", "magic", "xdg"}

// command makes the process of a step. Its environment travels as bubblewrap's own, not as arguments, which
// everyone on the machine could read.
func (j *job) command(s *stepSpec) (*exec.Cmd, error) {
	env := make([]string, 0, len(s.env))
	for k, v := range s.env {
		env = append(env, k+"="+v)
	}
	if j.Isolation == None {
		cmd := exec.Command("/bin/sh", "-e", s.script)
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
		"--", "/bin/sh", "-e", sandboxScript)
	cmd := exec.Command("bwrap", args...)
	cmd.Dir, cmd.Env = "/", env
	ownGroup(cmd)
	return cmd, nil
}

// fixedArgs are the arguments all steps of a job share.
func (j *job) fixedArgs() ([]string, error) {
	args := []string{"--unshare-user", "--unshare-pid", "--unshare-ipc", "--unshare-uts", "--unshare-cgroup-try",
		"--uid", "1000", "--gid", "1000", "--hostname", "build", "--cap-drop", "ALL", "--die-with-parent", "--new-session",
		"--ro-bind", "/usr", "/usr", "--ro-bind-try", "/opt", "/opt", "--proc", "/proc", "--dev", "/dev", "--tmpfs", "/run"}
	for _, name := range []string{"/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32"} {
		info, err := os.Lstat(name)
		switch {
		case errors.Is(err, fs.ErrNotExist):
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
	for _, name := range etc {
		args = append(args, "--ro-bind-try", "/etc/"+name, "/etc/"+name)
	}
	for name, text := range map[string]string{"passwd": "build:x:1000:1000:build:/build/home:/bin/sh\n", "group": "build:x:1000:\n"} {
		file := filepath.Join(j.dir, name)
		if _, err := os.Stat(file); err != nil {
			if err := os.WriteFile(file, []byte(text), 0o444); err != nil {
				return nil, err
			}
		}
		args = append(args, "--ro-bind", file, "/etc/"+name)
	}
	return append(args, "--bind", filepath.Join(j.dir, "tmp"), "/tmp", "--bind", filepath.Join(j.dir, "home"), sandboxTop+"/home",
		"--bind", j.src, sandboxTop+"/src"), nil
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
