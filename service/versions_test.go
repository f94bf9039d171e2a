package service

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/work"
)

const raisingByHand = "supersede = \"none\"\n[[job.a.step]]\nraise = { by = \"patch\" }\n"

// raising starts runs that raise, and gives their running attempts, in the order of the runs.
func raising(t *testing.T, s *Service, r repository, runs int) (attempts []record.AttemptID) {
	t.Helper()
	r.commit(map[string]string{"piston/p.toml": raisingByHand})
	for range runs {
		_, err := s.Intake.StartRun(asItself(t), "app", "ada", api.StartRun{Pipeline: "p"})
		require.NoError(t, err)
	}
	for range runs {
		w, _ := claim(t, s)
		require.NotNil(t, w)
		attempts = append(attempts, w.Attempt)
	}
	return attempts
}

// beating keeps what is at work from being taken for lost, as the beats of its runners do.
func beating(t *testing.T, s *Service) {
	ctx, stop := context.WithCancel(asItself(t))
	var done sync.WaitGroup
	t.Cleanup(func() { stop(); done.Wait() })
	done.Go(func() {
		for beat := time.NewTicker(time.Second); ; {
			select {
			case <-ctx.Done():
				return
			case <-beat.C:
				_ = s.Store.ExtendLeases(ctx, work.Lease) // what it comes to is seen in what is raised
			}
		}
	})
}

func wish(by string) api.RaiseRequest {
	return api.RaiseRequest{App: "app", By: by, Platforms: []string{"ios", "android"}, Name: "1.4.0",
		Builds: map[string]int64{"android": 12, "ios": 11}}
}

func ledgerOf(t *testing.T, s *Service) api.Ledger {
	t.Helper()
	l, err := s.Versions.Ledger(asItself(t), "app", api.LedgerFilter{Limit: 1000})
	require.NoError(t, err)
	return l
}

// TestManyRunsRaiseAtOnce has two services on one database hand versions out, while calls are cut off at random, as a
// killed service cuts them off, and made again.
func TestManyRunsRaiseAtOnce(t *testing.T) {
	first, r, dsn := openWithRepositoryOn(t)
	both := []*Service{first, openIn(t, dsn, first.Home())}
	const runs = 200
	attempts := raising(t, first, r, runs)
	beating(t, first)
	var mu sync.Mutex
	var all sync.WaitGroup
	names, numbers, cut := map[string]int{}, map[version.BuildNumber]int{}, 0
	for i, a := range attempts {
		all.Go(func() {
			for try := 0; ; try++ {
				ctx, cancel := context.WithTimeout(asItself(t), time.Duration(1+rand.IntN(60+try*200))*time.Millisecond)
				out, err := both[(i+try)%2].Versions.Raise(ctx, a, wish("patch"))
				cancel()
				mu.Lock()
				if err == nil {
					names[out.Name]++
					numbers[out.Builds["android"]]++
					assert.Equal(t, out.Builds["android"], out.Builds["ios"], "one number for both")
					mu.Unlock()
					return
				}
				cut++
				mu.Unlock()
				if errors.Is(err, ground.ErrGone) || errors.Is(err, ground.ErrInvalid) { // asking again mends nothing
					assert.NoError(t, err)
					return
				}
			}
		})
	}
	all.Wait()
	assert.Len(t, names, runs)
	assert.Len(t, numbers, runs)
	ledger := ledgerOf(t, first)
	require.Len(t, ledger.Entries, 2*runs, "one line for each platform of each run, whatever was cut off")
	for i := 2; i < len(ledger.Entries); i++ {
		newer, older := ledger.Entries[i-2], ledger.Entries[i]
		assert.Greater(t, newer.Build, older.Build, "they rise")
		x, err := version.Parse(newer.Name)
		require.NoError(t, err)
		y, err := version.Parse(older.Name)
		require.NoError(t, err)
		assert.Positive(t, x.Compare(y), "%s after %s", newer.Name, older.Name)
	}
	t.Logf("%d runs raised, %d calls were cut off", runs, cut)
}

