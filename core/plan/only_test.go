package plan

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/definition"
)

const whole = `priority = 5
bisect = true
[job.lint]
[[job.lint.step]]
script = "true"
[job.core]
after = ["lint"]
variants = { over = { ABI = ["arm64", "x86"] } }
[[job.core.step]]
script = "make"
[job.core.hand.library]
files = ["out/*"]
[job.android]
after = ["core", "lint"]
take = ["core/library"]
stay = "15m"
[[job.android.step]]
script = "make android"
[job.android.keep.app]
files = ["out/*.apk"]
[job.out]
after = ["android"]
take = []
[[job.out.step]]
raise = { app = "almanac", by = "patch" }
[job.go]
after = ["android"]
ask = { who = ["keeper"], question = "Go?" }
`

// What a job's outcome depends on runs with it, and nothing else; nothing of it is kept.
func TestOnlyWhatAJobNeeds(t *testing.T) {
	p, found := definition.Parse("piston/p.toml", []byte(whole), nil)
	require.NotNil(t, p, found)
	only, err := Only(p, "android")
	require.NoError(t, err)
	assert.Equal(t, []string{"android", "core+arm64", "core+x86"}, slices.Sorted(maps.Keys(only.Job)))
	android := only.Job["android"]
	assert.Equal(t, []string{"core+arm64", "core+x86"}, android.After)
	assert.Empty(t, only.Job["core+arm64"].After, "lint is not needed for it")
	assert.Empty(t, android.Keep)
	assert.Empty(t, android.Stay)
	assert.Less(t, only.Priority, -100)
	assert.False(t, only.Bisect)
	assert.NotEmpty(t, p.Job["android"].Keep, "the pipeline itself is as it was")
	assert.Equal(t, 5, p.Priority)
	assert.Equal(t, []string{"core+arm64", "core+x86", "lint"}, p.Job["android"].After)
}

// What cannot be undone is not done for a look.
func TestOnlyDoesNothingThatIsSeenOutside(t *testing.T) {
	p, found := definition.Parse("piston/p.toml", []byte(whole), nil)
	require.NotNil(t, p, found)
	for _, name := range []string{"out", "go"} {
		_, err := Only(p, name)
		assert.ErrorIs(t, err, ErrActs, name)
	}
	_, err := Only(p, "nobody")
	assert.Error(t, err)
	assert.NotErrorIs(t, err, ErrActs)
}
