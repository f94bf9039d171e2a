package service

import (
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/hook"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/intake"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// repository is a folder with a repository that is a project called app.
type repository struct {
	t   *testing.T
	dir string
}

func (r repository) git(args ...string) string {
	r.t.Helper()
	return r.gitWith(nil, args...)
}

func (r repository) gitWith(in io.Reader, args ...string) string {
	r.t.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir, cmd.Stdin = r.dir, in
	cmd.Env = source.Environment(map[string]string{"user.name": "Ada", "user.email": "a@b.example"})
	out, err := cmd.CombinedOutput()
	require.NoError(r.t, err, "%s", out)
	return strings.TrimSpace(string(out))
}

func (r repository) commit(files map[string]string) string {
	r.t.Helper()
	for name, text := range files {
		path := filepath.Join(r.dir, name)
		require.NoError(r.t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(r.t, os.WriteFile(path, []byte(text), 0o644))
	}
	r.git("add", "-A")
	r.git("commit", "-q", "--allow-empty", "-m", "Change")
	return r.git("rev-parse", "HEAD")
}

func openWithRepository(t *testing.T) (*Service, repository) {
	s, r, _ := openWithRepositoryOn(t)
	return s, r
}

// openWithRepositoryOn tells also where the records are.
func openWithRepositoryOn(t *testing.T) (*Service, repository, string) {
	s, dsn := openOn(t)
	return s, addRepository(t, s), dsn
}

// addRepository makes a repository, and a project of it that is called app.
func addRepository(t *testing.T, s *Service) repository {
	t.Helper()
	r := repository{t, t.TempDir()}
	r.git("init", "-q", "-b", "main")
	r.commit(map[string]string{"README": "x"})
	_, err := s.Projects.AddProject(asItself(t), api.NewProject{Name: "app", Remote: r.dir})
	require.NoError(t, err)
	return r
}

func (s *Service) takeIn(t *testing.T, delivery string, updates ...plan.RefUpdate) {
	t.Helper()
	p, err := s.Store.ProjectByName(asItself(t), "app")
	require.NoError(t, err)
	body, err := json.Marshal(intake.Spooled{Push: &api.PushData{Updates: updates}})
	require.NoError(t, err)
	id, again, err := s.Store.AddPush(asItself(t), p.ID, delivery, body)
	require.NoError(t, err)
	require.False(t, again)
	s.planEvent(t, asItself(t), id)
	s.planned(t, id)
}

// planned waits until a push is planned or set aside: what a moment kept from being planned, upkeep plans later.
func (s *Service) planned(t *testing.T, id record.PushID) {
	t.Helper()
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		p, err := s.Store.PushByID(asItself(t), id)
		require.NoError(c, err)
		require.True(c, p.Planned != nil || p.SetAside != nil, "push %d, begun %d times: %s", id, p.Begun, p.Note)
	}, time.Minute, 10*time.Millisecond)
}

func runsOf(t *testing.T, s *Service) []api.Run {
	t.Helper()
	page, err := s.Report.Runs(asItself(t), "app", store.RunFilter{Limit: 100})
	require.NoError(t, err)
	return page.Runs
}

const onMain = "[version]\nfile = \"VERSION\"\n[trigger.push]\nbranches = [\"main\"]\n[[job.a.step]]\nscript = \"true\"\n"

func TestPlanningReadsTheFilesOfThatCommit(t *testing.T) {
	s, r := openWithRepository(t)
	old := r.commit(map[string]string{"piston/trunk.toml": onMain, "VERSION": "v1.2.3\n", "piston/app.toml": "[app.a]\n", "piston/deep/other.toml": "junk"})
	newer := r.commit(map[string]string{"piston/trunk.toml": strings.Replace(onMain, "main", "other", 1)})
	s.takeIn(t, "d1", plan.RefUpdate{Ref: "refs/heads/main", Before: plan.NoCommit, After: old})
	s.takeIn(t, "d2", plan.RefUpdate{Ref: "refs/heads/main", Before: old, After: newer})
	runs := runsOf(t, s)
	require.Len(t, runs, 1, "the newer commit's file does not match main")
	assert.Equal(t, old, runs[0].Commit)
	assert.Equal(t, "1.2.3", runs[0].VersionName)
	assert.EqualValues(t, 1, runs[0].BuildNumber)
	assert.Equal(t, "Ada", runs[0].Author)
}

func TestAVersionThatCannotBeReadIsSaidAtOnce(t *testing.T) {
	s, r := openWithRepository(t)
	for name, files := range map[string]map[string]string{"d1": {"piston/trunk.toml": onMain}, "d2": {"VERSION": "soon\n"}} {
		s.takeIn(t, name, plan.RefUpdate{Ref: "refs/heads/main", Before: plan.NoCommit, After: r.commit(files)})
	}
	for _, run := range runsOf(t, s) {
		assert.Equal(t, state.Failed, run.State)
		d, err := s.Report.Run(asItself(t), "app", run.Number)
		require.NoError(t, err)
		found := false
		for _, f := range d.Findings {
			found = found || (f.Code == "bad-version-file" || f.Code == "no-file") && f.Fix != ""
		}
		assert.True(t, found, "%v", d.Findings)
	}
}

