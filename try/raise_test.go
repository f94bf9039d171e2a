package try

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/state"
)

func TestAVersionIsTriedAndLandsNowhere(t *testing.T) {
	w := tree(t, map[string]string{"VERSION": "1.4.0\n", "app/build.gradle": "android.defaultConfig.versionCode = 12\n"}, nil)
	o, out := options(t, w, `
[job.first]
[[job.first.step]]
script = 'echo "before: $PISTON_BUILD_NUMBER."'
[[job.first.step]]
raise = { by = "minor", pre = "rc" }
[job.second]
after = ["first"]
[[job.second.step]]
script = 'cat VERSION app/build.gradle; echo "$PISTON_VERSION_NAME $PISTON_BUILD_NUMBER_ANDROID"'
[[job.second.step]]
land = { tag = true }
`)
	d, err := Run(t.Context(), o)
	require.NoError(t, err)
	text := out.b.String()
	require.Equal(t, state.Passed, d.State, text)
	assert.Contains(t, text, "first: before: .\n")
	assert.Contains(t, text, "first: app is 1.5.0-rc.1 (android 13): minor rc\n")
	assert.Contains(t, text, "second: 1.5.0-rc.1\nsecond: android.defaultConfig.versionCode = 13\nsecond: 1.5.0-rc.1 13\n")
	assert.Contains(t, text, "a trial lands nothing")
	text2, err := os.ReadFile(filepath.Join(w.Dir, "VERSION"))
	require.NoError(t, err)
	assert.Equal(t, "1.4.0\n", string(text2), "the checkout is as it was")
}

func TestARaiseThatCannotBeTried(t *testing.T) {
	for raise, want := range map[string]string{
		`raise = { by = "minor" }`:                "which is no version",
		`raise = { app = "clock", by = "minor" }`: "there is no app \"clock\"",
		`raise = { by = "tag" }`:                  "was started by none",
		`raise = { by = "${SIZE}" }`:              "\"vast\" is no way to raise",
		`raise = { to = "1.4.0", app = "app" }`:   "",
	} {
		w := tree(t, map[string]string{"VERSION": "next\n"}, nil)
		o, out := options(t, w, "env = { SIZE = \"vast\" }\n[[job.a.step]]\n"+raise+"\n")
		d, err := Run(t.Context(), o)
		require.NoError(t, err)
		assert.Equal(t, want == "", d.State == state.Passed, "%s\n%s", raise, out.b.String())
		assert.Contains(t, out.b.String(), want)
	}
}
