package intake

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

func TestEventsThatAreRefused(t *testing.T) {
	id := "0123456789abcdef0123456789abcdef01234567"
	good := api.ProposalData{Proposal: "41", Target: "main", Commit: id, Ref: "refs/outside/41"}
	require.NoError(t, checkProposal(good))
	for name, change := range map[string]func(*api.ProposalData){
		"no name":                    func(d *api.ProposalData) { d.Proposal = "" },
		"a name with a break":        func(d *api.ProposalData) { d.Proposal = "4\n1" },
		"no target":                  func(d *api.ProposalData) { d.Target = "" },
		"a target that is an option": func(d *api.ProposalData) { d.Target = "a b" },
		"a target that leaves":       func(d *api.ProposalData) { d.Target = "../x" },
		"a commit that is none":      func(d *api.ProposalData) { d.Commit = "main" },
		"a ref that is none":         func(d *api.ProposalData) { d.Ref = "--upload-pack=x" },
		"a ref with a colon":         func(d *api.ProposalData) { d.Ref = "refs/a:refs/b" },
	} {
		d := good
		change(&d)
		assert.ErrorIs(t, checkProposal(d), ground.ErrInvalid, name)
	}
	for _, ref := range []string{"refs/heads/main", "refs/heads/work/ünï", "refs/tags/v1.0"} {
		assert.True(t, refForm(ref), ref)
	}
	for _, ref := range []string{"main", "refs/heads/a..b", "refs/heads/a~1", "refs/heads/a^", "refs/heads/a?", "refs/heads/a[", "refs/heads/a\\b", "refs/heads/", "refs/heads/a\x7f"} {
		assert.False(t, refForm(ref), ref)
	}
}

func TestAdvancingASchedule(t *testing.T) {
	noon := time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC)
	d := store.Schedule{Pipeline: "p", Name: "n", Cron: "0 * * * *", Zone: "UTC", Branch: "main", Next: noon}
	next, event, err := advance(d, noon.Add(2*time.Second))
	require.NoError(t, err)
	assert.Zero(t, event.Missed, "a moment late is not missed")
	assert.Equal(t, noon, event.At)
	assert.Equal(t, noon.Add(time.Hour), next.UTC())
	next, event, err = advance(d, noon.Add(3*time.Hour+time.Minute))
	require.NoError(t, err)
	assert.Equal(t, 3, event.Missed, "the one a minute ago is in time")
	assert.Equal(t, noon.Add(3*time.Hour), event.At.UTC(), "one run, of the latest time")
	assert.Equal(t, noon.Add(4*time.Hour), next.UTC())
	d.Cron = "never"
	_, _, err = advance(d, noon)
	assert.Error(t, err)
}

func TestPushesThatAreRefused(t *testing.T) {
	id := strings.Repeat("a", 40)
	update := func(ref, before, after string) string {
		return fmt.Sprintf(`{"type":"push","data":{"updates":[{"ref":%q,"before":%q,"after":%q}]}}`, ref, before, after)
	}
	_, err := readEvent([]byte(update("refs/heads/main", id, id)))
	require.NoError(t, err)
	for _, bad := range []string{"", "[]", "{}", `{"type":"other"}`, `{"type":"push","data":{"updates":[]}}`, update("main", id, id),
		update("refs/heads/main", "short", id), update("refs/heads/main", id, strings.Repeat("Z", 40)), update("refs/"+strings.Repeat("x", 2000), id, id)} {
		_, err := readEvent([]byte(bad))
		assert.ErrorIs(t, err, ground.ErrInvalid, "%.60s", bad)
	}
}

// Around both changes of the clock, whatever the minute: a schedule's next time is to come, and nothing between what is
// made up for and that is passed over.
func TestTheNextTimeOfAScheduleIsToCome(t *testing.T) {
	for _, cron := range []string{"30 2 * * *", "0 * * * *", "*/10 1-3 * * *"} {
		for _, from := range []time.Time{time.Date(2026, 3, 28, 20, 5, 0, 0, time.UTC), time.Date(2026, 10, 24, 20, 5, 0, 0, time.UTC)} {
			d := store.Schedule{Pipeline: "p", Name: "s", Cron: cron, Zone: "Europe/Berlin"}
			first, _, err := advance(d, from)
			require.NoError(t, err)
			d.Next = first
			for now := from; now.Before(from.Add(30 * time.Hour)); now = now.Add(7 * time.Minute) {
				if d.Next.After(now) {
					continue
				}
				next, event, err := advance(d, now)
				require.NoError(t, err)
				require.True(t, next.After(now), "%s at %s: %s", cron, now, next)
				require.False(t, event.At.After(now), "%s at %s: it starts for %s", cron, now, event.At)
				require.False(t, event.At.Before(d.Next))
				after, _, err := advance(d, event.At)
				require.NoError(t, err)
				require.Equal(t, next, after, "%s: nothing between %s and %s", cron, event.At, next)
				d.Next = next
			}
		}
	}
}
