package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/state"
	chrome "gentlepiston.example/piston/e2e/browser"
)

// program runs another's program and returns what it printed; it must succeed.
func program(t *testing.T, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s: %s", name, out)
	return string(out)
}

// startDemo runs piston demo until it serves, and makes a server of it for the commands.
func startDemo(t *testing.T, home, listen string) *server {
	t.Helper()
	s := &server{home: home, listen: listen, config: filepath.Join(home, "client.json"), log: &syncBuffer{}}
	s.cmd = exec.Command(binary(), "demo", "--hybrid=false", "--home", home, "--listen", listen)
	s.cmd.Stdout, s.cmd.Stderr, s.cmd.WaitDelay = s.log, s.log, time.Second
	require.NoError(t, s.cmd.Start())
	t.Cleanup(func() { s.stop(t) })
	require.Eventually(t, func() bool { return strings.Contains(s.log.String(), "Ctrl-C stops everything") }, 3*time.Minute, 50*time.Millisecond, "%s", s.log)
	password, err := os.ReadFile(filepath.Join(home, "console-password"))
	require.NoError(t, err)
	s.password = strings.TrimSpace(string(password))
	text, err := os.ReadFile(s.config)
	require.NoError(t, err)
	var settings struct{ Server, Token string }
	require.NoError(t, json.Unmarshal(text, &settings))
	s.cl = client.New(settings.Server, settings.Token)
	return s
}

func TestTheDemo(t *testing.T) {
	home, listen := filepath.Join(folder(t), "not", "there"), freePort(t)
	s := startDemo(t, home, listen)
	assert.Equal(t, 21, strings.Count(s.log.String(), "  as told\n"), "%s", s.log)
	assert.NotContains(t, s.log.String(), "level=INFO", "the story is told without a server's log between its lines")

	// First, while nothing else is done on this machine: it is about times.
	t.Run("history", func(t *testing.T) { checkHistory(t, s) })
	t.Run("packages", func(t *testing.T) { checkPackages(t, s) })
	t.Run("commands", func(t *testing.T) { checkCommands(t, s) })
	t.Run("testers", func(t *testing.T) { checkTesters(t, s) })
	checkAccessible(t, s, walked)
	t.Run("console", func(t *testing.T) { checkConsole(t, s) })
	t.Run("stops and continues", func(t *testing.T) {
		require.NoError(t, s.cmd.Process.Signal(syscall.SIGINT))
		require.NoError(t, s.cmd.Wait(), "%s", s.log)
		s.cmd = nil
		left, _ := exec.Command("pgrep", "-f", home).Output()
		assert.Empty(t, string(left), "nothing is left running")
		again := startDemo(t, home, listen)
		assert.Contains(t, again.log.String(), "played in this folder already")
		page, err := again.cl.Runs(t.Context(), "tidewick", client.RunFilter{Limit: 50})
		require.NoError(t, err)
		assert.GreaterOrEqual(t, len(page.Runs), 16)
	})
}

// checkPackages looks at what the demo built with programs that are not ours.
func checkPackages(t *testing.T, s *server) {
	dir := t.TempDir()
	out, code := s.piston(t, "", "get", "tidewick", "6", "--to", dir)
	require.Zero(t, code, out)
	apk, ipa := filepath.Join(dir, "tidewick.apk"), filepath.Join(dir, "Tidewick.ipa")
	badging := program(t, "aapt", "dump", "badging", apk)
	assert.Contains(t, badging, "name='net.tidewick.almanac' versionCode='6' versionName='1.5.0'")
	assert.Contains(t, badging, "native-code: 'arm64-v8a' 'armeabi-v7a' 'x86_64'")
	program(t, "unzip", "-t", apk)
	program(t, "zipalign", "-c", "-p", "4", apk)
	program(t, "unzip", "-q", ipa, "-d", dir)
	assert.Regexp(t, `MH_MAGIC_64\s+ARM64\s+ALL\s+0x00\s+EXECUTE`, program(t, "llvm-objdump", "--macho", "--private-header", filepath.Join(dir, "Payload/Tidewick.app/Tidewick")))
	plist, err := os.ReadFile(filepath.Join(dir, "Payload/Tidewick.app/Info.plist"))
	require.NoError(t, err)
	assert.Contains(t, string(plist), "<key>CFBundleVersion</key><string>6</string>")
	assert.Contains(t, string(plist), "<key>CFBundleShortVersionString</key><string>1.5.0</string>")
	checkSignatures(t, s, dir)
	// What is there with other content is left alone.
	require.NoError(t, os.WriteFile(apk, []byte("yesterday's"), 0o644))
	out, code = s.piston(t, "", "get", "tidewick", "6", "tidewick.apk", "--to", dir)
	assert.Equal(t, 3, code)
	assert.Contains(t, out, "other content")
}

