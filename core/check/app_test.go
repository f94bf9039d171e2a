package check

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/core/schedule"
)

const releases = "group = \"release\"\n[[job.a.step]]\nscript = \"true\"\n"

// told gives the findings of one code, as they are shown.
func told(r *Repository, s *Service, code string) (list []string) {
	for _, f := range All(r, s).All() {
		if f.Code == code {
			list = append(list, f.String())
		}
	}
	return list
}

func TestVersionsBehindTheLedger(t *testing.T) {
	files := map[string]string{"piston/release.toml": releases, "VERSION": "1.4.0\n",
		"app/build.gradle": "android.defaultConfig.versionName = '1.4.0'\nandroid.defaultConfig.versionCode = 40\n"}
	s := &Service{Project: "tides", LastBuild: 12, Runners: []schedule.Runner{{}},
		Given: []Given{{App: "app", Platform: "android", Name: "1.5.0", Build: 41}, {App: "other", Platform: "android", Name: "9.0", Build: 900}}}
	found := told(here(files), s, "version-behind")
	require.Len(t, found, 2)
	assert.Contains(t, found[0], "VERSION:1:1: warning: it says 1.4.0, and 1.5.0 was given out for app on android")
	assert.Contains(t, found[1], "app/build.gradle:1:")
	found = told(here(files), s, "version-code")
	require.Len(t, found, 1)
	assert.Contains(t, found[0], "the build number is 40, and 41 was given out")

	files["piston/release.toml"] = releases + "[[job.a.step]]\nraise = { by = \"patch\" }\n"
	assert.Empty(t, told(here(files), s, "version-behind"), "the raise goes on from the ledger")
	files["piston/release.toml"] = releases
	s.Given[0] = Given{App: "app", Platform: "android", Name: "1.4.0", Build: 39}
	assert.Empty(t, told(here(files), s, "version-behind"))
	assert.Empty(t, told(here(files), s, "version-code"))
}

func TestATagThatIsAnotherVersion(t *testing.T) {
	files := map[string]string{"piston/p.toml": "[trigger.tag]\nnames = [\"v*\"]\nexcept_names = [\"*-draft\"]\n[[job.a.step]]\nscript = \"true\"\n", "VERSION": "1.4.0\n"}
	r := here(files)
	for _, c := range []struct{ tag, says string }{{"v1.5.0", "it says 1.4.0, and the commit has the tag v1.5.0"}, {"v1.4", ""}, {"v1.4.0", ""}, {"beta-1.5.0", ""},
		{"v1.5.0-draft", ""}, {"v-next", ""}} {
		r.Tags = []string{c.tag}
		found := strings.Join(told(r, nil, "versions-differ"), "\n")
		assert.Equal(t, c.says != "", found != "", "%s: %s", c.tag, found)
		assert.Contains(t, found, c.says)
	}
	files["piston/p.toml"] = "[trigger.tag]\n[[job.a.step]]\nraise = { by = \"tag\" }\n"
	r.Tags = []string{"v1.5.0"}
	assert.Empty(t, told(r, nil, "versions-differ"), "the raise writes it")
}

func TestProfilesOfOtherAppsAndOfYesterday(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	files := map[string]string{"piston/p.toml": "group = \"release\"\n[[job.a.step]]\nscript = \"true\"\nsecret_files = { PROFILE = \"ios/x.mobileprovision\" }\n",
		"ios/Info.plist": "<plist><dict><key>CFBundleIdentifier</key><string>org.tidewick.almanac</string></dict></plist>"}
	for _, c := range []struct {
		is   profile.Profile
		says string
	}{
		{profile.Profile{App: "org.tidewick.almanac", Ends: now.Add(-time.Hour)}, "has expired on 26 November 2026"},
		{profile.Profile{App: "org.tidewick.almanac", Ends: now.Add(49 * time.Hour)}, "expires on 28 November 2026, in 2 days"},
		{profile.Profile{App: "org.Tidewick.almanac"}, "differs in letter case only: it is for org.Tidewick.almanac"},
		{profile.Profile{App: "org.tidewick.charts", Ends: now.AddDate(1, 0, 0)}, "is for org.tidewick.charts, and the app is org.tidewick.almanac"},
		{profile.Profile{App: "org.tidewick.*", Ends: now.AddDate(1, 0, 0)}, ""}, {profile.Profile{}, ""},
	} {
		r := here(files)
		r.Now = now
		s := &Service{Project: "tides", Secrets: []Secret{{Name: "PROFILE", Profile: c.is}}, Runners: []schedule.Runner{{}}}
		found := strings.Join(told(r, s, "wrong-profile"), "\n")
		assert.Equal(t, c.says != "", found != "", found)
		assert.Contains(t, found, c.says)
		if c.says != "" {
			assert.Contains(t, found, "piston/p.toml:4:")
		}
	}
}
