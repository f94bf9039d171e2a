package e2e

import (
	"encoding/xml"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// What a step tries, each on a line: it must fail to do so. "!" before a command makes the line pass when it fails.
const tries = `
test "$(id -u)" = 1000
test "$(ls / | grep -v '^opt$')" = "$(printf 'bin\nbuild\ndev\netc\nlib\nlib64\nproc\nrun\nsbin\ntmp\nusr')" || { ls /; exit 1; }
test "$(ls /run/piston)" = step
grep -q '^NoNewPrivs:.*1' /proc/self/status
grep -q '^CapEff:.*0000000000000000' /proc/self/status
grep -q '^CapBnd:.*0000000000000000' /proc/self/status
test -z "$(grep -la PISTON_TOKEN /proc/[0-9]*/environ)"
! cat /proc/1/root/etc/shadow
! ls /proc/1/root/root
! ls /proc/1/cwd/../../root
for p in /proc/[0-9]*; do tr '\0' ' ' < $p/cmdline; done | { ! grep -e '[p]iston serve' -e '[p]iston runner' -e '[s]etenv'; }
test "$(ls /dev | tr '\n' ' ')" = "console core fd full null ptmx pts random shm stderr stdin stdout tty urandom zero " || test "$(ls /dev | tr '\n' ' ')" = "core fd full null ptmx pts random shm stderr stdin stdout tty urandom zero "
! mknod disk b 8 0
! mknod kmem c 1 2
for d in /usr /usr/bin /usr/local /etc /bin /sbin /lib; do if touch $d/x || mkdir $d/y; then exit 1; fi; done
! mount -t tmpfs none /tmp
! mount --bind /build /tmp
! unshare -Ur true
! chroot / true
! su -c true
! ls /build/../build/etc
! cat /etc/shadow
test ! -e /sys
perl -e 'exit !(syscall(KEYCTL, 0, -3, 0) == -1 && $! == 1)'
perl -e 'exit !(syscall(KEYCTL, 0, -4, 1) == -1 && $! == 1)'
perl -e 'open(T, "<", "/dev/null"); $x = "x"; ioctl(T, 0x5412, $x); exit($! != 1)'
test "$(getent passwd | wc -l)" = 1
test -z "$(find /usr /etc /bin/. /lib/. /opt \( -type f -o -type d \) -writable -print 2>/dev/null | head -3)"
`

func TestWhatAStepTries(t *testing.T) {
	s := theServer(t)
	var script strings.Builder
	n := 0
	all := strings.ReplaceAll(tries, "KEYCTL", map[string]string{"amd64": "250", "arm64": "219"}[runtime.GOARCH])
	for line := range strings.Lines(strings.TrimSpace(all)) {
		n++
		fmt.Fprintf(&script, "if sh -c %s; then echo held %d; else echo BROKEN %d; fi\n", quoted(strings.TrimSpace(line)), n, n)
	}
	r := s.script(t, "tries", script.String())
	r.push()
	r.passes(1)
	log := r.logText(1, "main")
	assert.NotContains(t, log, "BROKEN", "%s", log)
	assert.Equal(t, n, strings.Count(log, "held "), "%s", log)
}

// quoted is a text as one word of a shell, inside a TOML literal that ends at three quotes.
func quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", `'"'"'`) + "'" }

func TestJobsAtTheSameTimeDoNotSeeEachOther(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "neighbours", map[string]string{"piston/trunk.toml": `
[trigger.push]
[job.one]
[[job.one.step]]
script = "echo mine-alone > /tmp/mark; echo mine-alone > $HOME/mark; echo mine-alone > mark; sh -c 'for i in 1 2 3 4 5 6 7 8; do sleep 0.25; done'"
[job.two]
[[job.two.step]]
script = '''
sleep 0.5
test ! -e /tmp/mark && test ! -e "$HOME/mark" && test ! -e mark
test -z "$(grep -rsl mine-alone / --exclude-dir=proc --exclude-dir=usr --exclude=step --exclude=trunk.toml)"    # what grep finds, not its status: that is also of files it cannot read
test -z "$(grep -la '[f]or i in 1 2 3 4' /proc/[0-9]*/cmdline)"
'''
`})
	r.push()
	d := r.passes(1)
	assert.Len(t, d.Jobs, 2)
}

func TestASecretDoesNotLeaveByAFile(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "carried", map[string]string{"piston/trunk.toml": `
[trigger.push]
[job.raw]
[[job.raw.step]]
secrets = ["KEY"]
script = "mkdir out; printf 'x%sx' \"$KEY\" > out/a.bin"
[job.raw.keep.app]
files = ["out/*"]
[job.zipped]
[[job.zipped.step]]
secrets = ["KEY"]
script = "mkdir -p in/assets out; (seq 1000; printf %s \"$KEY\" | base64) > in/assets/config; cd in; zip -qr ../out/app.apk ."
[job.zipped.keep.app]
files = ["out/*"]
[job.meant]
[[job.meant.step]]
secrets = ["KEY"]
script = "mkdir out; echo \"$KEY\" > out/a.bin"
[job.meant.keep.app]
files = ["out/*"]
may_hold = ["KEY"]
[job.named]
[[job.named.step]]
secrets = ["KEY"]
script = "mkdir out; echo x > \"out/$KEY.bin\""
[job.named.keep.app]
files = ["out/*"]
[job.cached]
[job.cached.cache.depot]
paths = ["depot"]
follows = ["lock"]
[[job.cached.step]]
secrets = ["KEY"]
script = "mkdir depot; echo \"$KEY\" > depot/config"
[job.handed]
[[job.handed.step]]
secrets = ["KEY"]
script = "mkdir out; echo \"$KEY\" > out/config"
[job.handed.hand.out]
files = ["out/*"]
[job.declared]
[[job.declared.step]]
script = "mkdir out; token=exchanged-token-77; echo $token >> $PISTON_HIDE; echo got $token; echo $token > out/a"
[job.declared.keep.app]
files = ["out/*"]
[job.bomb]
[[job.bomb.step]]
secrets = ["KEY"]
script = "mkdir out; head -c 400000000 /dev/zero | zip -q out/app.zip -"
[job.bomb.keep.app]
files = ["out/*"]
`, "lock": "1"})
	const value = "carried-value-0815+x"
	_, code := s.piston(t, value, "secret", "set", "carried", "KEY")
	require.Zero(t, code)
	r.push()
	d := r.run(1, true)
	jobs := map[string]api.Job{}
	for _, j := range d.Jobs {
		jobs[j.Name] = j
		assert.NotContains(t, j.Reason, value, j.Name)
		assert.NotContains(t, r.logText(1, j.Name), value, j.Name)
	}
	for name, says := range map[string]string{"raw": "out/a.bin: it holds the secret KEY", "zipped": "it holds the secret KEY", "named": "it holds the secret KEY",
		"handed": "it holds the secret KEY", "declared": "a value declared in PISTON_HIDE", "bomb": "only made to fill a disk"} {
		assert.Equal(t, state.Failed, jobs[name].State, name)
		assert.Contains(t, jobs[name].Reason, says, name)
	}
	assert.Equal(t, state.Passed, jobs["meant"].State, jobs["meant"].Reason)
	assert.Equal(t, state.Passed, jobs["cached"].State, "a cache is a help: it is not saved, and the job goes on")
	assert.False(t, jobs["cached"].Caches[0].Saved)
	assert.Contains(t, jobs["cached"].Caches[0].Note, "KEY")
	assert.Contains(t, r.logText(1, "declared"), "got ‹hidden›")
	require.Len(t, d.Artifacts, 1)
	assert.Equal(t, "meant", d.Artifacts[0].Job)
	assert.Contains(t, s.log.String(), "project=carried", "the runner logs jobs")
	assert.NotContains(t, s.log.String(), value, "nothing of a secret is in the log of server and runner, not even in a file's name")
}

func TestAFileOfHolesHoldsNobodyUp(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "holes", map[string]string{"lock": "1", "piston/trunk.toml": `
[trigger.push]
[job.kept]
[[job.kept.step]]
script = "mkdir out; truncate -s 900G out/huge; echo x > out/small"
[job.kept.keep.app]
files = ["out/*"]
[job.handed]
[[job.handed.step]]
script = "truncate -s 900G huge"
[job.handed.hand.app]
files = ["huge"]
[job.cached]
limits = { cache = "1MB" }
[job.cached.cache.depot]
paths = ["depot"]
follows = ["lock"]
[[job.cached.step]]
script = "mkdir depot; head -c 600000 /dev/zero > depot/a; head -c 600000 /dev/zero > depot/b"
[job.slow]
limit = "3s"
[[job.slow.step]]
script = "truncate -s 18G huge"
[job.slow.keep.app]
files = ["huge"]
`})
	r.push()
	d := r.run(1, true)
	jobs := map[string]api.Job{}
	for _, j := range d.Jobs {
		jobs[j.Name] = j
	}
	assert.Contains(t, jobs["kept"].Reason, "limit of keep is reached: out/huge has 966.37 GB (of which 0 B are more than holes)")
	assert.Contains(t, jobs["handed"].Reason, "limit of hand is reached")
	assert.Equal(t, state.Passed, jobs["cached"].State)
	assert.Contains(t, jobs["cached"].Caches[0].Note, "limit of cache is reached: depot/a")
	assert.Equal(t, state.TimedOut, jobs["slow"].State, "taking files in obeys the job's own limit: %s", jobs["slow"].Reason)
	require.Len(t, d.Artifacts, 1)
	assert.Equal(t, "out/small", d.Artifacts[0].Path)
}

func TestASecretInATestReportIsHidden(t *testing.T) {
	s := theServer(t)
	const value = "reported-value <&> 4711"
	r := s.project(t, "reported", map[string]string{"piston/trunk.toml": `
[trigger.push]
[[job.main.step]]
secrets = ["KEY"]
test_reports = ["report.xml"]
script = '''
{ printf '<testsuite name="s"><testcase name="wants '; cat escaped; printf '"><failure message="'; cat escaped; printf '">'; cat escaped; printf '</failure></testcase></testsuite>'; } > report.xml
exit 1
'''
`, "escaped": escaped(t, value)})
	_, code := s.piston(t, value, "secret", "set", "reported", "KEY")
	require.Zero(t, code)
	r.push()
	d := r.run(1, true)
	require.NotNil(t, d.Jobs[0].Tests)
	c := d.Jobs[0].Tests.Failures[0]
	assert.Equal(t, "wants ‹hidden›", c.Name)
	assert.Equal(t, "‹hidden›", c.Message)
	assert.NotContains(t, asJSON(d), "4711")
}

func escaped(t *testing.T, text string) string {
	var b strings.Builder
	require.NoError(t, xml.EscapeText(&b, []byte(text)))
	return b.String()
}

func TestLimitsEndAJobByName(t *testing.T) {
	s := serveWith(t, []string{"PISTON_RUNNER_PROCESSES=300"}, "--slots", "2")
	r := s.project(t, "taken", map[string]string{"piston/trunk.toml": `
[trigger.push]
[job.memory]
limits = { memory = "60MB" }
[[job.memory.step]]
shell = "python3"
script = """
import time
x = b'x' * 300000000
time.sleep(3)   # so that it is seen where no control group bounds it
"""
[job.processes]
limits = { processes = 40 }
[[job.processes.step]]
script = "i=0; while [ $i -lt 200 ]; do sleep 30 & i=$((i+1)); done; wait"
[job.files]
limits = { open_files = 64 }
[[job.files.step]]
shell = "python3"
script = "keep = [open('/dev/null') for _ in range(200)]"
[job.log]
limits = { log = "200kB" }
[[job.log.step]]
script = "while :; do echo more and more and more; done"
[job.disk]
limits = { disk = "20MB" }
[[job.disk.step]]
script = "i=0; while [ $i -lt 100 ]; do head -c 3000000 /dev/zero > f$i; i=$((i+1)); sleep 0.1; done"
[job.modest]
limits = { memory = "200MB", processes = 50, open_files = 200, log = "1MB", disk = "50MB" }
[[job.modest.step]]
script = "echo fine"
`})
	began := time.Now()
	r.push()
	d := r.run(1, true)
	assert.Less(t, time.Since(began), 60*time.Second)
	for _, j := range d.Jobs {
		if j.Name == "modest" {
			assert.Equal(t, state.Passed, j.State, j.Reason)
			continue
		}
		what := map[string]string{"files": "open files"}[j.Name]
		if what == "" {
			what = j.Name
		}
		assert.Equal(t, state.Failed, j.State, j.Name)
		assert.Contains(t, j.Reason, "the job's limit of "+what+" is reached", j.Name)
	}
	for _, at := range []string{"*", "*/*", "*/*/*"} {
		mine := fmt.Sprintf("/sys/fs/cgroup/%s/piston-%d-*", at, s.runnerPid(t))
		assert.Eventually(t, func() bool { left, _ := filepath.Glob(mine); return len(left) == 0 }, 5*time.Second, 50*time.Millisecond, "control groups are gone with their jobs")
	}
	out, code := s.piston(t, "", "again", "taken", "1", "--json")
	require.Zero(t, code, out)
	r.run(2, true) // the runner lives on
}

func TestAHostileRepository(t *testing.T) {
	s := theServer(t)
	mark := filepath.Join(folder(t), "mark")
	evil := "#!/bin/sh\ntouch " + mark + "\n"
	r := s.project(t, "hostile", map[string]string{"piston/trunk.toml": onPush("cat plain; git --version"), "plain": "plain text\n",
		".gitattributes": "* filter=evil diff=evil merge=evil\n", "evil.sh": evil,
		"hooks/post-checkout": evil, ".githooks/post-checkout": evil, "GIT_DIR/hooks/post-checkout": evil,
		".lfsconfig": "[lfs]\n\turl = http://127.0.0.1:1/\n", ".gitconfig": "[core]\n\tfsmonitor = ./evil.sh\n\thooksPath = hooks\n[filter \"evil\"]\n\tsmudge = ./evil.sh\n"})
	r.push()
	r.passes(1)
	assert.Contains(t, r.logText(1, "main"), "plain text")
	for n, module := range []string{
		"[submodule \"x\"]\n\tpath = x\n\turl = ext::sh -c touch% " + mark + "\n",
		"[submodule \"x\"]\n\tpath = x\n\turl = --upload-pack=touch " + mark + "\n",
		"[submodule \"x\"]\n\tpath = x\n\turl = file:///etc\n",
		"[submodule \"x\"]\n\tpath = x\n\turl = ssh://-oProxyCommand=touch%20" + mark + "/x\n",
		"[submodule \"../../.git/hooks\"]\n\tpath = x\n\turl = " + r.bare + "\n",
		"[submodule \"x\"]\n\tpath = x\n\turl = " + r.bare + "\n\tupdate = !touch " + mark + "\n",
		"[submodule \"x\"]\n\tpath = ../../../x\n\turl = " + r.bare + "\n",
	} {
		head := r.git("rev-parse", "HEAD")
		r.write(map[string]string{".gitmodules": module})
		r.git("update-index", "--add", "--cacheinfo", "160000,"+head+",x")
		r.git("add", ".gitmodules")
		r.git("commit", "-q", "-m", "Try a trick")
		r.push()
		d := r.run(record.RunNumber(n+2), true)
		if strings.Contains(module, "update =") {
			continue // git itself takes no command from there, and checks out as usual
		}
		assert.Equal(t, state.Failed, d.State, module)
	}
	assert.NoFileExists(t, mark)

	// Branches whose names look like options, or like a script.
	head := r.git("rev-parse", "HEAD~7")
	n := record.RunNumber(9)
	for _, name := range []string{"--upload-pack=touch " + mark, "-x", "$(touch " + mark + ")", "a;touch${IFS}" + mark, "'\"`touch " + mark + "`"} {
		ref := "refs/heads/" + name
		cmd := exec.Command("git", "--git-dir", r.bare, "update-ref", "--create-reflog", ref, head)
		if cmd.Run() != nil {
			continue // git takes no such name
		}
		body := api.PushEvent{Type: "push", Timestamp: time.Now().UTC()}
		body.Data.Updates = append(body.Data.Updates, plan.RefUpdate{Ref: ref, Before: plan.NoCommit, After: head})
		key, err := s.cl.HookKey(t.Context(), "hostile")
		require.NoError(t, err)
		require.Equal(t, 202, deliver(t, s, key, "name-"+fmt.Sprint(n), time.Now(), []byte(asJSON(body)), false))
		r.passes(n)
		n++
	}
	require.Greater(t, n, int64(10), "some of the names were taken")
	assert.NoFileExists(t, mark)
}

func TestATokenThatEndsInMidRun(t *testing.T) {
	s := serve(t, "--slots", "0")
	r := s.project(t, "ending", map[string]string{"piston/trunk.toml": onPush("if [ $PISTON_ATTEMPT = 1 ]; then sleep 60; fi; echo done by attempt $PISTON_ATTEMPT")})
	file := filepath.Join(s.home, "box.token")
	renew := func() {
		out, code := s.piston(t, "", "token", "add", "--runner", "box")
		require.Zero(t, code, out)
		require.NoError(t, os.WriteFile(file, []byte(out), 0o600))
	}
	renew()
	cmd := exec.Command(binary(), "runner", "--server", "http://"+s.listen, "--token-file", file, "--name", "box", "--home", filepath.Join(s.home, "box"))
	log := &syncBuffer{}
	cmd.Stdout, cmd.Stderr = log, log
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Signal(syscall.SIGTERM); _ = cmd.Wait() })
	r.push()
	r.await(1, 20*time.Second, func(d api.RunDetail) bool { return len(d.Jobs) > 0 && d.Jobs[0].Steps[0].State == state.Running })
	var id string
	out, _ := s.piston(t, "", "token", "list")
	for line := range strings.Lines(out) {
		if strings.Contains(line, "box") {
			id = strings.Fields(line)[0]
		}
	}
	out, code := s.piston(t, "", "token", "revoke", id)
	require.Zero(t, code, out)
	require.Eventually(t, func() bool { return strings.Contains(log.String(), "cannot ask for work") }, 20*time.Second, 50*time.Millisecond, "%s", log)
	renew()
	d := r.passes(1)
	assert.Equal(t, 2, d.Jobs[0].Attempt)
	assert.Contains(t, d.Jobs[0].Attempts[0].Reason, "was lost")
	assert.Contains(t, r.logText(1, "main"), "done by attempt 2")
}

func TestASubmoduleInsideIsNotAskedFor(t *testing.T) {
	s := theServer(t)
	asked := 0
	inside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { asked++ }))
	defer inside.Close()
	r := s.script(t, "reaching", "true")
	head := r.git("rev-parse", "HEAD")
	r.write(map[string]string{".gitmodules": "[submodule \"x\"]\n\tpath = x\n\turl = " + inside.URL + "/x.git\n"})
	r.git("update-index", "--add", "--cacheinfo", "160000,"+head+",x")
	r.git("add", ".gitmodules")
	r.git("commit", "-q", "-m", "Name a repository of the machine")
	r.push()
	d := r.run(1, true)
	assert.Equal(t, state.Failed, d.State)
	assert.Contains(t, d.Reason, "only https addresses are fetched")
	assert.Contains(t, d.Reason, "piston project lend")
	assert.NotContains(t, d.Reason, string(filepath.Separator)+"runner", "nor is a folder of the runner's told: %s", d.Reason)
	r.write(map[string]string{".gitmodules": "[submodule \"x\"]\n\tpath = x\n\turl = " + strings.Replace(inside.URL, "http:", "https:", 1) + "/x.git\n"})
	r.git("add", ".gitmodules")
	r.git("commit", "-q", "-m", "And by https")
	r.push()
	d = r.run(2, true)
	assert.Contains(t, d.Reason, "127.0.0.1 (127.0.0.1) is not an address that a repository may make a runner speak to")
	assert.Zero(t, asked)
}