// checkCommands calls the commands that answer something, with and without --json.
func checkCommands(t *testing.T, s *server) {
	for _, c := range []struct {
		args string
		want string
	}{
		{"projects", "tidewick"}, {"runs tidewick --state failed", "core › unit tests"}, {"show tidewick 3", "springs exceed neaps"},
		{"show tidewick 6", "Tidewick.ipa"}, {"show tidewick 13", `Did you mean "machine"?`}, {"show tidewick 9", "this commit is of a proposal from outside"}, {"show tidewick 10", "superseded by run 11"},
		{"since tidewick 3", "Fold the phase"}, {"pipelines tidewick", "asks for note"}, {"schedules tidewick", "Europe/Lisbon"}, {"queue", "0 waiting"}, {"log tidewick 1 --job core", "fetched  gullwick.station"}, {"packages tidewick", "2 against"}, {"packages tidewick 10", "[permission-added]"},
		{"identity list tidewick", "harbour-upload"}, {"identity show tidewick harbour-store", "TIDEWICK00"},
		{"signatures tidewick --app net.tidewick.almanac", "Tidewick.ipa"}, {"identity apps tidewick", "net.tidewick.almanac"},
		{"secret list tidewick", "DEPOT_KEY"}, {"secret history tidewick STORE_KEY", "file"}, {"show tidewick 14", "is for pipeline release only"}, {"people", "wren"}, {"group list", "ines wren"}, {"role list tidewick", "group mobile"}, {"audit tidewick --act secret", "secret.set"},
		{"release words tidewick 1.5.0", "But what is it called?"}, {"publication list tidewick --state refused", "an almanac of what?"},
		{"tester list tidewick --group friends", "mira@harbour.example"}, {"tester devices tidewick", "No tester"}, {"outlet list tidewick", "its secret expires"},
		{"runners", "local"}, {"token list", "demo"}, {"people --contains INE", "ines"}, {"role list tidewick --contains /group", "mobile"}, {"secret list tidewick --limit 1", "There may be more: --after"},
	} {
		args := strings.Fields(c.args)
		out, code := s.piston(t, "", args...)
		assert.Zero(t, code, c.args)
		assert.Contains(t, out, c.want, c.args)
		out, code = s.piston(t, "", append(args, "--json")...)
		assert.Zero(t, code, c.args)
		for d := json.NewDecoder(strings.NewReader(out)); d.More(); {
			var v any
			require.NoError(t, d.Decode(&v), "%s --json: %s", c.args, out)
		}
	}
	for _, args := range []string{"show tidewick 999", "runs nothing", "log tidewick 1 --job nothing", "get tidewick 1 nothing.apk"} {
		out, code := s.piston(t, "", strings.Fields(args)...)
		assert.Equal(t, 3, code, "%s: %s", args, out)
	}
	out, code := s.piston(t, "", "watch", "tidewick", "3")
	assert.Equal(t, 1, code, "watching a failed run fails")
	assert.Contains(t, out, "core › unit tests: exit code 2")
	out, code = s.piston(t, "", "show", "tidewick", "0")
	assert.Equal(t, 2, code, out)
}

