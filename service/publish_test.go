package service

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/outlet"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/logs"
	"gentlepiston.example/piston/service/publish"
	"gentlepiston.example/piston/store"
)

// releasedAs makes a release of the project app by a name, of a package of some text.
func releasedAs(t *testing.T, s *Service, r repository, name, text string) store.Release {
	t.Helper()
	r.commit(map[string]string{"piston/p.toml": "version.file = \"VERSION\"\n" + looks, "piston/app.toml": tide, "VERSION": name + "\n"})
	packaged(t, s, signing(t, s, "p"), text, func(p *api.PackageSeen) { p.Facts.Version = name })
	made, err := s.Releases.Make(asItself(t), lastRun(t, s), "", "ada")
	require.NoError(t, err)
	return made
}

// withOutlet makes an outlet of the project app that is a folder, and tells where that is.
func withOutlet(t *testing.T, s *Service, who context.Context, name string) string {
	t.Helper()
	_, err := s.Publish.SetOutlet(who, "app", name, api.NewOutlet{Kind: "folder"})
	require.NoError(t, err)
	return filepath.Join(s.Home(), "outlets", "app", name)
}

// stands waits until a publication is in a state.
func stands(t *testing.T, s *Service, p store.Publication, wanted publication.State) store.Publication {
	t.Helper()
	var now store.Publication
	if !assert.Eventually(t, func() bool {
		var err error
		now, err = s.Store.PublicationByID(asItself(t), p.ID)
		return err == nil && now.State == wanted && now.Wants == ""
	}, 30*time.Second, 50*time.Millisecond) {
		require.FailNow(t, "it stands elsewhere", "%s and not %s: %s %v", now.State, wanted, now.Trouble, now.Reasons.V)
	}
	return now
}

func TestAReleaseGoesToAFolder(t *testing.T) {
	s, r := openWithRepository(t)
	ada := ground.WithWho(t.Context(), keeperOf(t, s, "ada"))
	dir := withOutlet(t, s, ada, "depot")
	tried, err := s.Publish.TryOutlet(ada, "app", "depot")
	require.NoError(t, err)
	assert.Empty(t, tried.Trouble)
	first := releasedAs(t, s, r, "1.0", "the package")
	at := api.ReleasePath{App: "tide", Name: "1.0"}

	plan, err := s.Publish.Plan(ada, "app", at, api.NewPublication{Outlet: "depot", Share: 10})
	require.NoError(t, err)
	require.Len(t, plan.Missing, 1, "a folder gives to all or to nobody")
	assert.Empty(t, plan.Now.Out)
	p, err := s.Publish.Begin(ada, publish.Wish{Release: first, Outlet: "depot", Share: 10})
	require.NoError(t, err)
	refused := stands(t, s, p, publication.Refused)
	require.Len(t, refused.Reasons.V, 1)
	assert.NoDirExists(t, filepath.Join(dir, "release"), "nothing was sent")

	p, err = s.Publish.Begin(ada, publish.Wish{Release: first, Outlet: "depot", By: "ada"})
	require.NoError(t, err)
	out := stands(t, s, p, publication.Out)
	assert.Equal(t, 100, out.OutTo)
	assert.Equal(t, out.Total, out.Sent)
	text, err := os.ReadFile(filepath.Join(dir, "release/tide/1.0/tide.apk"))
	require.NoError(t, err)
	assert.Equal(t, "the package", string(text))

	// What is there now is told before anything else is sent, and yesterday's can go out again.
	second := releasedAs(t, s, r, "1.1", "new package")
	plan, err = s.Publish.Plan(ada, "app", api.ReleasePath{App: "tide", Name: "1.1"}, api.NewPublication{Outlet: "depot"})
	require.NoError(t, err)
	assert.Empty(t, plan.Missing)
	require.Len(t, plan.Now.Out, 1)
	assert.Equal(t, "1.0", plan.Now.Out[0].Name)
	next, err := s.Publish.Begin(ada, publish.Wish{Release: second, Outlet: "depot"})
	require.NoError(t, err)
	stands(t, s, next, publication.Out)
	stands(t, s, p, publication.Halted) // the new one is what people get now
	require.NoError(t, s.Publish.Halt(ada, "app", next.ID))
	stands(t, s, next, publication.Halted)
	require.NoError(t, s.Publish.Share(ada, "app", next.ID, 100))
	stands(t, s, next, publication.Out)
	require.NoError(t, s.Publish.Withdraw(ada, "app", next.ID))
	stands(t, s, next, publication.Withdrawn)
	assert.NoDirExists(t, filepath.Join(dir, "release/tide/1.1"))
	again, err := s.Publish.Begin(ada, publish.Wish{Release: first, Outlet: "depot"})
	require.NoError(t, err)
	stands(t, s, again, publication.Out)

	d, err := s.Releases.Release(ada, "app", api.ReleasePath{App: "tide", Name: "1.1"})
	require.NoError(t, err)
	var kinds []string
	for _, m := range d.Story {
		kinds = append(kinds, m.Kind)
	}
	assert.Equal(t, []string{"made", "prepared", "sending", "out", "out", "halted", "halted", "out", "out", "withdrawn"}, kinds)
	page, err := s.Publish.List(ada, "app", api.PublicationFilter{Limit: 2})
	require.NoError(t, err)
	assert.Len(t, page.Publications, 2)
	rest, err := s.Publish.List(ada, "app", api.PublicationFilter{Limit: 5, Before: page.Next})
	require.NoError(t, err)
	assert.Len(t, rest.Publications, 2)
}