func TestANameIsARunsWhileItWorks(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	a := raising(t, s, r, 4)
	out, err := s.Versions.Raise(ctx, a[0], api.RaiseRequest{App: "app", To: "2.0.0", Platforms: []string{"android"}})
	require.NoError(t, err)
	assert.EqualValues(t, 1, out.Builds["android"], "no package had a number before")
	again, err := s.Versions.Raise(ctx, a[0], api.RaiseRequest{App: "app", To: "3.0.0", Platforms: []string{"android"}})
	require.NoError(t, err)
	assert.Equal(t, out, again, "a run has one")
	_, err = s.Versions.Raise(ctx, a[1], api.RaiseRequest{App: "app", To: "2.0", Platforms: []string{"android"}})
	assert.ErrorIs(t, err, ground.ErrInvalid)
	assert.ErrorContains(t, err, "was given to run 1, which is building")
	_, err = s.Versions.Raise(ctx, a[1], api.RaiseRequest{App: "other", To: "2.0", Platforms: []string{"android"}})
	require.NoError(t, err, "another app's is another")

	require.NoError(t, s.Work.FinishAttempt(ctx, a[0], api.Finish{State: state.Failed, At: time.Now().UnixMilli()}))
	out, err = s.Versions.Raise(ctx, a[2], api.RaiseRequest{App: "app", To: "2.0.0", Platforms: []string{"android"}})
	require.NoError(t, err, "its run has failed: the name is free")
	assert.EqualValues(t, 3, out.Builds["android"], "its number is not, nor the other app's")
	require.NoError(t, s.Work.FinishAttempt(ctx, a[2], api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))
	_, err = s.Versions.Raise(ctx, a[3], api.RaiseRequest{App: "app", To: "2.0.0", Platforms: []string{"android"}})
	assert.ErrorContains(t, err, "which is kept")
	out, err = s.Versions.Raise(ctx, a[3], api.RaiseRequest{App: "app", By: "patch", Platforms: []string{"android"}, Name: "1.0"})
	require.NoError(t, err)
	assert.Equal(t, "2.0.1", out.Name, "it goes on from the ledger, not from an old file")
	states := []string{}
	for _, e := range ledgerOf(t, s).Entries {
		states = append(states, fmt.Sprint(e.Name, " ", e.Build, " ", e.State))
	}
	assert.Equal(t, "2.0.1 4 building, 2.0.0 3 kept, 2.0 2 building, 2.0.0 1 void", strings.Join(states, ", "))
	_, err = s.Versions.Raise(ctx, a[0], wish("patch"))
	assert.ErrorIs(t, err, ground.ErrGone, "an attempt that is over takes nothing")
}

func TestHowBuildNumbersAreAskedFor(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	a := raising(t, s, r, 6)
	require.NoError(t, s.Versions.SetFloor(ctx, "app", api.LedgerFloor{App: "app", Platform: "android", Floor: 412}))
	in := wish("build")
	in.Each = true
	out, err := s.Versions.Raise(ctx, a[0], in)
	require.NoError(t, err)
	assert.Equal(t, map[string]version.BuildNumber{"android": 413, "ios": 12}, out.Builds)
	assert.Equal(t, "1.4.0", out.Name)
	assert.Equal(t, "413", out.Env["PISTON_BUILD_NUMBER"])
	assert.Equal(t, "12", out.Env["PISTON_BUILD_NUMBER_IOS"])
	in = wish("build")
	in.Span = 3
	out, err = s.Versions.Raise(ctx, a[1], in)
	require.NoError(t, err)
	assert.EqualValues(t, 414, out.Builds["ios"])
	out, err = s.Versions.Raise(ctx, a[2], wish("build"))
	require.NoError(t, err)
	assert.EqualValues(t, 417, out.Builds["ios"], "behind the three")
	in = wish("build")
	in.Scheme, in.App = "date", "dated"
	out, err = s.Versions.Raise(ctx, a[3], in)
	require.NoError(t, err)
	assert.Greater(t, int64(out.Builds["ios"]), int64(2_026_000_000))
	out, err = s.Versions.Raise(ctx, a[4], wish("build"))
	require.NoError(t, err)
	assert.EqualValues(t, 418, out.Builds["ios"], "a date does not move what is counted")
	for _, bad := range []api.RaiseRequest{
		{App: "app", By: "huge", Platforms: []string{"ios"}}, {App: "app", Platforms: []string{"ios"}},
		{App: "app", By: "patch", Platforms: []string{"ios"}, Name: "next"},
		{App: "app", By: "tag", Platforms: []string{"ios"}},
		{App: "none", By: "patch", Platforms: []string{"ios"}},
		{App: "app", By: "build", Name: "1.0", Platforms: []string{"ios"}, Builds: map[string]int64{"ios": 2_100_000_000}},
		{App: "app", By: "build", Name: "1.0", Platforms: []string{"ios"}, Scheme: "name"},
	} {
		_, err := s.Versions.Raise(ctx, a[5], bad)
		assert.ErrorIs(t, err, ground.ErrInvalid, "%v", bad)
	}
	assert.ErrorIs(t, s.Versions.SetFloor(ctx, "app", api.LedgerFloor{App: "app", Platform: "android", Floor: 411}), ground.ErrInvalid)
	l := ledgerOf(t, s)
	require.Len(t, l.Lines, 4)
	assert.Equal(t, api.LedgerLine{App: "app", Platform: "android", Last: 418, Floor: 412, Name: "1.4.0"}, l.Lines[0])
	page, err := s.Versions.Ledger(ctx, "app", api.LedgerFilter{App: "app", Platform: "ios", State: "building", Contains: "1.4", Limit: 2})
	require.NoError(t, err)
	require.Len(t, page.Entries, 2)
	assert.NotZero(t, page.Next)
	rest, err := s.Versions.Ledger(ctx, "app", api.LedgerFilter{App: "app", Platform: "ios", Before: page.Next, Limit: 9})
	require.NoError(t, err)
	assert.Len(t, rest.Entries, 2)
	assert.Zero(t, rest.Next)
	runs := runsOf(t, s)
	assert.Equal(t, "1.4.0", runs[len(runs)-1].VersionName)
	assert.EqualValues(t, 413, runs[len(runs)-1].BuildNumber)
}