// consoleOf is a browser for at most eight minutes, and what has it do something.
func consoleOf(t *testing.T) (ctx context.Context, do func(what string, actions ...chromedp.Action)) {
	t.Helper()
	parent, cancel := context.WithTimeout(t.Context(), 8*time.Minute)
	t.Cleanup(cancel)
	ctx, stop, err := chrome.Start(parent)
	require.NoError(t, err)
	t.Cleanup(stop)
	return ctx, func(what string, actions ...chromedp.Action) {
		t.Helper()
		require.NoError(t, chromedp.Run(ctx, actions...), what)
	}
}

// checkConsole goes through the console as a person would.
func checkConsole(t *testing.T, s *server) {
	ctx, do := consoleOf(t)
	address := "http://" + s.listen
	var problems []string
	chromedp.ListenTarget(ctx, func(e any) {
		if text := fmt.Sprintf("%T", e); strings.Contains(text, "EventExceptionThrown") {
			problems = append(problems, asJSON(e))
		}
	})
	began := time.Now()
	do("the first view", chromedp.Navigate(address), chromedp.WaitVisible(`input[name=password]`))
	t.Logf("the first view was usable after %d ms, with Chromium's own start", time.Since(began).Milliseconds())
	do("a wrong password", chromedp.SendKeys(`input[name=password]`, "wrong\r"), chromedp.WaitVisible(`//*[contains(text(), "name or password is wrong")]`))
	do("sign in", chrome.SignIn(address, s.password))
	do("to the runs", chromedp.Click(`//a[text()="tidewick"]`), chromedp.WaitVisible(`//h1[text()="tidewick"]`))

	// A run, live: started here, its states and its log come by themselves.
	run, err := s.cl.StartRun(ctx, "tidewick", api.StartRun{Pipeline: "trunk", Ref: "main"})
	require.NoError(t, err)
	number := fmt.Sprint(run.Number)
	do("the new run appears by itself", chromedp.WaitVisible(`//a[text()="`+number+`"]`))
	do("open it", chromedp.Click(`//a[text()="`+number+`"]`), chromedp.WaitVisible(`//h2[contains(., "Where the time went")]`))
	do("see it pass, live", chromedp.WaitVisible(`//main//span[text()="passed"]/ancestor::*[.//h1][1]`), chromedp.WaitVisible(`//a[contains(text(), "tidewick.apk")]`))

	// The failed run: what failed is at the top; a line of it leads into the log.
	var text, size string
	do("the failed run", chromedp.Navigate(address+"/tidewick/3"), chromedp.WaitVisible(`[aria-label="What failed"]`), chromedp.Text(`[aria-label="What failed"]`, &text))
	assert.Contains(t, text, "core › unit tests: exit code 2")
	assert.Contains(t, text, "springs exceed neaps")
	var line, colour string
	do("to the line", chromedp.Click(`[aria-label="What failed"] a[aria-label^="line"]`), chromedp.WaitVisible(`[role=log] [data-line="19"]`), chromedp.Text(`[role=log] [data-line="19"]`, &line),
		chromedp.Location(&size), chromedp.Evaluate(`getComputedStyle(document.querySelector('[data-line="19"] span span')).color`, &colour))
	assert.Contains(t, line, "FAIL springs exceed neaps")
	assert.Contains(t, size, "job=core&line=19", "the address leads to the line")
	assert.NotEmpty(t, colour, "ANSI colours are shown")
	do("a broken file says what is wrong where the log would be", chromedp.Navigate(address+"/tidewick/13"), chromedp.WaitVisible(`//*[contains(text(), "unknown key")]`),
		chromedp.Text(`main`, &text))
	assert.Contains(t, text, `Did you mean "machine"?`)
	do("keys: up to the runs", chromedp.KeyEvent("u"), chromedp.WaitVisible(`//h1[text()="tidewick"]`))

	dir := t.TempDir()
	do("download the APK", browser.SetDownloadBehavior(browser.SetDownloadBehaviorBehaviorAllow).WithDownloadPath(dir),
		chromedp.Navigate(address+"/tidewick/6"), chromedp.Click(`//a[contains(@href, "/artifacts/") and contains(text(), "tidewick.apk")]`))
	apk := filepath.Join(dir, "tidewick.apk")
	require.Eventually(t, func() bool { _, err := os.Stat(apk); return err == nil }, 10*time.Second, 50*time.Millisecond)
	assert.Contains(t, program(t, "aapt", "dump", "badging", apk), "versionCode='6'")

	checkPackagePages(do, address)
	checkOutletPages(do, address)
	do("what it is made of", chromedp.Navigate(address+"/tidewick/packages/4"),
		chromedp.Click(`//button[text()="Bill of materials"]`), chromedp.Click(`//button[text()="Provenance"]`))
	for _, name := range []string{"bill", "provenance"} {
		at := filepath.Join(dir, "tidewick.apk."+name+".json")
		require.Eventually(t, func() bool { b, _ := os.ReadFile(at); return strings.Contains(string(b), "payloadType") },
			10*time.Second, 50*time.Millisecond, name)
	}
	do("what was handed out", chromedp.Navigate(address+"/tidewick/versions"), chromedp.WaitVisible(`//b[text()="1.5.0"]`),
		shows("almanac for iOS"), shows("minor"))
	do("a store had more", chromedp.Click(`//button[@aria-label="Set floor of almanac for Android"]`),
		chromedp.SendKeys(`//*[@role="dialog"]//label[contains(., "Build number")]/following::input[1]`, "412"),
		chromedp.Click(`[role=dialog] button[type=submit]`), shows("a store had 412"))
	checkNotes(do)
	checkHistoryPages(t, do, address)
	checkQueueAndEditor(t, s, do)
	checkSecretsAndPeople(t, s, do)
	checkMarkup(t, s, do)
	checkLongLog(t, s, do)
	assert.Empty(t, problems, "the console threw")
}