func TestAPipelinePublishesAndWaitsForIt(t *testing.T) {
	s, r := openWithRepository(t)
	ada := ground.WithWho(t.Context(), keeperOf(t, s, "ada"))
	dir := withOutlet(t, s, ada, "depot")
	pipeline := func(publish string) map[string]string {
		return map[string]string{"piston/app.toml": tide, "VERSION": "1.0\n", "piston/p.toml": "version.file = \"VERSION\"\n" + looks +
			"[job.out]\nafter = [\"a\"]\n[[job.out.step]]\nrelease = {}\n[[job.out.step]]\npublish = { " + publish + " }\n"}
	}
	r.commit(pipeline("to = \"depot\", channel = \"early\""))
	packaged(t, s, signing(t, s, "p"), "the package", nil)
	d := awaited(t, s, lastRun(t, s).Number)
	require.Equal(t, state.Passed, d.State, "%s", d.Reason)
	assert.FileExists(t, filepath.Join(dir, "early/tide/1.0/tide.apk"))
	var list []string
	part, err := s.Logs.Log(ada, "app", d.Number, logs.LogRequest{Job: "out", From: 1, Limit: 50})
	require.NoError(t, err)
	for _, l := range part.Lines {
		list = append(list, l.Text)
	}
	assert.Equal(t, []string{"tide 1.0 is released", "tide 1.0 goes to depot, channel early, to 100 % of people: 11 B",
		"depot: out to 100 %"}, list)

	// One that is refused fails its step with every reason.
	require.NoError(t, s.Releases.Withdraw(ada, "app", api.ReleasePath{App: "tide", Name: "1.0"}, api.Withdrawal{Reason: "x"}))
	r.commit(pipeline("to = \"depot\", channel = \"early\", share = 20"))
	packaged(t, s, signing(t, s, "p"), "2nd package", nil)
	d = awaited(t, s, lastRun(t, s).Number)
	require.Equal(t, state.Failed, d.State)
	assert.Contains(t, d.Failure.Reason, "depot does not take it")
	assert.Contains(t, d.Failure.Reason, "everybody or to nobody")
	assert.Contains(t, d.Failure.Reason, "holds other packages of 1.0 already")
}

