package definition

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/core/versionfile"
)

func TestAppsAsTheyAreDescribed(t *testing.T) {
	apps, found := ParseApps([]byte(`[app.almanac]
android = "org.tidewick.almanac"
in = ["android", "src/about.h"]
[app.almanac.build]
scheme = "name"
digits = [2, 2, 2]
each = true
[[app.almanac.place]]
file = "src/about.h"
pattern = 'NAME "(.*)"'
is = "name"
[app.watch]
`))
	require.Empty(t, found)
	assert.Equal(t, []string{"almanac", "watch"}, apps.Names())
	a, err := apps.Named("almanac")
	require.NoError(t, err)
	assert.Equal(t, version.Numbering{Scheme: version.FromName, Digits: []int{2, 2, 2}}, a.Build.Numbering())
	assert.True(t, a.Build.EachPlatform())
	assert.Equal(t, []versionfile.Platform{versionfile.Android}, a.Platforms())
	files := map[string]string{"android/build.gradle": "android.defaultConfig.versionCode = 3", "VERSION": "9",
		"src/about.h": `NAME "1.4"`}
	tree := versionfile.Tree{Paths: []string{"VERSION", "android/build.gradle", "src/about.h"},
		Read: func(name string) ([]byte, error) { return []byte(files[name]), nil }}
	places := a.Places(tree)
	require.Len(t, places.Places, 2, "VERSION is not the app's")
	assert.Equal(t, "1.4", places.Current().Name.String())
	for _, name := range []string{"", "clock"} {
		_, err := apps.Named(name)
		assert.ErrorContains(t, err, "almanac, watch", name)
	}
}

func TestWithoutAnAppFileThereIsOneApp(t *testing.T) {
	for _, text := range [][]byte{nil, {}} {
		apps, found := ParseApps(text)
		require.Empty(t, found)
		app, err := apps.Named("")
		require.NoError(t, err)
		assert.Equal(t, SoleApp, app.Name)
		assert.Equal(t, version.Numbering{}, app.Build.Numbering())
		assert.False(t, app.Build.EachPlatform())
		assert.Equal(t, []versionfile.Platform{versionfile.Android, versionfile.IOS}, app.PlatformsIn(versionfile.Found{}))
	}
}

func TestAppFilesThatAreRefused(t *testing.T) {
	for text, want := range map[string]string{
		"[app.a]\nandriod = \"x.y\"":                                    "2:1:unknown-key",
		"[app.a]\nandroid = \"tidewick\"":                               "2:1:bad-value",
		"[app.a]\nin = [\"../other\"]":                                  "2:1:bad-path",
		"[app.a.build]\nscheme = \"random\"":                            "2:1:bad-value",
		"[app.a.build]\nscheme = \"name\"":                              "1:6:bad-value",
		"[app.a.build]\nspan = 1000":                                    "1:6:bad-value",
		"[[app.a.place]]\nfile = \"x\"\npattern = \"y\"\nis = \"name\"": "3:1:bad-value",
		"[[app.a.place]]\nfile = \"x\"\npattern = \"(\"\nis = \"name\"": "3:1:bad-value",
		"[[app.a.place]]\nfile = \"x\"\npattern = \"(y)\"":              "2:1:missing-key",
		"[app.\"a b\"]":             "1:6:bad-name",
		"app = 3":                   "1:7:bad-toml",
		"[app.a]\nabout = \"\xff\"": "2:10:not-utf8",
	} {
		apps, found := ParseApps([]byte(text))
		require.NotEmpty(t, found, text)
		assert.Nil(t, apps, text)
		assert.Equal(t, AppsPath, found[0].File)
		assert.Contains(t, found[0].String(), strings.Split(want, ":")[2], text)
	}
}