// shows waits until the page says something; what it says comes by several answers, in any order.
// checkNotes corrects the notes of a release, and takes that back.
func checkNotes(do func(string, ...chromedp.Action)) {
	says := func(text string) chromedp.Action {
		return chromedp.WaitVisible(`//*[@role="dialog"][contains(., "` + text + `")]`)
	}
	open := chromedp.Tasks{chromedp.WaitNotPresent(`[role=dialog]`), chromedp.Click(`//button[@aria-label="Notes of almanac 1.5.0"]`)}
	save := chromedp.Tasks{chromedp.Click(`[role=dialog] button[type=submit]`), chromedp.WaitNotPresent(`[role=dialog]`)}
	do("see notes", open, says("Drafted from the commits"), says(" of 500"))
	do("too long ones", chromedp.Click(`[role=dialog] textarea`), input.InsertText(strings.Repeat("x", 500)), says("too many"))
	do("correct them", save, open, says("Corrected by admin"))
	do("put the draft back", chromedp.Click(`//button[text()="Put the draft back"]`), says("Saving puts the draft back"), save)
}

func shows(text string) chromedp.Action {
	return chromedp.WaitVisible(fmt.Sprintf(`//main[contains(., "%s")]`, text))
}

// checkQueueAndEditor holds the project, starts a pipeline by the form, sees why it waits, and edits a pipeline.
func checkQueueAndEditor(t *testing.T, s *server, do func(string, ...chromedp.Action)) {
	var text string
	address := "http://" + s.listen
	do("hold the project", chromedp.Navigate(address+"/tidewick"), chromedp.Click(`//button[text()="Hold"]`), chromedp.WaitVisible(`//*[@role="alert"][contains(., "Held by admin")]`))
	do("the form asks for what the pipeline wants", chromedp.Navigate(address+"/tidewick/pipelines"), chromedp.WaitVisible(`//a[text()="testers"]`),
		chromedp.Click(`//button[text()="Start …"]`), chromedp.WaitVisible(`//h2[text()="Start by hand"]`),
		chromedp.Click(`[role=dialog] [aria-haspopup="listbox"]`, chromedp.ByQuery), chromedp.Click(`//li[text()="testers"]`), chromedp.WaitVisible(`//label[contains(., "note")]`))
	var disabled bool
	do("a required value is missing", chromedp.Evaluate(`document.querySelector('[role=dialog] button[type=submit]').disabled`, &disabled))
	assert.True(t, disabled)
	do("start it", chromedp.SendKeys(`//label[contains(., "note")]/following::input[1]`, "Look at the springs"), chromedp.Click(`[role=dialog] button[type=submit]`),
		chromedp.WaitVisible(`//h2[contains(., "Where the time went")]`), shows("waits: the project is held: held in the console"), shows("note Look at the springs"))
	do("the queue says why", chromedp.KeyEvent("q"), chromedp.WaitVisible(`//td[contains(text(), "the project is held")]`))
	do("and what the runner has", shows("clang"))
	do("resume it", chromedp.Navigate(address+"/tidewick"), chromedp.Click(`//button[text()="Resume"]`), chromedp.WaitVisible(`//button[text()="Hold"]`))

	do("a pipeline's editor", chromedp.Navigate(address+"/tidewick/pipelines/trunk"), chromedp.WaitVisible(`//span[contains(text(), "nothing found")]`),
		chromedp.WaitVisible(`//*[@aria-label="Jobs and their order"]//*[text()="library+x86_64"]`))
	do("a mistake is found while one types", chromedp.Click(`.cm-line`, chromedp.ByQuery), chromedp.KeyEvent("a", chromedp.KeyModifiers(input.ModifierCtrl)),
		chromedp.KeyEvent("[[job.a.step]]\nscrpt = \"make tst\"\n"), chromedp.WaitVisible(`//*[@aria-label="Found"]//*[contains(text(), "unknown key")]`), chromedp.Text(`[aria-label="Found"]`, &text))
	assert.Contains(t, text, `Did you mean "script"?`)
	do("and underlined at its place", chromedp.WaitReady(`.cm-lintRange-error`, chromedp.ByQuery), chromedp.Click(`[aria-label="Found"] button`, chromedp.ByQuery))
}