func TestWhatCannotBePublished(t *testing.T) {
	s, r := openWithRepository(t)
	ada := ground.WithWho(t.Context(), keeperOf(t, s, "ada"))
	withOutlet(t, s, ada, "depot")
	made := releasedAs(t, s, r, "1.0", "the package")
	at := api.ReleasePath{App: "tide", Name: "1.0"}
	_, err := s.Publish.ByHand(ada, "app", at, api.NewPublication{Outlet: "store"})
	assert.ErrorIs(t, err, ground.ErrNotFound)
	for _, channel := range []string{"../x", "a b", ".", "a/b", "\x00"} {
		_, err = s.Publish.ByHand(ada, "app", at, api.NewPublication{Outlet: "depot", Channel: channel})
		assert.ErrorIs(t, err, ground.ErrInvalid, channel)
	}
	_, err = s.Publish.ByHand(ada, "app", api.ReleasePath{App: "tide", Name: "2.0"}, api.NewPublication{Outlet: "depot"})
	assert.ErrorIs(t, err, ground.ErrNotFound)

	// Two to one channel at once: one is on its way.
	require.NoError(t, s.Tx(ada, func(q ground.Q) error {
		o, err := q.OutletByName(ada, made.ProjectID, "depot")
		require.NoError(t, err)
		return q.AddPublication(ada, &store.Publication{ReleaseID: made.ID, OutletID: o.ID, Channel: "release", Share: 100,
			State: publication.Sending, Total: 1})
	}))
	_, err = s.Publish.ByHand(ada, "app", at, api.NewPublication{Outlet: "depot"})
	assert.ErrorIs(t, err, ground.ErrExists)
	other, err := s.Publish.ByHand(ada, "app", at, api.NewPublication{Outlet: "depot", Channel: "early"})
	require.NoError(t, err, "another channel is another line")
	stands(t, s, store.Publication{ID: other.ID}, publication.Out)

	assert.ErrorIs(t, s.Publish.Share(ada, "app", other.ID, 50), ground.ErrInvalid, "a share below the last")
	assert.ErrorIs(t, s.Publish.Halt(ada, "tides", other.ID), ground.ErrNotFound, "of another project")
	addProject(t, s, "tides")
	assert.ErrorIs(t, s.Publish.Halt(ada, "tides", other.ID), ground.ErrNotFound)
	assert.ErrorIs(t, s.Publish.DropOutlet(ada, "app", "depot"), ground.ErrExists, "something went there")
	_, err = s.Publish.SetOutlet(ada, "app", "depot", api.NewOutlet{Kind: "folder", Folder: "elsewhere"})
	assert.ErrorIs(t, err, ground.ErrExists)
	withOutlet(t, s, ada, "spare")
	require.NoError(t, s.Publish.DropOutlet(ada, "app", "spare"))
	for _, bad := range []string{"../up", "/etc", "a//b", "."} {
		_, err = s.Publish.SetOutlet(ada, "app", "bad", api.NewOutlet{Kind: "folder", Folder: bad})
		assert.ErrorIs(t, err, ground.ErrInvalid, bad)
	}
	require.NoError(t, s.Releases.Withdraw(ada, "app", at, api.Withdrawal{Reason: "x"}))
	_, err = s.Publish.ByHand(ada, "app", at, api.NewPublication{Outlet: "depot", Channel: "later"})
	assert.ErrorIs(t, err, ground.ErrInvalid, "it is withdrawn")
}

// An outlet that is away is asked again, and says meanwhile why it waits.
func TestAnOutletThatIsAwayIsAskedAgain(t *testing.T) {
	s, r := openWithRepository(t)
	ada := ground.WithWho(t.Context(), keeperOf(t, s, "ada"))
	dir := withOutlet(t, s, ada, "depot")
	require.NoError(t, os.MkdirAll(filepath.Dir(dir), 0o755))
	require.NoError(t, os.WriteFile(dir, nil, 0o644)) // no folder can be there
	made := releasedAs(t, s, r, "1.0", "the package")
	p, err := s.Publish.Begin(ada, publish.Wish{Release: made, Outlet: "depot"})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		now, err := s.Store.PublicationByID(ada, p.ID)
		return err == nil && now.Trouble != ""
	}, 20*time.Second, 50*time.Millisecond)
	tried, err := s.Publish.TryOutlet(ada, "app", "depot")
	require.NoError(t, err)
	assert.NotEmpty(t, tried.Trouble)
	require.NoError(t, os.Remove(dir))
	assert.Empty(t, stands(t, s, p, publication.Out).Reasons.V)
}

