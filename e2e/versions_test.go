package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

const (
	androidBuild = "android {\n\tdefaultConfig {\n\t\tversionCode 12   // raised by hand until now\n\t\tversionName '1.4.0'\n\t}\n}\n"
	iosInfo      = "<?xml version=\"1.0\"?>\r\n<plist version=\"1.0\"><dict>\r\n<key>CFBundleVersion</key><string>12</string>\r\n" +
		"<key>CFBundleShortVersionString</key><string>1.4.0</string>\r\n</dict></plist>\r\n"
)

// raising is a pipeline that raises by a size, prints what later jobs find, and lands.
func raising(raise, between, land string) string {
	return "[trigger.push]\nbranches = [\"main\"]\n[[job.raise.step]]\nname = \"raise\"\nraise = { " + raise + " }\n" +
		"[[job.raise.step]]\nname = \"look\"\nscript = '''\necho \"at $PISTON_VERSION_NAME ($PISTON_BUILD_NUMBER_ANDROID, $PISTON_BUILD_NUMBER_IOS)\"\n" +
		"cat app/build.gradle\n'''\n" +
		"[job.after]\nafter = [\"raise\"]\n[[job.after.step]]\nname = \"between\"\nscript = '''\n" + between + "\n'''\n" +
		"[[job.after.step]]\nland = { " + land + " }\n"
}

func (s *server) app(t *testing.T, name, raise, between, land string) *repo {
	return s.project(t, name, map[string]string{"piston/trunk.toml": raising(raise, between, land),
		"app/build.gradle": androidBuild, "ios/Info.plist": iosInfo})
}

func TestAVersionIsRaisedAndLands(t *testing.T) {
	s := theServer(t)
	r := s.app(t, "raised", `by = "minor"`, `grep -q "versionName '1.5.0'" app/build.gradle; grep 13 ios/Info.plist; echo "still $PISTON_VERSION_NAME"`,
		`tag = true, message = "Release {name} ({build})"`)
	r.push()
	d := r.passes(1)
	assert.Equal(t, "1.5.0", d.VersionName)
	assert.EqualValues(t, 13, d.BuildNumber)
	text := r.logText(1, "raise")
	assert.Contains(t, text, "app is 1.5.0 (android 13, ios 13): minor")
	assert.Contains(t, text, "at 1.5.0 (13, 13)")
	assert.Contains(t, text, "app/build.gradle:3: 13, was 12")
	assert.Contains(t, r.logText(1, "after"), "still 1.5.0")

	r.git("fetch", "-q", "--tags", "origin")
	assert.Equal(t, "Release 1.5.0 (13)", r.git("log", "-1", "--format=%s", "origin/main"))
	assert.Equal(t, "Piston", r.git("log", "-1", "--format=%an", "origin/main"))
	assert.Equal(t, r.git("rev-parse", "origin/main"), r.git("rev-parse", "v1.5.0^{commit}"))
	assert.Equal(t, "2\t2\tapp/build.gradle\n2\t2\tios/Info.plist", r.git("diff", "--numstat", "origin/main^", "origin/main"),
		"only the lines with the numbers")
	assert.Contains(t, r.git("show", "origin/main:app/build.gradle"), "versionCode 13   // raised by hand until now")

	// Its own commit and tag have started nothing; a person's next push goes on from there.
	r.git("merge", "-q", "origin/main")
	r.commit("feat: more", map[string]string{"piston/trunk.toml": raising(`by = "commits"`, "true", `starts = false`)})
	r.push()
	d = r.passes(2)
	assert.Equal(t, "1.6.0", d.VersionName)
	assert.EqualValues(t, 14, d.BuildNumber)
	time.Sleep(300 * time.Millisecond)
	assert.Equal(t, 2, r.count())

	// Runs that raise nothing take numbers, too: what comes next is above them.
	r.commit("fix: x", map[string]string{"piston/other.toml": "[[job.a.step]]\nscript = \"true\"\n"})
	r.git("pull", "-q", "--rebase", "origin", "main")
	r.push()
	r.passes(3)
	out, code := s.piston(t, "", "start", "raised", "other")
	require.Zero(t, code, out)
	r.passes(4)
	out, code = s.pistonIn(t, r.dir, "", "explain", "trunk", "--project", "raised")
	require.Zero(t, code, out)
	assert.Contains(t, out, "1.6.2 (android 17, ios 17): patch, since no commit")
	r.git("pull", "-q", "--rebase", "origin", "main")
	r.commit("fix: y", nil)
	r.push()
	d = r.passes(5)
	assert.Equal(t, "1.6.2", d.VersionName)
	assert.EqualValues(t, 17, d.BuildNumber)

	ledger, err := s.cl.Ledger(context.Background(), "raised", api.LedgerFilter{Limit: 10})
	require.NoError(t, err)
	require.Len(t, ledger.Entries, 8)
	assert.Equal(t, "kept", ledger.Entries[0].State)
	assert.NotEmpty(t, ledger.Entries[0].Landed)
	out, code = s.piston(t, "", "ledger", "raised")
	require.Zero(t, code, out)
	assert.Contains(t, out, "1.6.0")
	assert.Contains(t, out, "1.5.0")
}