func TestAPushThatIsGoneOrCannotBeReadHurtsNobody(t *testing.T) {
	s, r := openWithRepository(t)
	gone := strings.Repeat("d", 40)
	here := r.commit(map[string]string{"piston/trunk.toml": onMain, "VERSION": "1.0"})
	s.takeIn(t, "d1", plan.RefUpdate{Ref: "refs/heads/main", Before: plan.NoCommit, After: gone},
		plan.RefUpdate{Ref: "refs/heads/main", Before: gone, After: here}, plan.RefUpdate{Ref: "refs/heads/old", Before: here, After: plan.NoCommit})
	require.Len(t, runsOf(t, s), 1, "the commit that is there is built all the same")

	// While the repository is away the push waits; when it is back it is planned.
	require.NoError(t, os.Rename(r.dir, r.dir+".away"))
	id := s.record(t, "d2", here)
	s.planEvent(t, asItself(t), id)
	require.Len(t, runsOf(t, s), 1)
	require.NoError(t, os.Rename(r.dir+".away", r.dir))
	s.planned(t, id) // after a pause it is tried again
	s.planEvent(t, asItself(t), id)
	assert.Len(t, runsOf(t, s), 2, "planned once, however often it is tried")
}

func TestPushesLaidBesideTheRepositoryAreTakenIn(t *testing.T) {
	s, r := openWithRepository(t)
	here := r.commit(map[string]string{"piston/trunk.toml": onMain, "VERSION": "1.0"})
	dir := filepath.Join(r.dir, ".git", "piston-missed")
	require.NoError(t, os.MkdirAll(dir, 0o700))
	m := hook.Missed{Delivery: "push_1", Event: api.PushEvent{Type: "push", Data: api.PushData{Updates: []plan.RefUpdate{{Ref: "refs/heads/main", Before: plan.NoCommit, After: here}}}}}
	text, err := json.Marshal(m)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "1.json"), text, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "2.json"), []byte("half a f"), 0o600))
	require.Eventually(t, func() bool { return len(runsOf(t, s)) == 1 }, 15*time.Second, 50*time.Millisecond)
	_, err = os.Stat(filepath.Join(dir, "1.json"))
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestStartingByHand(t *testing.T) {
	s, r := openWithRepository(t)
	here := r.commit(map[string]string{"piston/trunk.toml": onMain, "VERSION": "1.0"})
	r.git("tag", "-a", "-m", "t", "v1")
	for ref, want := range map[string]plan.Event{"main": {Branch: "main"}, "v1": {Tag: "v1"}, here: {}} {
		run, err := s.Intake.StartRun(asItself(t), "app", "ada", api.StartRun{Pipeline: "trunk", Ref: ref})
		require.NoError(t, err, ref)
		assert.Equal(t, want.Branch+want.Tag, run.Branch+run.Tag)
		assert.Equal(t, here, run.Commit)
		assert.Equal(t, "ada", run.StartedBy)
	}
	for _, bad := range []api.StartRun{{Pipeline: "trunk", Ref: "gone"}, {Pipeline: "other", Ref: "main"}, {Pipeline: "trunk", Ref: "--help"}, {Pipeline: "trunk", Ref: "main^{tree}"}, {Pipeline: "trunk", Ref: "a\nb"}} {
		_, err := s.Intake.StartRun(asItself(t), "app", "ada", bad)
		assert.ErrorIs(t, err, ground.ErrNotFound, "%+v", bad)
	}
}

// A bare repository is made under the machine's default, and what is pushed to it has another name.
func TestAHeadThatNamesNoBranch(t *testing.T) {
	s, r := openWithRepository(t)
	here := r.commit(map[string]string{"piston/trunk.toml": onMain, "VERSION": "1.0"})
	head := r.git("symbolic-ref", "HEAD")
	r.git("symbolic-ref", "HEAD", "refs/heads/master")
	run, err := s.Intake.StartRun(asItself(t), "app", "ada", api.StartRun{Pipeline: "trunk"})
	require.NoError(t, err)
	assert.Equal(t, here, run.Commit)
	r.git("branch", "-m", strings.TrimPrefix(head, "refs/heads/"), "trunk")
	run, err = s.Intake.StartRun(asItself(t), "app", "ada", api.StartRun{Pipeline: "trunk"})
	require.NoError(t, err)
	assert.Equal(t, "trunk", run.Branch, "the only one there is")
	r.git("branch", "other", here)
	_, err = s.Intake.StartRun(asItself(t), "app", "ada", api.StartRun{Pipeline: "trunk"})
	assert.ErrorIs(t, err, ground.ErrNotFound)
	assert.ErrorContains(t, err, "git symbolic-ref HEAD")
}