func TestARaiseThatTheDatabaseRefusesIsSaid(t *testing.T) {
	s, db := openFailing(t)
	r := addRepository(t, s)
	a := raising(t, s, r, 1)
	eachStatement(t, db, "raise", func(ctx context.Context) error {
		_, err := s.Versions.Raise(ctx, a[0], wish("patch"))
		return err
	})
	drafted(t, s, "1.4.1", "Change") // which is put off, and done beside
	eachStatement(t, db, "list what was handed out", func(ctx context.Context) error {
		_, err := s.Versions.Ledger(ctx, "app", api.LedgerFilter{Limit: 1})
		return err
	})
	at := api.ReleasePath{App: "app", Name: "1.4.1"}
	eachStatement(t, db, "show notes", func(ctx context.Context) error {
		_, err := s.Versions.Notes(ctx, "app", at)
		return err
	})
	eachStatement(t, db, "write notes", func(ctx context.Context) error {
		return s.Versions.CorrectNotes(ctx, "app", "ada", at, "da", api.NotesCorrection{Text: "Havne"})
	})
	eachStatement(t, db, "take notes back", func(ctx context.Context) error {
		return s.Versions.TakeBackNotes(ctx, "app", at, "da", 1)
	})
	eachStatement(t, db, "name a bot", func(ctx context.Context) error {
		_, err := s.Projects.SetBot(ctx, "app", api.Bot{Name: "Tide Bot"})
		return err
	})
	eachStatement(t, db, "set a floor", func(ctx context.Context) error {
		return s.Versions.SetFloor(ctx, "app", api.LedgerFloor{App: "app", Platform: "ios", Floor: 99})
	})
}

func TestOnlyAStepThatSaysSoRaisesOrLands(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	r.commit(map[string]string{"piston/p.toml": "[[job.a.step]]\nraise = { app = \"almanac\", by = \"patch\" }\n[[job.a.step]]\nland = { branch = \"main\" }\n" +
		"[job.b]\nafter = [\"a\"]\n[[job.b.step]]\nscript = \"true\"\n", "piston/app.toml": "[app.almanac]\n"})
	r.git("branch", "work/x")
	_, err := s.Intake.StartRun(ctx, "app", "ada", api.StartRun{Pipeline: "p", Ref: "work/x"})
	require.NoError(t, err)
	w, _ := claim(t, s)
	in := wish("patch")
	_, err = s.Versions.Raise(ctx, w.Attempt, in)
	assert.ErrorIs(t, err, ground.ErrForbidden, "the job raises another app")
	_, err = s.Versions.Land(ctx, w.Attempt, api.LandRequest{Step: 1})
	assert.ErrorIs(t, err, ground.ErrInvalid, "nothing was raised")
	in.App = "almanac"
	_, err = s.Versions.Raise(ctx, w.Attempt, in)
	require.NoError(t, err)
	for _, step := range []int{0, 2, 1 << 40} {
		_, err = s.Versions.Land(ctx, w.Attempt, api.LandRequest{Step: step})
		assert.ErrorIs(t, err, ground.ErrForbidden, "step %d", step)
	}
	_, err = s.Versions.Land(ctx, w.Attempt, api.LandRequest{Step: 1})
	assert.ErrorIs(t, err, ground.ErrForbidden)
	assert.ErrorContains(t, err, "a run of work/x lands on that branch only")
	require.NoError(t, s.Work.FinishAttempt(ctx, w.Attempt, api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))

	w, _ = claim(t, s)
	require.Equal(t, "b", w.Job.Name)
	_, err = s.Versions.Raise(ctx, w.Attempt, in)
	assert.ErrorIs(t, err, ground.ErrForbidden)
	require.Len(t, w.Raised, 1, "it is told what the job before has raised")
	assert.Equal(t, "1.4.1", w.Raised[0].Name)
	assert.Equal(t, "13", w.Env["PISTON_BUILD_NUMBER"])
}