// TestEachUsualKindOfAppIsRaised adds the one line to apps of the kinds that people have: what the next push builds, and
// what lands, says one version everywhere.
func TestEachUsualKindOfAppIsRaised(t *testing.T) {
	s := theServer(t)
	const plist = "<plist version=\"1.0\"><dict>\n<key>CFBundleShortVersionString</key><string>%s</string>\n<key>CFBundleVersion</key><string>%s</string>\n</dict></plist>\n"
	for name, files := range map[string]map[string]string{
		"kind-native": {"app/build.gradle.kts": "android {\n  defaultConfig {\n    applicationId = \"net.tidewick.almanac\"\n    versionCode = 12\n    versionName = \"1.4.0\"\n  }\n}\n",
			"App/Info.plist": fmt.Sprintf(plist, "$(MARKETING_VERSION)", "$(CURRENT_PROJECT_VERSION)"),
			"App.xcodeproj/project.pbxproj": "// !$*UTF8*$!\n{\n\tobjects = {\n\t\tA1 = {isa = XCBuildConfiguration; buildSettings = {CURRENT_PROJECT_VERSION = 12; MARKETING_VERSION = 1.4.0; }; name = Release; };\n" +
				"\t\tA2 = {isa = XCBuildConfiguration; buildSettings = {CURRENT_PROJECT_VERSION = 12; MARKETING_VERSION = 1.4.0; }; name = Debug; };\n\t};\n}\n"},
		"kind-properties": {"gradle.properties": "app.code=12\r\napp.name=1.4.0\r\n", "app/build.gradle": "android.defaultConfig {\n  versionCode project.property('app.code').toInteger()\n  versionName project.property('app.name')\n}\n",
			"ios/Info.plist": fmt.Sprintf(plist, "1.4.0", "12")},
		"kind-pubspec": {"pubspec.yaml": "name: almanac\nversion: 1.4.0+12 # both\n"},
		"kind-hybrid":  {"config.xml": "<?xml version='1.0'?>\n<widget id=\"net.tidewick.almanac\" version=\"1.4.0\" android-versionCode=\"12\" ios-CFBundleVersion=\"12\"/>\n", "package.json": "{\n\t\"name\": \"almanac\",\n\t\"version\": \"1.4.0\"\n}\n"},
		"kind-scripted": {"app.json": "{\"version\": \"1.4.0\", \"ios\": {\"buildNumber\": \"12\"}, \"android\": {\"versionCode\": 12}}\n", "package.json": "{\"version\": \"1.4.0\"}\n",
			"package-lock.json": "{\"version\": \"1.4.0\", \"packages\": {\"\": {\"version\": \"1.4.0\"}}}\n"},
		"kind-dotnet": {"Almanac.csproj": "<Project Sdk=\"Microsoft.NET.Sdk\">\n  <PropertyGroup>\n    <ApplicationDisplayVersion>1.4</ApplicationDisplayVersion>\n    <ApplicationVersion>12</ApplicationVersion>\n  </PropertyGroup>\n</Project>\n"},
		"kind-plain":  {"VERSION": "1.4.0\n"},
	} {
		files["piston/trunk.toml"] = "[trigger.push]\nbranches = [\"main\"]\n[[job.a.step]]\nraise = { by = \"minor\" }\n[[job.a.step]]\nscript = \"echo built $PISTON_VERSION_NAME\"\n[[job.a.step]]\nland = {}\n"
		r := s.project(t, name, files)
		r.push()
		d := r.passesAs(1, "a")
		assert.Contains(t, []string{"1.5.0", "1.5"}, d.VersionName, name)
		r.git("pull", "-q", "origin", "main")
		out, code := s.pistonIn(t, r.dir, "", "versions", "--project", name)
		assert.Zero(t, code, "%s: they agree\n%s", name, out)
		assert.NotContains(t, out, "1.4", name)
		assert.NotRegexp(t, `\b12\b`, out, name)
	}
}