// checkSecretsAndPeople sets a secret, looks at its values, and gives somebody a role, as an administrator would; then
// as somebody who may only read.
func checkSecretsAndPeople(t *testing.T, s *server, do func(string, ...chromedp.Action)) {
	var text string
	address := "http://" + s.listen
	do("the secrets", chromedp.Navigate(address+"/tidewick"), chromedp.WaitVisible(`//h1[text()="tidewick"]`), chromedp.KeyEvent("x"), chromedp.WaitVisible(`//b[text()="STORE_KEY"]`), shows("STORE_KEY: expires"), shows("pipeline release; branch main"))
	do("set one", chromedp.Click(`//button[text()="Set a secret …"]`), chromedp.SendKeys(`//*[@role="dialog"]//label[contains(., "Name")]/following::input[1]`, "CONSOLE_KEY"),
		chromedp.SendKeys(`//label[contains(., "Value")]/following::textarea[1]`, "typed-in-the-console"), chromedp.SendKeys(`//label[contains(., "Only branches")]/following::input[1]`, "main, release/*"),
		chromedp.Click(`[role=dialog] button[type=submit]`), chromedp.WaitVisible(`//td[text()="branch main, release/*"]`), chromedp.OuterHTML(`html`, &text))
	assert.NotContains(t, text, "typed-in-the-console", "the value is nowhere on the page")
	do("what is refused says why", chromedp.WaitNotPresent(`[role=dialog]`, chromedp.ByQuery), chromedp.Click(`//button[text()="Set a secret …"]`), chromedp.SendKeys(`//*[@role="dialog"]//label[contains(., "Name")]/following::input[1]`, "SHORT"),
		chromedp.SendKeys(`//label[contains(., "Value")]/following::textarea[1]`, "abc"), chromedp.Click(`[role=dialog] button[type=submit]`), chromedp.WaitVisible(`//*[@role="alert"][contains(., "cannot be hidden")]`),
		chromedp.Click(`//*[@role="dialog"]//button[text()="Cancel"]`))
	do("its values", chromedp.WaitNotPresent(`[role=dialog]`, chromedp.ByQuery), chromedp.Click(`//tr[contains(., "CONSOLE_KEY")]//button[text()="Values"]`), chromedp.WaitVisible(`//td[text()="in use"]`), chromedp.Click(`//*[@role="dialog"]//button[text()="Cancel"]`))
	do("who did it", chromedp.Navigate(address+"/tidewick/audit?act=secret"), chromedp.WaitVisible(`//td[text()="CONSOLE_KEY"]`), chromedp.Text(`main`, &text))
	assert.Contains(t, text, "session 127.0.0.1")
	do("add somebody", chromedp.Navigate(address+"/-/people"), chromedp.WaitVisible(`//b[text()="group mobile"]`), chromedp.Click(`//button[text()="Add somebody …"]`),
		chromedp.SendKeys(`//*[@role="dialog"]//input[@type="text"]`, "greta"), chromedp.Click(`[role=dialog] button[type=submit]`), chromedp.WaitVisible(`//*[@role="alert"]//b`), chromedp.Text(`//*[@role="alert"]//b`, &text))
	password := text
	out, code := s.piston(t, "", "role", "give", "reader", "greta", "--project", "tidewick")
	require.Zero(t, code, out)
	gone := chromedp.WaitNotPresent(`[role=dialog]`, chromedp.ByQuery) // until then a click would meet what is behind it
	do("as somebody who may only read", gone, chromedp.Click(`//button[starts-with(text(), "Sign out")]`), chromedp.WaitVisible(`input[name=password]`), chromedp.Navigate(address), chromedp.WaitVisible(`input[name=name]`),
		chromedp.Evaluate(`document.querySelector('input[name=name]').value = ''`, nil), chromedp.SendKeys(`input[name=name]`, "greta"), chromedp.SendKeys(`input[name=password]`, password+"\r"), chromedp.WaitVisible(`//a[text()="tidewick"]`),
		chromedp.Click(`//a[text()="tidewick"]`), chromedp.WaitVisible(`//h1[text()="tidewick"]`), chromedp.Text(`body`, &text))
	for _, word := range []string{"Hold", "Start …", "People", "Audit"} {
		assert.NotContains(t, text, word, "what she may not is not offered")
	}
	checkYou(t, s, do, password)
	do("and back", chrome.SignIn(address, s.password))
}

