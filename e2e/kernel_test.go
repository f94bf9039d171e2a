package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// opens lists what below /proc, /sys and /dev a step may open for writing. Nothing is written. Processes come and go, so
// their entries are listed by name.
const opens = `
perl -MFcntl -MFile::Find -e '
  my %seen;
  find({no_chdir => 1, wanted => sub {
    my $f = $File::Find::name;
    return if -l $f || -d _ || -p _ || -S _;
    sysopen(my $h, $f, O_WRONLY | O_NONBLOCK | O_NOCTTY) or return;
    $f =~ s{^/proc/\d+}{/proc/N}; $f =~ s{/task/\d+}{/task/N}; $f =~ s{/(fd|map_files)/.*}{/$1/N};
    $seen{$f}++;
  }}, grep { -d } "/proc", "/sys", "/dev");
  print "OPEN $_\n" for sort keys %seen;
'
sleep 1.0625
! echo '|/tmp/evil' > /proc/sys/kernel/core_pattern
! echo h > /proc/sysrq-trigger
test -z "$(cat /proc/keys /proc/timer_list 2>/dev/null)"
`

// mayOpen are those that are the step's own: what its processes say of themselves, and devices that are nobody's.
var mayOpen = []string{"/dev/full", "/dev/null", "/dev/ptmx", "/dev/pts/ptmx", "/dev/random", "/dev/tty", "/dev/urandom", "/dev/zero", "/dev/console", "/proc/keys", "/proc/kcore",
	"/proc/kmsg", "/proc/latency_stats", "/proc/mtrr", "/proc/sched_debug", "/proc/sysrq-trigger", "/proc/timer_list", "/proc/timer_stats"} // the last are covered by /dev/null

func mayBeOpened(name string) bool {
	for _, own := range mayOpen {
		if name == own {
			return true
		}
	}
	return strings.HasPrefix(name, "/proc/N/") || strings.HasPrefix(name, "/dev/shm/")
}

func TestWhatAStepMayOpenOfTheKernel(t *testing.T) {
	s := theServer(t)
	for _, runner := range []string{"roots", "ordinary"} {
		t.Run(runner, func(t *testing.T) {
			machine := ""
			if runner == "ordinary" {
				if os.Geteuid() != 0 {
					t.Skip("the shared service's runner is an ordinary user's already")
				}
				s.ordinaryRunner(t, "ordinary")
				machine = "machine = [\"ordinary\"]\n"
			}
			r := s.project(t, "kernel-"+runner, map[string]string{"piston/trunk.toml": "[trigger.push]\n[job.main]\n" + machine + "[[job.main.step]]\nscript = '''" + opens + "'''\n"})
			r.push()
			assert.True(t, weightless(hostUser(t, "sleep\x001.0625\x00")), "a step is nobody of weight on the host")
			r.passes(1)
			log := r.logText(1, "main")
			opened := 0
			for line := range strings.Lines(log) {
				if name, is := strings.CutPrefix(strings.TrimSpace(line), "OPEN "); is {
					opened++
					assert.True(t, mayBeOpened(name), "a step may open %s for writing", name)
				}
			}
			assert.Greater(t, opened, 5, "%s", log)
		})
	}
}

// hostUser is whose process it is, to the host, that has a command line.
func hostUser(t *testing.T, command string) (uid uint32) {
	t.Helper()
	require.Eventually(t, func() bool {
		all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
		for _, file := range all {
			text, err := os.ReadFile(file)
			info, statErr := os.Stat(filepath.Dir(file))
			if err == nil && statErr == nil && string(text) == command {
				uid = info.Sys().(*syscall.Stat_t).Uid
				return true
			}
		}
		return false
	}, 20*time.Second, 10*time.Millisecond)
	return uid
}

// weightless tells that a user is none to whom anything belongs: those of slots, nobody, or whoever runs the tests, when
// that is not root.
func weightless(uid uint32) bool {
	return uid >= 1_500_000_000 || uid != 0 && os.Geteuid() != 0 || uid == nobody
}

const nobody = 65534

// ordinaryRunner starts a runner as a user without rights, which only jobs with its label come to.
func (s *server) ordinaryRunner(t *testing.T, label string) {
	t.Helper()
	home, err := os.MkdirTemp("/tmp", "piston-runner-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(home) })
	file := s.runnerToken(t, label, home)
	program := filepath.Join(home, "piston")
	text, err := os.ReadFile(binary())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(program, text, 0o755))
	for _, name := range []string{home, file, program} {
		require.NoError(t, os.Chown(name, nobody, nobody))
	}
	// The device of networks is open to everybody on usual machines; where it is not, this runner sees one that is.
	tun := filepath.Join(home, "tun")
	require.NoError(t, syscall.Mknod(tun, syscall.S_IFCHR|0o666, 10<<8|200))
	require.NoError(t, os.Chmod(tun, 0o666))
	cmd := exec.Command("unshare", "--mount", "sh", "-c", `mount --bind "$1" /dev/net/tun; shift; exec setpriv --reuid 65534 --regid 65534 --clear-groups "$@"`, "sh", tun,
		program, "runner", "--server", "http://"+s.listen, "--token-file", file, "--home", filepath.Join(home, "work"), "--name", label, "--label", label)
	cmd.Dir, cmd.Env = home, []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home}
	begin(t, cmd)
}