func TestAFailedRunLeavesNoCommitAndItsNameIsFree(t *testing.T) {
	s := theServer(t)
	r := s.app(t, "void", `by = "minor"`, "test -e good", "tag = true")
	r.push()
	require.Equal(t, state.Failed, r.run(1, true).State)
	r.commit("Mend it", map[string]string{"good": ""})
	r.push()
	d := r.passes(2)
	assert.Equal(t, "1.5.0", d.VersionName, "the name was free again")
	assert.EqualValues(t, 14, d.BuildNumber, "the number was not")
	r.git("fetch", "-q", "--tags", "origin")
	assert.Equal(t, "v1.5.0", r.git("tag"))
	// The failed one goes on: its name is another's now, so that it takes the next.
	out, code := s.piston(t, "", "again", "void", "1", "--failed")
	require.Zero(t, code, out)
	d = r.run(1, true)
	assert.Equal(t, state.Failed, d.State)
}

func TestTenPipelinesLandWhileAPersonPushes(t *testing.T) {
	s := theServer(t)
	r := s.app(t, "tenfold", `by = "patch"`, "true", "tag = true")
	r.write(map[string]string{"piston/trunk.toml": strings.Replace(raising(`by = "patch"`, "true", "tag = true"),
		"[trigger.push]", "supersede = \"none\"\n[trigger.push]", 1)})
	r.git("add", "-A")
	r.git("commit", "-q", "--amend", "--no-edit")
	r.push()
	for range 9 {
		_, err := s.cl.StartRun(context.Background(), "tenfold", api.StartRun{Pipeline: "trunk"})
		require.NoError(t, err)
	}
	pushed := 0
	for n := range 4 {
		r.commit(fmt.Sprintf("person %d\n\nPiston-Run: no", n), map[string]string{fmt.Sprintf("notes/%d", n): ""})
		r.git("pull", "-q", "--rebase", "origin", "main")
		if _, err := os.Stat(filepath.Join(r.dir, "notes")); err == nil {
			pushed++
		}
		for range 20 { // a person meets the same race, and pulls again
			if out, err := r.tryGit("push", "-q", "origin", "main"); err != nil {
				t.Log(out)
				r.git("pull", "-q", "--rebase", "origin", "main")
				continue
			}
			break
		}
		time.Sleep(500 * time.Millisecond)
	}
	numbers := map[int64]bool{}
	for n := record.RunNumber(1); n <= 10; n++ {
		d := r.passesAs(n, "after")
		assert.False(t, numbers[int64(d.BuildNumber)], "build number %d twice", d.BuildNumber)
		numbers[int64(d.BuildNumber)] = true
	}
	r.git("fetch", "-q", "--tags", "origin")
	assert.Len(t, strings.Fields(r.git("tag")), 10, "each version is tagged once")
	log := r.git("log", "--reverse", "--format=%s", "--author=Piston", "origin/main")
	want := []string{}
	for n := 1; n <= 10; n++ {
		want = append(want, fmt.Sprintf("Raise the version to 1.4.%d (%d)", n, 12+n))
	}
	assert.Equal(t, strings.Join(want, "\n"), log, "each is there once, in order")
	assert.Contains(t, r.git("show", "origin/main:app/build.gradle"), "versionName '1.4.10'")
	assert.Equal(t, 4, pushed)
	assert.Equal(t, "4", r.git("rev-list", "--count", "--grep=^person", "origin/main"))
}

func TestSomebodyElseRaisedTheSameLine(t *testing.T) {
	s := theServer(t)
	r := s.app(t, "contested", `by = "minor"`, "until test -e /tmp/never; do sleep 0.2; test $((i=i+1)) -lt 25 || break; done", "tag = true")
	r.push()
	r.await(1, time.Minute, func(d api.RunDetail) bool { return d.VersionName != "" })
	r.commit("Call it two\n\nPiston-Run: no", map[string]string{"app/build.gradle": strings.Replace(androidBuild, "1.4.0", "2.0.0", 1),
		"ios/Info.plist": strings.Replace(iosInfo, "1.4.0", "2.0.0", 1)})
	r.push()
	d := r.run(1, true)
	require.Equal(t, state.Failed, d.State)
	text := r.logText(1, "after")
	assert.Contains(t, text, "app/build.gradle:4 on main says 2.0.0")
	assert.Contains(t, text, "by Ada Quill")
	r.git("fetch", "-q", "--tags", "origin")
	assert.Empty(t, r.git("tag"))
	assert.Equal(t, "Call it two", r.git("log", "-1", "--format=%s", "origin/main"))
}

