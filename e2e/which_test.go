package e2e

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAPushNamesItsRunsAndWatchFollowsThem(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "which", map[string]string{"piston/trunk.toml": onPush("sleep 1; test ! -e broken"), "piston/odd.toml": onPush("echo odd"),
		"piston/tags.toml": "[trigger.tag]\n[[job.a.step]]\nscript = \"true\"\n"})
	said := r.git("push", "origin", "main") // what Git shows of the hook's words
	for n, name := range map[int]string{1: "odd", 2: "trunk"} {
		assert.Contains(t, said, fmt.Sprintf("remote: piston: run %d of %s: http://%s/which/%d", n, name, s.listen, n))
	}
	watch := func(want int, args ...string) string {
		t.Helper()
		out, code := s.pistonIn(t, r.dir, "", append([]string{"watch", "which"}, args...)...)
		assert.Equal(t, want, code, out)
		return out
	}
	out := watch(0)
	assert.Contains(t, out, "run 1, odd of main")
	assert.Contains(t, out, "run 2, trunk of main")
	first := r.git("rev-parse", "HEAD")

	r.commit("Break it", map[string]string{"broken": ""})
	out, code := s.pistonIn(t, r.dir, "", "show", "which")
	assert.NotZero(t, code, "what is not pushed has no run, and no older one passes for it: %s", out)
	assert.Contains(t, out, "is it pushed?")
	r.push()
	assert.Contains(t, watch(1), "run 4, trunk of main")
	assert.Contains(t, watch(1, "HEAD"), "run 4")
	assert.Contains(t, watch(1, "main"), "run 4")
	watch(0, first)
	watch(0, first[:8])
	watch(0, "HEAD~1")
	out, code = s.pistonIn(t, r.dir, "", "log", "which")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "runs 3, 4 are of this commit; this is about run 4", "the one that failed")
	out, _ = s.pistonIn(t, filepath.Dir(r.dir), "", "show", "which", "main")
	assert.Contains(t, out, "run 4", "outside a work tree a branch is that of the service")

	r.git("tag", "nothing")
	r.git("branch", "quiet", first)
	out, code = s.pistonIn(t, r.dir, "", "pushes", "which")
	assert.Zero(t, code)
	assert.Contains(t, out, "odd run 3, trunk run 4")
	r.commit("Leave no pipeline for pushes", map[string]string{"piston/trunk.toml": "[[job.a.step]]\nscript = \"true\"\n", "piston/odd.toml": "[[job.a.step]]\nscript = \"true\"\n"})
	assert.Contains(t, r.git("push", "origin", "main"), "no pipeline starts on this push")
	out, code = s.pistonIn(t, r.dir, "", "watch", "which")
	assert.NotZero(t, code)
	assert.Contains(t, out, "no pipeline of which starts on that")
}

// One commit in twenty-seven begins with seven digits, which could be a run's number as well.
func TestACommitThatLooksLikeARunsNumberIsTheCommit(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "digits", map[string]string{"piston/trunk.toml": onPush("true")})
	short := ""
	for n := 0; short == ""; n++ {
		r.git("commit", "-q", "--amend", "-m", fmt.Sprintf("Try %d", n))
		if id := r.git("rev-parse", "HEAD")[:7]; strings.Trim(id, "0123456789") == "" {
			short = id
		}
	}
	r.push()
	for _, dir := range []string{r.dir, filepath.Dir(r.dir)} {
		out, code := s.pistonIn(t, dir, "", "watch", "digits", short)
		assert.Zero(t, code, out)
		assert.Contains(t, out, "run 1, trunk of main")
	}
	out, code := s.pistonIn(t, r.dir, "", "watch", "digits", "7654321")
	assert.NotZero(t, code)
	assert.Contains(t, out, "no run of 7654321: is it pushed?")
}

func TestGetPutsFilesOfOneNameBesideEachOther(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "variants", map[string]string{"piston/trunk.toml": `
[trigger.push]
[job.app]
variants.over = { ABI = ["arm64-v8a", "x86_64"] }
[[job.app.step]]
script = "mkdir -p out/a out/b; echo $ABI > out/app.apk; echo 1 > out/a/n; echo $ABI > out/b/n; echo x > out/only-$ABI"
[job.app.keep.app]
files = ["out/**"]
`})
	r.push()
	r.run(1, true)
	to := filepath.Join(t.TempDir(), "new", "folder")
	out, code := s.pistonIn(t, r.dir, "", "get", "variants", "--to", to)
	assert.Zero(t, code, out)
	for _, name := range []string{"app+arm64-v8a/app.apk", "app+x86_64/app.apk", "app+x86_64/out/a/n", "app+x86_64/out/b/n", "only-x86_64"} {
		assert.FileExists(t, filepath.Join(to, name))
	}
	to = t.TempDir()
	out, code = s.pistonIn(t, r.dir, "", "get", "variants", "1", "app.apk", "--job", "app+x86_64", "--to", to)
	assert.Zero(t, code, out)
	assert.FileExists(t, filepath.Join(to, "app.apk"))
}
