package service

import (
	"crypto/sha256"
	"encoding/hex"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

const (
	// releasesIt makes a package, and a release of it once somebody has said yes.
	releasesIt = looks + "[job.go]\nafter = [\"a\"]\nask = { who = [\"keeper\"], question = \"Publish ${PISTON_VERSION_NAME}?\" }\n" +
		"[job.out]\nafter = [\"go\"]\n[[job.out.step]]\nrelease = {}\n"
	tide = "[app.tide]\nandroid = \"net.tide\"\n"
)

// packaged lets a claimed job look into a package of some text and keep it, and pass.
func packaged(t *testing.T, s *Service, attempt record.AttemptID, text string, change func(p *api.PackageSeen)) {
	t.Helper()
	sum := sha256.Sum256([]byte(text))
	seen := seenAPK(int64(len(text)))
	seen.SHA256 = hex.EncodeToString(sum[:])
	if change != nil {
		change(&seen)
	}
	ctx := asItself(t)
	_, err := s.Packages.Judge(ctx, attempt, api.PackagesSeen{Step: 1, Packages: []api.PackageSeen{seen}})
	require.NoError(t, err)
	_, err = s.Work.KeepArtifact(ctx, attempt, "packages", "out/tide.apk", hex.EncodeToString(sum[:]), strings.NewReader(text))
	require.NoError(t, err)
	require.NoError(t, s.Work.FinishAttempt(ctx, attempt, api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))
}

// lastRun is the project app's last run.
func lastRun(t *testing.T, s *Service) store.Run {
	t.Helper()
	p, err := s.Store.ProjectByName(asItself(t), "app")
	require.NoError(t, err)
	list, err := s.Store.Runs(asItself(t), p.ID, store.RunFilter{Limit: 1})
	require.NoError(t, err)
	require.Len(t, list, 1)
	return list[0]
}

// awaited waits until a run is over, and tells how it ended.
func awaited(t *testing.T, s *Service, number record.RunNumber) api.RunDetail {
	t.Helper()
	var d api.RunDetail
	require.Eventually(t, func() bool {
		var err error
		d, err = s.Report.Run(asItself(t), "app", number)
		return err == nil && d.State.Over()
	}, 40*time.Second, 50*time.Millisecond)
	return d
}

// keeperOf is somebody who may answer in the project app.
func keeperOf(t *testing.T, s *Service, name string) ground.Who {
	t.Helper()
	w := addPerson(t, s, name)
	require.NoError(t, s.People.Grant(asItself(t), api.Grant{Person: name, Project: "app", Role: access.Keeper}))
	return w
}

func TestARunReleasesOnceSomebodyHasSaidYes(t *testing.T) {
	s, r := openWithRepository(t)
	ada := ground.WithWho(t.Context(), keeperOf(t, s, "ada"))
	r.commit(map[string]string{"piston/p.toml": "version.file = \"VERSION\"\n" + releasesIt, "piston/app.toml": tide, "VERSION": "1.0\n"})
	packaged(t, s, signing(t, s, "p"), "the package", nil)
	run := lastRun(t, s)
	d, err := s.Report.Run(ada, "app", run.Number)
	require.NoError(t, err)
	require.Equal(t, state.Waiting, d.State)
	gate := d.Jobs[1].Gate
	assert.Equal(t, "Publish 1.0?", gate.Question)
	_, err = s.Releases.ByHand(ada, "app", api.NewRelease{Run: run.Number})
	assert.ErrorIs(t, err, ground.ErrInvalid, "it has not passed")
	_, err = s.Gates.Answer(ada, "app", gate.ID, api.GateAnswer{Yes: true, Comment: "well"})
	require.NoError(t, err)

	d = awaited(t, s, run.Number)
	require.Equal(t, state.Passed, d.State, "%s", d.Reason)
	out := d.Jobs[2]
	assert.Equal(t, "the service", out.Runner)
	assert.Equal(t, state.Passed, out.Steps[0].State)
	assert.NotNil(t, out.Finished)
	assert.EqualValues(t, 1, out.LogLines)

	at := api.ReleasePath{App: "tide", Name: "1.0"}
	one, err := s.Releases.Release(ada, "app", at)
	require.NoError(t, err)
	assert.Equal(t, run.Number, one.Run)
	assert.EqualValues(t, len("the package"), one.Size)
	require.Len(t, one.Contents, 1)
	assert.Equal(t, "out/tide.apk", one.Contents[0].File)
	var kinds []string
	for _, m := range one.Story {
		kinds = append(kinds, m.Kind+" "+m.By)
	}
	assert.Equal(t, []string{"asked ", "yes ada", "made "}, kinds)

	// The same run releases it once, and another run does not.
	same, err := s.Releases.Make(asItself(t), run, "", "")
	require.NoError(t, err)
	assert.Equal(t, one.ID, same.ID)
	packaged(t, s, signing(t, s, "p"), "another", nil)
	other := lastRun(t, s)
	_, err = s.Releases.Make(asItself(t), other, "", "ada")
	assert.ErrorIs(t, err, ground.ErrExists)
	assert.ErrorContains(t, err, "is released already, of run 1")

	// What is withdrawn makes room.
	require.NoError(t, s.Releases.Withdraw(ada, "app", at, api.Withdrawal{Reason: "the chart is empty"}))
	assert.ErrorIs(t, s.Releases.Withdraw(ada, "app", at, api.Withdrawal{Reason: "again"}), ground.ErrExists)
	gone, err := s.Releases.Release(ada, "app", at)
	require.NoError(t, err)
	assert.Equal(t, "the chart is empty", gone.Reason)
	_, err = s.Releases.Make(asItself(t), other, "", "ada")
	require.NoError(t, err)
	for state, wanted := range map[string]int{"": 2, "standing": 1, "withdrawn": 1} {
		page, err := s.Releases.List(ada, "app", api.ReleaseFilter{State: state, Limit: 5})
		require.NoError(t, err)
		assert.Len(t, page.Releases, wanted, state)
	}
	page, err := s.Releases.List(ada, "app", api.ReleaseFilter{Limit: 1})
	require.NoError(t, err)
	rest, err := s.Releases.List(ada, "app", api.ReleaseFilter{Limit: 1, Before: page.Next})
	require.NoError(t, err)
	assert.Len(t, rest.Releases, 1)
	assert.Zero(t, rest.Next)
	assert.Contains(t, acts(t, s), "release.withdraw")
}

func TestWhatCannotBeReleased(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	app := map[string]string{"piston/p.toml": "version.file = \"VERSION\"\n" + looks, "piston/app.toml": tide, "VERSION": "1.0\n"}
	r.commit(app)
	for wanted, change := range map[string]func(p *api.PackageSeen){
		"says it is version \"1.1\"":    func(p *api.PackageSeen) { p.Facts.Version = "1.1" },
		"does not meet the checklist":   func(p *api.PackageSeen) { p.Facts.Signers = nil },
		"keeps no package of tide":      func(p *api.PackageSeen) { p.Facts.ID = "net.other" },
		"keeps no package of tide that": func(p *api.PackageSeen) { p.SHA256 = strings.Repeat("cd", 32) },
	} {
		packaged(t, s, signing(t, s, "p"), wanted, change)
		_, err := s.Releases.ByHand(ctx, "app", api.NewRelease{Run: lastRun(t, s).Number})
		assert.ErrorIs(t, err, ground.ErrInvalid, wanted)
		assert.ErrorContains(t, err, wanted)
	}
	_, err := s.Releases.ByHand(ctx, "app", api.NewRelease{Run: lastRun(t, s).Number, App: "ebb"})
	assert.ErrorIs(t, err, ground.ErrInvalid, "there is no such app")
	_, err = s.Releases.ByHand(ctx, "app", api.NewRelease{Run: 99})
	assert.ErrorIs(t, err, ground.ErrNotFound)
	outside := lastRun(t, s)
	outside.Outside = true
	_, err = s.Releases.Make(ctx, outside, "", "")
	assert.ErrorIs(t, err, ground.ErrInvalid)
	app["piston/p.toml"] = looks
	r.commit(app)
	packaged(t, s, signing(t, s, "p"), "no version", nil)
	_, err = s.Releases.ByHand(ctx, "app", api.NewRelease{Run: lastRun(t, s).Number})
	assert.ErrorContains(t, err, "the run has no version")
	for _, name := range []string{"1.0", "one"} {
		_, err = s.Releases.Release(ctx, "app", api.ReleasePath{App: "tide", Name: name})
		assert.Error(t, err)
	}
}

func TestAJobOfTheServiceThatFailsSaysWhy(t *testing.T) {
	s, r := openWithRepository(t)
	r.commit(map[string]string{"piston/app.toml": tide, "VERSION": "1.0\n",
		"piston/p.toml": "version.file = \"VERSION\"\n" + looks + "[job.out]\nafter = [\"a\"]\n[[job.out.step]]\nrelease = {}\n" +
			"[[job.out.step]]\nname = \"never\"\nrelease = {}\n[[job.out.step]]\nname = \"always\"\nrelease = {}\nalways = true\nadvisory = true\n"})
	attempt := signing(t, s, "p")
	require.NoError(t, s.Work.FinishAttempt(asItself(t), attempt, api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))
	d := awaited(t, s, lastRun(t, s).Number)
	assert.Equal(t, state.Failed, d.State)
	require.NotNil(t, d.Failure)
	assert.Equal(t, "out", d.Failure.Job)
	assert.Contains(t, d.Failure.Reason, "keeps no package of tide")
	assert.Contains(t, d.Failure.Lines[0].Text, "keeps no package of tide")
	steps := d.Jobs[1].Steps
	assert.Equal(t, []state.State{state.Failed, state.Skipped, state.Failed}, []state.State{steps[0].State, steps[1].State, steps[2].State})
}

func TestARunnerHasNoLabelOfTheService(t *testing.T) {
	s := open(t)
	_, err := s.Work.Claim(asItself(t), api.ClaimRequest{Protocol: api.RunnerProtocol, Runner: "r", Labels: []string{"@service"},
		Recipient: "age1ql3z7hjy54pw3hyww5ayyfg7zqgvc7w3j2elw8zmrj2kg5sfn9aqmcac8p"})
	assert.ErrorIs(t, err, ground.ErrInvalid)
	assert.ErrorContains(t, err, "the service's own")
}

// A server that is killed between two looks leaves a job that another goes on with, and a run that is stopped ends it.
func TestAJobOfTheServiceOutlivesAServer(t *testing.T) {
	s, r, dsn := openWithRepositoryOn(t)
	ctx := asItself(t)
	r.commit(map[string]string{"piston/p.toml": "[job.out]\n[[job.out.step]]\nrelease = {}\n"})
	run, err := s.Intake.StartRun(ctx, "app", "ada", api.StartRun{Pipeline: "p"})
	require.NoError(t, err)
	other := openIn(t, dsn, s.Home())
	_ = other
	d := awaited(t, s, run.Number)
	assert.Equal(t, state.Failed, d.State, "there is no version")
	assert.Len(t, d.Jobs[0].Attempts, 1, "done once, whoever does it")
}