func TestWhatStandsInTheWayOfALanding(t *testing.T) {
	s := theServer(t)
	for name, c := range map[string]struct {
		land, want string
		before     func(r *repo)
	}{
		"hooked": {"tag = true", "the harbour is closed", func(r *repo) {
			hook := filepath.Join(r.bare, "hooks", "pre-receive")
			require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\necho the harbour is closed\nexit 1\n"), 0o755))
		}},
		"tagged":   {"tag = true", "the tag v1.5.0 exists already", func(r *repo) { r.git("tag", "v1.5.0"); r.push("v1.5.0") }},
		"gone":     {`branch = "release/9"`, "the branch release/9 is gone", func(*repo) {}},
		"keyless":  {`key = "LANDING_TOKEN"`, "nobody has set the secret LANDING_TOKEN", func(*repo) {}},
		"proposed": {`as = "proposal"`, "on raise/1.5.0", func(*repo) {}},
	} {
		t.Run(name, func(t *testing.T) {
			r := s.app(t, "way-"+name, `by = "minor"`, "true", c.land)
			r.push()
			if name == "hooked" { // only the landing is to meet it
				r.await(1, time.Minute, func(d api.RunDetail) bool { return d.State == state.Running || d.State.Over() })
			}
			c.before(r)
			d := r.run(1, true)
			text := r.logText(1, "after")
			assert.Contains(t, text, c.want)
			assert.Equal(t, name == "proposed", d.State == state.Passed, text)
			r.git("fetch", "-q", "origin")
			assert.Equal(t, "First", r.git("log", "-1", "--format=%s", "origin/main"))
			if name == "proposed" {
				assert.Equal(t, "Piston", r.git("log", "-1", "--format=%an", "origin/raise/1.5.0"))
			}
		})
	}
}

func TestARunOfATagTakesItsNameFromIt(t *testing.T) {
	s := theServer(t)
	text := strings.Replace(raising(`by = "tag"`, "true", "tag = true"), "[trigger.push]\nbranches = [\"main\"]", "[trigger.tag]\nnames = [\"v*\"]", 1)
	r := s.project(t, "by-tag", map[string]string{"piston/trunk.toml": text, "app/build.gradle": androidBuild, "ios/Info.plist": iosInfo})
	r.git("tag", "-a", "-m", "by a person", "v2.0.0")
	r.push("main", "v2.0.0")
	d := r.passesAs(1, "after")
	assert.Equal(t, "2.0.0", d.VersionName)
	was := r.git("rev-parse", "v2.0.0")
	r.git("fetch", "-q", "--tags", "origin")
	assert.Equal(t, was, r.git("rev-parse", "v2.0.0"), "the person's tag stays")
	assert.Equal(t, "Raise the version to 2.0.0 (13)", r.git("log", "-1", "--format=%s", "origin/main"))
	// Pushed once more, by another name of the same version: that is another's now.
	r.git("tag", "release-2.0.0", "main")
	r.git("tag", "v2.0")
	r.push("v2.0")
	require.Equal(t, state.Failed, r.run(2, true).State)
	assert.Contains(t, r.logText(2, "raise"), "was given to run 1, which is kept")
}

func TestPlacesThatContradictEachOtherStopARaise(t *testing.T) {
	s := theServer(t)
	r := s.app(t, "contrary", `by = "minor"`, "true", "tag = true")
	r.write(map[string]string{"ios/Info.plist": strings.Replace(iosInfo, "1.4.0", "1.3.9", 1)})
	r.git("add", "-A")
	r.git("commit", "-q", "--amend", "--no-edit")
	r.push()
	d := r.run(1, true)
	require.Equal(t, state.Failed, d.State)
	assert.Equal(t, "ios/Info.plist:4", d.FailedAt, "it is found before a job begins")
	assert.Contains(t, d.Reason, "ios/Info.plist:4 says 1.3.9, and app/build.gradle:4 says 1.4.0")
	ledger, err := s.cl.Ledger(context.Background(), "contrary", api.LedgerFilter{Limit: 10})
	require.NoError(t, err)
	assert.Empty(t, ledger.Entries)
}