func TestAnOutletIsOpenToSomeRuns(t *testing.T) {
	s, r := openWithRepository(t)
	ada := ground.WithWho(t.Context(), keeperOf(t, s, "ada"))
	_, err := s.Publish.SetOutlet(ada, "app", "depot", api.NewOutlet{Kind: "folder", Scope: access.Scope{Pipelines: []string{"release"}}})
	require.NoError(t, err)
	_, err = s.Publish.SetOutlet(ada, "app", "bad", api.NewOutlet{Kind: "folder", Scope: access.Scope{Branches: []string{"["}}})
	assert.ErrorIs(t, err, ground.ErrInvalid)
	r.commit(map[string]string{"piston/app.toml": tide, "VERSION": "1.0\n", "piston/p.toml": "version.file = \"VERSION\"\n" + looks +
		"[job.out]\nafter = [\"a\"]\n[[job.out.step]]\nrelease = {}\n[[job.out.step]]\npublish = { to = \"depot\" }\n"})
	packaged(t, s, signing(t, s, "p"), "the package", nil)
	d := awaited(t, s, lastRun(t, s).Number)
	assert.Equal(t, state.Failed, d.State)
	assert.Contains(t, d.Failure.Reason, "is for pipeline release only")
	p, err := s.Publish.ByHand(ada, "app", api.ReleasePath{App: "tide", Name: "1.0"}, api.NewPublication{Outlet: "depot"})
	require.NoError(t, err, "a keeper may in any case")
	stands(t, s, store.Publication{ID: p.ID}, publication.Out)
}

// What is stopped, or withdrawn, on its way goes nowhere; a job that is started again goes on with what is on its way.
func TestStoppingWhatIsOnItsWay(t *testing.T) {
	s, r := openWithRepository(t)
	ada := ground.WithWho(t.Context(), keeperOf(t, s, "ada"))
	dir := withOutlet(t, s, ada, "depot")
	require.NoError(t, os.MkdirAll(filepath.Dir(dir), 0o755))
	require.NoError(t, os.WriteFile(dir, nil, 0o644)) // it is away
	r.commit(map[string]string{"piston/app.toml": tide, "VERSION": "1.0\n", "piston/p.toml": "version.file = \"VERSION\"\n" + looks +
		"[job.out]\nafter = [\"a\"]\n[[job.out.step]]\nrelease = {}\n[[job.out.step]]\npublish = { to = \"depot\" }\n"})
	packaged(t, s, signing(t, s, "p"), "the package", nil)
	run := lastRun(t, s)
	way := func(wanted int) store.Publication {
		t.Helper()
		var list []store.Publication
		require.Eventually(t, func() bool {
			var err error
			list, err = s.Store.Publications(ada, run.ProjectID, store.PublicationFilter{Limit: 9})
			return err == nil && len(list) == wanted && list[0].Trouble != ""
		}, 30*time.Second, 50*time.Millisecond)
		return list[0]
	}
	first := way(1)
	require.NoError(t, s.Work.StopRun(ada, "app", run.Number, "ada"))
	d := awaited(t, s, run.Number)
	assert.Equal(t, state.Cancelled, d.State)
	now, err := s.Store.PublicationByID(ada, first.ID)
	require.NoError(t, err)
	assert.Equal(t, "withdraw", now.Wants)
	require.NoError(t, os.Remove(dir))
	stands(t, s, first, publication.Withdrawn)
	assert.NoDirExists(t, filepath.Join(dir, "release"))

	// Started again it is a new one; a second start goes on with that, and the release's end ends it.
	require.NoError(t, os.RemoveAll(dir))
	require.NoError(t, os.WriteFile(dir, nil, 0o644))
	_, err = s.Intake.Restart(ada, "app", run.Number, "ada", api.Restart{Failed: true})
	require.NoError(t, err)
	second := way(2)
	attempts, err := s.Store.Attempts(ada, run.ID)
	require.NoError(t, err)
	again := attempts[len(attempts)-1].ID
	made, err := s.Store.ReleaseByID(ada, second.ReleaseID)
	require.NoError(t, err)
	adopted, err := s.Publish.Begin(ada, publish.Wish{Release: made, Outlet: "depot", Attempt: &attempts[0].ID, Step: 1})
	require.NoError(t, err)
	assert.Equal(t, second.ID, adopted.ID)
	_, err = s.Publish.Begin(ada, publish.Wish{Release: made, Outlet: "depot", Attempt: &again, Step: 1})
	require.NoError(t, err)
	require.NoError(t, s.Releases.Withdraw(ada, "app", api.ReleasePath{App: "tide", Name: "1.0"}, api.Withdrawal{Reason: "x"}))
	require.NoError(t, os.Remove(dir))
	stands(t, s, second, publication.Withdrawn)
	d = awaited(t, s, run.Number)
	assert.Contains(t, d.Failure.Reason, "it was withdrawn on its way to depot")
}

