package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/testreport"
	"gentlepiston.example/piston/service/ground"
)

const dealing = `[job.tests]
variants = { over = { PART = ["1", "2", "3"] } }
[[job.tests.step]]
deal = { list = "out/all", into = "out/mine" }
[[job.tests.step]]
script = "x"
test_reports = ["out/*.xml"]
`

// hands claims a run's three jobs, and gives their attempts by their part.
func hands(t *testing.T, s *Service) map[string]record.AttemptID {
	t.Helper()
	planned(t, s, dealing)
	all := map[string]record.AttemptID{}
	for range 3 {
		w, _ := claim(t, s)
		require.NotNil(t, w)
		all[w.Job.Variant["PART"]] = w.Attempt
	}
	require.Len(t, all, 3)
	return all
}

func TestTestsAreDealtByWhatTheyTook(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	items := []string{"tide › low", "tide › high", "moon › rises", "moon › sets", "new › one"}
	took := map[string]int64{"low": 900, "high": 500, "rises": 450, "sets": 50}
	first := hands(t, s)
	var all []string
	for _, part := range []string{"2", "1", "3"} {
		d, err := s.History.Deal(ctx, first[part], api.DealRequest{Items: items})
		require.NoError(t, err)
		assert.Equal(t, []int{3, 0}, []int{d.Among, d.Known})
		all = append(all, d.Items...)
		var cases []api.CaseSeen
		for _, item := range d.Items {
			suite, name, _ := strings.Cut(item, " › ")
			if suite != "new" {
				cases = append(cases, seen(testreport.Passed, suite, name, took[name]))
			}
		}
		if len(cases) > 0 {
			_, err = s.History.Ran(ctx, first[part], api.CasesRan{Step: 1, Cases: cases})
			require.NoError(t, err)
		}
		require.NoError(t, s.Work.FinishAttempt(ctx, first[part], api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))
	}
	slices.Sort(all)
	want := slices.Clone(items)
	slices.Sort(want)
	assert.Equal(t, want, all, "each is dealt once")

	second := hands(t, s)
	var loads []int64
	for part := range second {
		d, err := s.History.Deal(ctx, second[part], api.DealRequest{Items: items})
		require.NoError(t, err)
		assert.Equal(t, 4, d.Known)
		assert.EqualValues(t, 925, d.MostMs)
		loads = append(loads, d.Ms)
		again, err := s.History.Deal(ctx, second[part], api.DealRequest{Items: items})
		require.NoError(t, err)
		assert.Equal(t, d, again, "one that is tried again has the same")
	}
	slices.Sort(loads)
	// 900 alone; 500 and 50; 450 and what is new, which counts 475.
	assert.Equal(t, []int64{550, 900, 925}, loads)
}

// What would lose tests, or run them twice, is refused.
func TestWhatIsNotDealt(t *testing.T) {
	s := open(t)
	ctx := asItself(t)
	of := hands(t, s)
	_, err := s.History.Deal(ctx, of["1"], api.DealRequest{Items: []string{"a", "b"}})
	require.NoError(t, err)
	for says, in := range map[string]api.DealRequest{
		"differs":       {Items: []string{"a", "c"}},
		"twice":         {Items: []string{"a", "a"}},
		"no name":       {Items: []string{"a", ""}},
		"deals nothing": {Step: 1, Items: []string{"a"}},
		"step 10":       {Step: 9, Items: []string{"a"}},
	} {
		_, err := s.History.Deal(ctx, of["2"], in)
		require.Error(t, err, says)
		assert.Contains(t, err.Error(), says)
	}
	many := make([]string, 50_001)
	for i := range many {
		many[i] = fmt.Sprint(i)
	}
	_, err = s.History.Deal(ctx, of["2"], api.DealRequest{Items: many})
	require.ErrorIs(t, err, ground.ErrInvalid)
	_, err = s.History.Deal(ctx, of["3"], api.DealRequest{Items: []string{"b", "a"}})
	require.ErrorIs(t, err, ground.ErrInvalid, "another order is another deal")
}

// All ask in the same moment, and the records fail: what was dealt is dealt for all.
func TestADealIsMadeOnce(t *testing.T) {
	s, db := openFailing(t)
	ctx := asItself(t)
	of := hands(t, s)
	var items []string
	for i := range 1000 {
		items = append(items, fmt.Sprint("case ", i))
	}
	got := map[string][]string{}
	came := make(chan func(), 3)
	for part, attempt := range of {
		go func() {
			d, err := s.History.Deal(ctx, attempt, api.DealRequest{Items: items})
			came <- func() {
				require.NoError(t, err)
				got[part] = d.Items
			}
		}()
	}
	for range of {
		(<-came)()
	}
	all := slices.Concat(got["1"], got["2"], got["3"])
	slices.Sort(all)
	slices.Sort(items)
	assert.Equal(t, items, all)
	next := hands(t, s)
	eachStatement(t, db, "deal", func(ctx context.Context) error {
		_, err := s.History.Deal(ctx, next["1"], api.DealRequest{Items: items})
		return err
	})
}

// A try of one variant runs what that had in the run that failed: with what others had it would fail of something else.
func TestATryIsDealtWhatItsJobHad(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	text := "[trigger.push]\n" + strings.ReplaceAll(dealing, "script = \"x\"", "script = \"true\"")
	first := r.commit(map[string]string{"piston/trunk.toml": text, "a": "0"})
	s.pushed(t, "main", plan.NoCommit, first)
	ends := func(part string, attempt record.AttemptID, to state.State) {
		t.Helper()
		require.NoError(t, s.Work.FinishAttempt(ctx, attempt, api.Finish{State: to, At: time.Now().UnixMilli()}))
	}
	all := func() map[string]record.AttemptID {
		t.Helper()
		of := map[string]record.AttemptID{}
		for range 3 {
			w, _ := claim(t, s)
			require.NotNil(t, w)
			of[w.Job.Variant["PART"]] = w.Attempt
		}
		return of
	}
	for part, attempt := range all() {
		ends(part, attempt, state.Passed)
	}
	second := r.commit(map[string]string{"a": "1"})
	third := r.commit(map[string]string{"a": "2"})
	s.pushed(t, "main", first, third)
	had := map[string][]string{}
	items := []string{"a", "b", "c", "d", "e", "f"}
	for part, attempt := range all() {
		d, err := s.History.Deal(ctx, attempt, api.DealRequest{Items: items})
		require.NoError(t, err)
		had[part] = d.Items
		ends(part, attempt, map[bool]state.State{true: state.Failed, false: state.Passed}[part == "2"])
	}
	bad := runsOf(t, s)[0].Number
	_, err := s.Bisect.Begin(ctx, "app", bad, api.NewBisection{})
	require.NoError(t, err)
	w, _ := claim(t, s)
	require.NotNil(t, w)
	require.Equal(t, []string{"tests+2", second}, []string{w.Job.Name, w.Commit})
	d, err := s.History.Deal(ctx, w.Attempt, api.DealRequest{Items: append([]string{"new"}, items...)})
	require.NoError(t, err)
	assert.Equal(t, had["2"], d.Items)
	assert.Equal(t, 3, d.Among)
	gone, err := s.History.Deal(ctx, w.Attempt, api.DealRequest{Items: []string{"new", had["2"][1]}})
	require.NoError(t, err)
	assert.Equal(t, had["2"][1:2], gone.Items, "what is no longer there is left out")
}
