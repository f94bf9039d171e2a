package try

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/runner/sandbox"
	"gentlepiston.example/piston/source"
)

// tree is a checkout with a commit, and files that are not committed.
func tree(t *testing.T, committed, loose map[string]string) *source.WorkTree {
	t.Helper()
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	dir := t.TempDir()
	git := func(args ...string) {
		cmd := exec.Command("git", args...)
		cmd.Dir, cmd.Env = dir, source.Environment(map[string]string{"user.name": "Ada", "user.email": "a@b.example"})
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	write := func(files map[string]string) {
		for name, text := range files {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
			mode := os.FileMode(0o644)
			if strings.HasPrefix(text, "#!") {
				mode = 0o755
			}
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), mode))
		}
	}
	git("init", "-q", "-b", "main")
	write(committed)
	git("add", "-A")
	git("commit", "-q", "-m", "First")
	write(loose)
	w, err := source.OpenWorkTree(t.Context(), dir)
	require.NoError(t, err)
	return w
}

// said collects what is printed.
type said struct {
	mu sync.Mutex
	b  strings.Builder
}

func (s *said) print(b api.LogBatch) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, l := range b.Lines {
		fmt.Fprintf(&s.b, "%s: %s\n", b.Job, l.Text)
	}
}

func options(t *testing.T, w *source.WorkTree, text string) (Options, *said) {
	t.Helper()
	p, found := definition.Parse("piston/p.toml", []byte(text), nil)
	require.NotNil(t, p, "%v", found)
	out := &said{}
	return Options{Tree: w, Pipeline: p, Project: "app", Trigger: plan.OnPush, Isolation: DefaultIsolation(), Print: out.print,
		Secret: func(name string) (Secret, error) {
			if name == "KEY" {
				return Secret{api.TextSecret, []byte("hush-hush-value")}, nil
			}
			return Secret{}, fmt.Errorf("the secret %s is not on this machine", name)
		}}, out
}

func TestAPipelineIsTriedAsTheTreeIs(t *testing.T) {
	w := tree(t, map[string]string{"a": "committed\n", "tool": "#!/bin/sh\necho tool runs\n", ".gitignore": "ignored\n"}, map[string]string{"a": "changed\n", "new": "n\n", "ignored": "i\n"})
	o, out := options(t, w, `
version.file = "a"
[job.core]
cache.c = { paths = ["deps"], follows = ["a"] }
hand.lib = { files = ["lib"] }
[[job.core.step]]
script = "cat a new; ./tool; ls ignored 2>/dev/null || echo not there; echo $KEY; git status --short | wc -l; mkdir -p deps; date > deps/when; echo made > lib"
secrets = ["KEY"]
[job.app]
after = ["core"]
take = ["core/lib"]
[[job.app.step]]
script = "cat lib; echo $PISTON_BRANCH $PISTON_BUILD_NUMBER; echo x > out.apk"
[job.app.keep.apk]
files = ["*.apk"]
[job.go]
after = ["app"]
ask = { who = ["keeper"], question = "Go on?" }
[job.out]
after = ["go"]
[[job.out.step]]
release = {}
[job.later]
after = ["out"]
[[job.later.step]]
script = "echo behind the gate"
[job.tagged]
when = 'tag != ""'
[[job.tagged.step]]
script = "true"
`)
	o.Pipeline.Version, o.Untracked = nil, true
	d, err := Run(t.Context(), o)
	require.NoError(t, err)
	assert.Equal(t, state.Passed, d.State, out.b.String())
	text := out.b.String()
	assert.Contains(t, text, "core: changed\ncore: n\ncore: tool runs\ncore: not there\ncore: ‹hidden›\ncore: 2\n")
	assert.Contains(t, text, "app: made\napp: main 1\n")
	assert.Contains(t, text, "cache c: miss")
	states := map[string]state.State{}
	for _, j := range d.Jobs {
		states[j.Name] = j.State
	}
	assert.Equal(t, map[string]state.State{"core": state.Passed, "app": state.Passed, "tagged": state.Skipped,
		"go": state.Passed, "out": state.Passed, "later": state.Passed}, states)
	require.Len(t, d.Artifacts, 1)
	assert.Equal(t, "out.apk", d.Artifacts[0].Path)

	d, err = Run(t.Context(), o)
	require.NoError(t, err)
	assert.Equal(t, state.Passed, d.State)
	assert.True(t, d.Jobs[0].Caches[0].Hit, "the second time it is there")
}

func TestAFailureCanBeLookedIntoAndGoneOnFrom(t *testing.T) {
	w := tree(t, map[string]string{"in": "bad\n"}, nil)
	o, out := options(t, w, "[job.a]\n[[job.a.step]]\nname = \"make\"\nscript = \"echo made > made; echo first step ran\"\n[[job.a.step]]\nname = \"test\"\nscript = \"grep good in\"\n[[job.a.step]]\nscript = \"true\"\n")
	d, err := Run(t.Context(), o)
	require.NoError(t, err)
	assert.Equal(t, state.Failed, d.State)
	require.NotNil(t, d.Failure)
	assert.Equal(t, "test", d.Failure.Step)
	assert.Equal(t, state.Skipped, d.Jobs[0].Steps[2].State)
	folder, err := Folder(w.Dir)
	require.NoError(t, err)
	assert.FileExists(t, filepath.Join(folder, "jobs/a/build/src/made"), "what it left behind is there")

	require.NoError(t, os.WriteFile(filepath.Join(w.Dir, "in"), []byte("good\n"), 0o644))
	o.Job, o.From = "a", "test"
	d, err = Run(t.Context(), o)
	require.NoError(t, err)
	assert.Equal(t, state.Passed, d.State, out.b.String())
	assert.Equal(t, 1, strings.Count(out.b.String(), "first step ran"), "what came before is not run again")
	assert.Equal(t, state.Skipped, d.Jobs[0].Steps[0].State)
}