// checkYou makes and revokes a token on one's own page, and changes the password, which ends the session.
func checkYou(t *testing.T, s *server, do func(string, ...chromedp.Action), password string) {
	var token string
	address := "http://" + s.listen
	do("make a token", chromedp.Click(`//a[contains(@aria-label, "your password")]`), chromedp.Click(`//button[text()="Make a token …"]`),
		chromedp.SendKeys(`//label[contains(., "What it is for")]/following::input[1]`, "nightly report"), chromedp.Click(`[role=dialog] button[type=submit]`),
		chromedp.WaitVisible(`//*[@role="alert"]//b`), chromedp.Text(`//*[@role="alert"]//b`, &token))
	me, err := client.New(address, token).WhoAmI(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "greta", me.Name)
	do("revoke it", chromedp.WaitNotPresent(`[role=dialog]`, chromedp.ByQuery), chromedp.Click(`//tr[contains(., "nightly report")]//button[text()="Revoke"]`),
		chromedp.Click(`[role=dialog] button[type=submit]`), chromedp.WaitNotPresent(`//tr[contains(., "nightly report")]`))
	_, err = client.New(address, token).WhoAmI(t.Context())
	assert.True(t, client.IsStatus(err, http.StatusUnauthorized), "%v", err)
	do("change the password", chromedp.Click(`//button[text()="Change password …"]`), chromedp.SendKeys(`input[autocomplete="current-password"]`, password),
		chromedp.SendKeys(`(//input[@autocomplete="new-password"])[1]`, "her own long password"), chromedp.SendKeys(`(//input[@autocomplete="new-password"])[2]`, "her own long password"),
		chromedp.Click(`[role=dialog] button[type=submit]`), chromedp.WaitVisible(`input[name=password]`))
	greta := *s
	greta.config = filepath.Join(t.TempDir(), "client.json")
	out, code := greta.piston(t, "her own long password\n", "sign-in", address, "--name", "greta")
	assert.Zero(t, code, out)
}