func TestRaisesAndLandingsBelongTogether(t *testing.T) {
	for text, fine := range map[string]bool{
		"[[job.a.step]]\nraise = { by = \"patch\" }\n[[job.a.step]]\nland = { tag = true }\n": true,
		"[[job.a.step]]\nraise = { by = \"patch\" }\n[job.b]\nafter = [\"a\"]\n[[job.b.step]]\nscript = \"true\"\n" +
			"[job.c]\nafter = [\"b\"]\n[[job.c.step]]\nland = {}\n": true,
		"[[job.a.step]]\nland = {}\n[[job.a.step]]\nraise = { by = \"patch\" }\n":                                            false,
		"[[job.a.step]]\nraise = { by = \"patch\" }\n[[job.b.step]]\nland = {}\n":                                            false,
		"[[job.a.step]]\nraise = { by = \"patch\" }\n[[job.a.step]]\nraise = { by = \"minor\" }\n":                           false,
		"[[job.a.step]]\nraise = { app = \"x\", by = \"patch\" }\n[[job.b.step]]\nraise = { app = \"y\", by = \"minor\" }\n": true,
		"[[job.a.step]]\nraise = { app = \"x\", by = \"patch\" }\n[[job.a.step]]\nland = { app = \"y\" }\n":                  false,
		"[[job.a.step]]\nraise = { by = \"huge\" }\n":                                                                        false,
		"[[job.a.step]]\nraise = {}\n":                                           false,
		"[[job.a.step]]\nraise = { by = \"patch\", to = \"2.0\" }\n":             false,
		"[[job.a.step]]\nraise = { by = \"patch\", pre = \"r c\" }\n":            false,
		"[[job.a.step]]\nraise = { to = \"${PISTON_TAG}\" }\n":                   true,
		"[[job.a.step]]\nraise = { by = \"pre\", pre = \"${PISTON_BRANCH}\" }\n": true,
	} {
		_, found := Parse("piston/p.toml", []byte(text), nil)
		assert.Equal(t, fine, !HasErrors(found), "%s\n%v", text, found)
	}
	for land, fine := range map[string]bool{"message = \"{version}\"": false, "tag_name = \"v\"": false,
		"tag = true, tag_name = \"a b\"": false, "tag = true, tag_name = \"v{name}\"": true, "branch = \"a..b\"": false,
		"branch = \"release/1.x\"": true, "as = \"gift\"": false, "as = \"proposal\", tag = true": false,
		"key = \"A B\"": false, "message = \"{app} {name} ({build}) of {run}\"": true, "tag = true, tag_name = \"-x\"": false,
		"branch = \"x.lock\"": false} {
		_, found := Parse("piston/p.toml", []byte("[[job.a.step]]\nraise = { by = \"patch\" }\n[[job.a.step]]\nland = { "+land+" }\n"), nil)
		assert.Equal(t, fine, !HasErrors(found), "%s\n%v", land, found)
	}
}

func TestHowARunWouldRaise(t *testing.T) {
	p, found := Parse("piston/p.toml", []byte("[input.size]\nkind = \"choice\"\nchoices = [\"patch\", \"huge\", \"minor\"]\n[input.kind]\ndefault = \"rc\"\n"+
		"[[job.a.step]]\nraise = { app = \"x\", by = \"${PISTON_INPUT_SIZE}\", pre = \"${PISTON_INPUT_KIND}\" }\n"+
		"[[job.b.step]]\nscript = \"true\"\n[[job.b.step]]\nraise = { app = \"y\", to = \"${PISTON_TAG}\" }\n"+
		"[[job.c.step]]\nraise = { app = \"z\", by = \"tag\" }\n"), nil)
	require.False(t, HasErrors(found), "%v", found)
	var told []string
	for _, w := range p.Wishes() {
		told = append(told, strings.Join([]string{w.App, w.By, w.Pre, w.To, w.Job, w.When}, "|"))
	}
	assert.Equal(t, []string{"x|patch|rc||a|job.a.step[0].raise, when size is patch", "x|minor|rc||a|job.a.step[0].raise, when size is minor",
		"z|tag|||c|job.c.step[0].raise"}, told, "what only the run knows is not told, nor what it would refuse")
}