func TestWhatCannotBeTriedIsSaidBeforeAnythingRuns(t *testing.T) {
	w := tree(t, map[string]string{"a": "1"}, nil)
	one := "[[job.a.step]]\nname = \"s\"\nscript = \"echo ran\"\n"
	for name, c := range map[string]struct {
		text   string
		change func(*Options)
		says   string
	}{
		"a secret that is not here": {one + "secrets = [\"OTHER\", \"MORE\"]\n", nil, "the secret MORE is not on this machine\nthe secret OTHER"},
		"a tool this machine lacks": {"[job.a]\ntools = { git = \">=99\" }\n" + one, nil, "needs tool git >=99, and this machine has 2."},
		"an input that is missing":  {"[input.n]\nrequired = true\n" + one, nil, "a value must be given"},
		"a job that is not there":   {one, func(o *Options) { o.Job = "b" }, `no job "b"; there are: a`},
		"a step without a job":      {one, func(o *Options) { o.From = "s" }, "--job"},
		"a version that is none":    {"[version]\nfile = \"nowhere\"\n" + one, nil, "nowhere"},
	} {
		o, out := options(t, w, c.text)
		if c.change != nil {
			c.change(&o)
		}
		_, err := Run(t.Context(), o)
		assert.ErrorIs(t, err, ErrNotPossible, name)
		assert.ErrorContains(t, err, c.says, name)
		assert.Empty(t, out.b.String(), name)
	}
	o, _ := options(t, w, one+"[[job.a.step]]\nname = \"then\"\nscript = \"true\"\n")
	o.Job, o.From = "a", "then"
	d, err := Run(t.Context(), o)
	require.NoError(t, err)
	assert.Contains(t, d.Jobs[0].Reason, "no workspace of this job yet")
	o.From = "nothing"
	d, err = Run(t.Context(), o)
	require.NoError(t, err)
	assert.Contains(t, d.Jobs[0].Reason, `no step "nothing"; there are: s, then`)
}

func TestWithoutACommit(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	dir := t.TempDir()
	require.NoError(t, exec.Command("git", "init", "-q", "-b", "main", dir).Run())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("loose\n"), 0o644))
	w, err := source.OpenWorkTree(t.Context(), dir)
	require.NoError(t, err)
	o, out := options(t, w, "[[job.a.step]]\nscript = \"cat a\"\n")
	o.Isolation, o.Untracked = sandbox.None, true
	d, err := Run(t.Context(), o)
	require.NoError(t, err)
	assert.Equal(t, state.Passed, d.State, out.b.String())
	assert.Contains(t, out.b.String(), "a: loose")
}

func TestThePurseIsEncryptedAndItsOwnersAlone(t *testing.T) {
	dir := t.TempDir()
	file, identity := filepath.Join(dir, "s/p.age"), filepath.Join(dir, "identity.txt")
	p, err := OpenPurse(file, identity)
	require.NoError(t, err)
	p.Secrets["KEY"] = Secret{api.TextSecret, []byte("hush-hush-value")}
	p.Secrets["BIN"] = Secret{api.FileSecret, []byte{0, 255, 10}}
	require.NoError(t, p.Save())
	for _, f := range []string{file, identity} {
		info, err := os.Stat(f)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), f)
	}
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "hush")
	again, err := OpenPurse(file, identity)
	require.NoError(t, err)
	assert.Equal(t, p.Secrets, again.Secrets)

	other := filepath.Join(dir, "other.txt")
	made, err := OpenPurse(filepath.Join(dir, "none.age"), other)
	require.NoError(t, err)
	require.NoError(t, made.Save())
	_, err = OpenPurse(file, other)
	assert.ErrorContains(t, err, "cannot be opened with the identity")
}

func TestATagIsTriedBeforeItIsPushed(t *testing.T) {
	pipeline := "[version]\nfile = \"VERSION\"\n[trigger.tag]\nnames = [\"v*\"]\n[[job.a.step]]\nscript = 'test \"$PISTON_TAG$PISTON_BRANCH\" = v1.4.0'\n"
	o, _ := options(t, tree(t, map[string]string{"VERSION": "1.4.0\n"}, nil), pipeline)
	o.Trigger, o.Tag = plan.OnTag, "v1.4.0"
	d, err := Run(t.Context(), o)
	require.NoError(t, err)
	assert.Equal(t, state.Passed, d.State)
	o.Tag = "v1.5.0"
	_, err = Run(t.Context(), o)
	require.ErrorIs(t, err, ErrNotPossible)
	assert.ErrorContains(t, err, "VERSION says 1.4.0")
}

func TestAProposalIsRefusedWhatOneIsRefused(t *testing.T) {
	o, _ := options(t, tree(t, map[string]string{"a": ""}, nil), "[trigger.proposal]\ninto = [\"main\"]\n[[job.a.step]]\nscript = \"true\"\nsecrets = [\"KEY\"]\n")
	o.Trigger = plan.OnProposal
	_, err := Run(t.Context(), o)
	require.ErrorIs(t, err, ErrNotPossible)
	assert.ErrorContains(t, err, "secret-refused")
}
