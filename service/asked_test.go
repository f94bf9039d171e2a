package service

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
)

const askingTide = tide + "checklist.ask = { rules = [\"grown\"], who = [\"keeper\"] }\n"

// What the checklist leaves to people holds up what comes after it, and no machine.
func TestAFindingThatIsPeoplesToJudge(t *testing.T) {
	s, r := openWithRepository(t)
	ada := ground.WithWho(t.Context(), keeperOf(t, s, "ada"))
	r.commit(map[string]string{"piston/app.toml": askingTide, "VERSION": "1.0\n",
		"piston/p.toml": "version.file = \"VERSION\"\n" + looks + "[job.out]\nafter = [\"a\"]\n[[job.out.step]]\nrelease = {}\n"})
	packaged(t, s, signing(t, s, "p"), "small", nil)
	d := awaited(t, s, lastRun(t, s).Number)
	require.Equal(t, state.Passed, d.State, "nothing to compare with: %s", d.Reason)
	require.NoError(t, s.Releases.Withdraw(ada, "app", api.ReleasePath{App: "tide", Name: "1.0"}, api.Withdrawal{Reason: "x"}))

	for _, yes := range []bool{true, false} {
		packaged(t, s, signing(t, s, "p"), "one that has grown by far more than was agreed", nil)
		run := lastRun(t, s)
		d, err := s.Report.Run(ada, "app", run.Number)
		require.NoError(t, err)
		require.Equal(t, state.Waiting, d.State)
		job := d.Jobs[0]
		require.NotNil(t, job.Gate)
		assert.Contains(t, job.Gate.Question, "May this pass? tide.apk: ")
		assert.NotNil(t, job.Claimed, "its machine is free, and what it did is still told")
		assert.Nil(t, noClaim(t, s))
		_, err = s.Releases.Make(ada, run, "", "ada")
		assert.ErrorContains(t, err, "people have not said yes")
		page, err := s.Packages.Packages(ada, "app", api.PackageFilter{Run: run.Number, Limit: 1})
		require.NoError(t, err)
		assert.Equal(t, 1, page.Packages[0].Asked)
		assert.Zero(t, page.Packages[0].Failed)
		_, err = s.Gates.Answer(ada, "app", job.Gate.ID, api.GateAnswer{Yes: yes, Comment: "the new charts"})
		require.NoError(t, err)
		d = awaited(t, s, run.Number)
		if yes {
			assert.Equal(t, state.Passed, d.State, d.Reason)
			require.NoError(t, s.Releases.Withdraw(ada, "app", api.ReleasePath{App: "tide", Name: "1.0"}, api.Withdrawal{Reason: "x"}))
			// Else the next is compared with this one.
			r.commit(map[string]string{"note": "x"})
			packaged(t, s, signing(t, s, "p"), "small", nil)
			awaited(t, s, lastRun(t, s).Number)
			require.NoError(t, s.Releases.Withdraw(ada, "app", api.ReleasePath{App: "tide", Name: "1.0"}, api.Withdrawal{Reason: "x"}))
			continue
		}
		assert.Equal(t, state.Failed, d.State)
		assert.Equal(t, "ada said no: the new charts", d.Reason)
		assert.Equal(t, state.Skipped, d.Jobs[1].State)
		require.NotNil(t, d.Failure)
		assert.Equal(t, "ada said no: the new charts", d.Failure.Reason)
	}
}