// checkMarkup looks at a log, a branch and a commit that try to be part of the page.
func checkMarkup(t *testing.T, s *server, do func(string, ...chromedp.Action)) {
	const evil = `<img src=x onerror="window.hurt=1"><script>window.hurt=1</script>`
	r := s.project(t, "markup", map[string]string{"piston/trunk.toml": onPush("cat evil; printf '\\033]8;;javascript:window.hurt=1\\033\\\\click\\033]8;;\\033\\\\\\n'; exit 1"), "evil": evil + "\nerror: " + evil + "\n"})
	r.commit("Say "+evil, map[string]string{"more": "x"})
	r.push()
	require.Equal(t, state.Failed, r.run(1, true).State)
	var hurt bool
	var links int
	do("markup stays text", chromedp.Navigate("http://"+s.listen+"/markup/1"), chromedp.WaitVisible(`//*[@role="log"]//*[contains(text(), "onerror")]`), chromedp.WaitVisible(`//h1[contains(., "onerror")]`),
		chromedp.Sleep(300*time.Millisecond), chromedp.Evaluate(`window.hurt === 1`, &hurt), chromedp.Evaluate(`document.querySelectorAll('a[href^="javascript"], img[src="x"]').length`, &links))
	assert.False(t, hurt)
	assert.Zero(t, links)
	do("and the policy would not run it", chromedp.Evaluate(`(() => { const s = document.createElement('script'); s.textContent = 'window.hurt=1'; document.body.append(s); return window.hurt === 1 })()`, &hurt))
	assert.False(t, hurt, "a script that found its way into the page does not run")
}

// checkLongLog opens a log of 200,000 lines: it must show its end at once, and any other part when scrolled to.
func checkLongLog(t *testing.T, s *server, do func(string, ...chromedp.Action)) {
	r := s.script(t, "long", "seq -f 'line %.0f of a long log' 200000")
	r.push()
	require.Equal(t, state.Passed, r.run(1, true).State)
	var total string
	began := time.Now()
	do("open a long log", chromedp.Navigate("http://"+s.listen+"/long/1"), chromedp.WaitVisible(`//*[@role="log"]//*[contains(text(), "line 200000 of a long log")]`),
		chromedp.AttributeValue(`[role=log]`, "data-total", &total, nil))
	t.Logf("a log of %s lines showed its end after %d ms", total, time.Since(began).Milliseconds())
	assert.Regexp(t, regexp.MustCompile(`^20000[0-9]$`), total)
	var frames float64
	do("scroll to the middle", chromedp.Evaluate(`document.querySelector('[role=log]').scrollTop = 100000 * 18`, nil),
		chromedp.WaitVisible(`//*[@role="log"]//*[starts-with(text(), "line 10000")]`))
	do("scroll on", chromedp.Evaluate(`new Promise(done => {
		const log = document.querySelector('[role=log]'); let n = 0, from = performance.now();
		const step = (now) => { log.scrollTop += 400; if (++n < 120) requestAnimationFrame(step); else done(1000 * n / (now - from)); };
		requestAnimationFrame(step); })`, &frames, chromedp.EvalAsValue, func(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }))
	t.Logf("scrolling ran at %.0f frames a second", frames)
	do("and what is there is drawn", chromedp.WaitVisible(`//*[@role="log"]//*[starts-with(text(), "line 1026")]`))
}