// A server that was killed after the last byte and before it was noted has brought it all the same.
func TestWhatGotThereUnnotedIsTakenBackToo(t *testing.T) {
	s, r := openWithRepository(t)
	ada := ground.WithWho(t.Context(), keeperOf(t, s, "ada"))
	dir := withOutlet(t, s, ada, "depot")
	made := releasedAs(t, s, r, "1.0", "the package")
	parts, err := s.Store.ReleaseParts(ada, made.ID)
	require.NoError(t, err)
	p := store.Publication{ReleaseID: made.ID, Channel: "release", Share: 100, State: publication.Sending, Total: 1}
	require.NoError(t, s.Tx(ada, func(q ground.Q) error {
		o, err := q.OutletByName(ada, made.ProjectID, "depot")
		require.NoError(t, err)
		p.OutletID = o.ID
		return q.AddPublication(ada, &p)
	}))
	p, err = s.Store.PublicationByID(ada, p.ID)
	require.NoError(t, err)
	f, err := outlet.OpenFolder(dir)
	require.NoError(t, err)
	defer f.Close()
	_, err = f.Bring(ada, outlet.Offer{Key: p.Key, App: "tide", Name: "1.0", Channel: "release", Share: 100,
		Packages: []outlet.Package{{File: "tide.apk", Size: parts[0].Size, SHA256: parts[0].SHA256,
			Open: func(context.Context, int64) (io.ReadCloser, error) {
				return io.NopCloser(strings.NewReader("the package")), nil
			}}}}, func(int64) {})
	require.NoError(t, err)
	require.NoError(t, s.Publish.Withdraw(ada, "app", p.ID))
	stands(t, s, p, publication.Withdrawn)
	assert.NoDirExists(t, filepath.Join(dir, "release/tide/1.0"))
	assert.NoFileExists(t, filepath.Join(dir, "release/tide/current.json"))
}

func TestOfManyIntoAChannelAtTheSameMomentOneIsOnItsWay(t *testing.T) {
	s, r := openWithRepository(t)
	ada := ground.WithWho(t.Context(), keeperOf(t, s, "ada"))
	dir := withOutlet(t, s, ada, "depot")
	require.NoError(t, os.MkdirAll(filepath.Dir(dir), 0o755))
	require.NoError(t, os.WriteFile(dir, nil, 0o644)) // it is away, so that nothing gets there meanwhile
	made := releasedAs(t, s, r, "1.0", "the package")
	errs := make([]error, 8)
	var all sync.WaitGroup
	for i := range errs {
		all.Go(func() { _, errs[i] = s.Publish.Begin(ada, publish.Wish{Release: made, Outlet: "depot", By: "ada"}) })
	}
	all.Wait()
	begun := 0
	for _, err := range errs {
		if err == nil {
			begun++
			continue
		}
		assert.ErrorIs(t, err, ground.ErrExists)
	}
	assert.Equal(t, 1, begun)
}