func TestAProposalGetsNumbersThatDoNotCount(t *testing.T) {
	s := theServer(t)
	text := strings.Replace(raising(`by = "minor"`, "cat app/build.gradle", ""), "[trigger.push]\nbranches = [\"main\"]", "[trigger.proposal]\ninto = [\"main\"]", 1)
	r := s.project(t, "uncounted", map[string]string{"piston/trunk.toml": text, "app/build.gradle": androidBuild, "ios/Info.plist": iosInfo})
	r.push()
	r.git("checkout", "-q", "-b", "feet")
	r.commit("In feet", map[string]string{"feet": ""})
	r.push("HEAD:refs/proposals/main/feet")
	d := r.run(1, true)
	require.Equal(t, state.Failed, d.State)
	assert.Contains(t, r.logText(1, "raise"), "these numbers do not count")
	assert.Contains(t, r.logText(1, "raise"), "at 1.5.0 (13, 13)")
	assert.Contains(t, r.logText(1, "after"), "versionName '1.5.0'", "jobs behind it build the same")
	assert.Contains(t, r.logText(1, "after"), "a proposal lands nothing")
	assert.Zero(t, d.BuildNumber)
	ledger, err := s.cl.Ledger(context.Background(), "uncounted", api.LedgerFilter{Limit: 10})
	require.NoError(t, err)
	assert.Empty(t, ledger.Entries)
}

func TestAFloorIsWhatAStoreHadBefore(t *testing.T) {
	s := theServer(t)
	r := s.app(t, "floored", `by = "build"`, "true", "")
	out, code := s.piston(t, "", "ledger", "floor", "floored", "412", "--platform", "android", "--app", "app")
	require.Zero(t, code, out)
	r.push()
	d := r.passesAs(1, "after")
	assert.EqualValues(t, 413, d.BuildNumber)
	assert.Equal(t, "1.4.0", d.VersionName)
	out, code = s.piston(t, "", "ledger", "floor", "floored", "400", "--platform", "android", "--app", "app")
	assert.NotZero(t, code, out)
	assert.Contains(t, out, "412")
}

// tryGit is git that may fail.
func (r *repo) tryGit(args ...string) (out string, err error) {
	failed := &failing{TB: r.t}
	defer func() {
		if recover() != nil {
			err = fmt.Errorf("git failed")
		}
	}()
	other := *r
	other.t = failed
	return other.git(args...), nil
}

// failing takes a test's failure as one that may be.
type failing struct{ testing.TB }

func (*failing) Errorf(string, ...any) {}
func (*failing) FailNow()              { panic("failed") }

// passesAs waits for a run that must pass, and tells a job's log when it does not.
func (r *repo) passesAs(number record.RunNumber, job string) api.RunDetail {
	r.t.Helper()
	d := r.run(number, true)
	require.Equal(r.t, state.Passed, d.State, "%s\n%s", asJSON(d), r.logText(number, job))
	return d
}

// A server is killed while the repository is about to take its push.
func TestAServerThatIsKilledWhileItLands(t *testing.T) {
	t.Parallel()
	s := serve(t, "--slots", "1")
	r := s.app(t, "torn", `by = "minor"`, "true", "tag = true")
	r.push()
	landing, again := filepath.Join(r.bare, "landing"), filepath.Join(r.bare, "again")
	hook := fmt.Sprintf("#!/bin/sh\nif test -e '%s'; then touch '%s'; exit 0; fi\ntouch '%s'; sleep 4\n", landing, again, landing)
	require.NoError(t, os.WriteFile(filepath.Join(r.bare, "hooks", "update"), []byte(hook), 0o755))
	require.Eventually(t, func() bool { _, err := os.Stat(landing); return err == nil }, 60*time.Second, 10*time.Millisecond)
	require.NoError(t, s.cmd.Process.Kill())
	_ = s.cmd.Wait()
	s.start(t)
	d := r.passesAs(1, "after")
	assert.Equal(t, "1.5.0", d.VersionName)
	time.Sleep(5 * time.Second) // what the killed one has left behind ends, too
	r.git("fetch", "-q", "--tags", "origin")
	assert.Equal(t, "v1.5.0", r.git("tag"))
	assert.Equal(t, "1", r.git("rev-list", "--count", "--author=Piston", "origin/main"), "one commit")
	assert.Equal(t, r.git("rev-parse", "origin/main"), r.git("rev-parse", "v1.5.0^{commit}"))
	ledger, err := s.cl.Ledger(context.Background(), "torn", api.LedgerFilter{Limit: 10})
	require.NoError(t, err)
	require.Len(t, ledger.Entries, 2)
	assert.Equal(t, r.git("rev-parse", "origin/main"), ledger.Entries[0].Landed)
	assert.Equal(t, 1, r.count(), "its own commit has started nothing")
	names, err := os.ReadDir(filepath.Join(s.home, "landings"))
	if err == nil {
		assert.Empty(t, names, "nothing is left of what was about to land")
	}
}
