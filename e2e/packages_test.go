package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// apkOf makes a package, with a permission more, or so many bytes of assets.
func apkOf(t *testing.T, permission string, assets int) string {
	t.Helper()
	noise := make([]byte, assets)
	for i := range noise {
		sum := sha256.Sum256([]byte(fmt.Sprint(i)))
		noise[i] = sum[0]
	}
	return apkWith(t, permission, noise)
}

// apkWith makes a package that holds an asset.
func apkWith(t *testing.T, permission string, asset []byte) string {
	t.Helper()
	dir := t.TempDir()
	uses := ""
	if permission != "" {
		uses = `<uses-permission android:name="` + permission + `"/>`
	}
	manifest := filepath.Join(dir, "AndroidManifest.xml")
	require.NoError(t, os.WriteFile(manifest, []byte(`<manifest
		xmlns:android="http://schemas.android.com/apk/res/android" package="net.tidewick.tide" android:versionCode="3"
		android:versionName="1.2"><uses-sdk android:minSdkVersion="21" android:targetSdkVersion="30"/>
		<uses-permission android:name="android.permission.INTERNET"/>`+uses+`
		<application android:hasCode="false" android:icon="@drawable/icon"/></manifest>`), 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "assets"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "assets", "tides.bin"), asset, 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "res", "drawable-xxhdpi"), 0o755))
	icon, err := os.ReadFile("../demo/tidewick/android/res/drawable-xxhdpi/icon.png")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "res", "drawable-xxhdpi", "icon.png"), icon, 0o600))
	apk := filepath.Join(dir, "tide.apk")
	program(t, "aapt", "package", "-f", "-M", manifest, "-S", filepath.Join(dir, "res"), "-A", filepath.Join(dir, "assets"),
		"-I", "/usr/share/android-framework-res/framework-res.apk", "-F", apk)
	b, err := os.ReadFile(apk)
	require.NoError(t, err)
	return string(b)
}

func TestAReleaseThatMustNotLeaveIsStoppedWithAClearWord(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "leaves", map[string]string{"tide.apk": apkOf(t, "", 60_000), "piston/app.toml": `
[app.tide]
android = "net.tidewick.tide"
[app.tide.checklist]
target = 30
growth = 25
`, "piston/trunk.toml": `
[trigger.push]
[[job.main.step]]
sign = { files = ["*.apk"], into = "out" }
[[job.main.step]]
checklist = { files = ["out/*"] }
[job.main.keep.packages]
files = ["out/*"]
`})
	made := func() {
		out, code := s.piston(t, "", "identity", "make", "leaves", "play", "--platform", "android", "--key", "p256")
		require.Zero(t, code, out)
	}
	made()
	r.push()
	r.passes(1)
	stopped := func(number record.RunNumber, says string) {
		t.Helper()
		d := r.run(number, true)
		assert.Equal(t, state.Failed, d.Run.State)
		require.NotNil(t, d.Failure)
		assert.Contains(t, d.Failure.Reason, says)
	}
	r.commit("Read the contacts", map[string]string{"tide.apk": apkOf(t, "android.permission.READ_CONTACTS", 60_000)})
	r.push()
	stopped(2, "it may do more than what the last one could: android.permission.READ_CONTACTS")
	r.commit("More charts", map[string]string{"tide.apk": apkOf(t, "", 95_000)})
	r.push()
	stopped(3, "per cent, from")
	out, code := s.piston(t, "", "packages", "leaves")
	require.Zero(t, code, out)
	assert.Equal(t, 2, strings.Count(out, "1 against"), out)
	page, err := s.cl.Packages(t.Context(), "leaves", api.PackageFilter{Run: 3, Limit: 5})
	require.NoError(t, err)
	require.Len(t, page.Packages, 1)
	out, code = s.piston(t, "", "packages", "leaves", fmt.Sprint(page.Packages[0].ID))
	require.Zero(t, code, out)
	assert.Contains(t, out, "assets/tides.bin")
	assert.Contains(t, out, "[grown]")
	out, code = s.piston(t, "", "packages", "leaves", fmt.Sprint(page.Packages[0].ID), "--sarif")
	require.Zero(t, code, out)
	var report struct {
		Runs []struct {
			Results []struct{ RuleID, Level string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &report))
	require.Len(t, report.Runs[0].Results, 1)
	assert.Equal(t, "error", report.Runs[0].Results[0].Level)

	made() // a second key
	r.commit("As it was", map[string]string{"tide.apk": apkOf(t, "", 60_000)})
	r.push()
	stopped(4, "was signed by another certificate until now")
	i, err := s.cl.Identity(t.Context(), "leaves", "play")
	require.NoError(t, err)
	out, code = s.piston(t, "", "identity", "allow", "leaves", "net.tidewick.tide", i.Fingerprints.SHA256, "--platform",
		"android")
	require.Zero(t, code, out)
	r.commit("With the key that is allowed", map[string]string{"note": "x"})
	r.push()
	r.passes(5)

	// What is no package, half of one, or many times itself.
	for n, bad := range []string{"", "no package", apkOf(t, "", 60_000)[:30_000], "PK\x05\x06" + strings.Repeat("\xff", 18)} {
		r.commit("Broken", map[string]string{"tide.apk": bad})
		r.push()
		stopped(record.RunNumber(6+n), "tide.apk: the archive is damaged")
	}
}

// checkProvenance has a package checked where there is no service, nor any settings of one.
func checkProvenance(t *testing.T, s *server, apk string) {
	b, err := os.ReadFile(apk)
	require.NoError(t, err)
	sum := sha256.Sum256(b)
	page, err := s.cl.Packages(t.Context(), "tidewick", api.PackageFilter{SHA256: hex.EncodeToString(sum[:]), Limit: 5})
	require.NoError(t, err)
	require.Len(t, page.Packages, 1, "it is found again by its hash")
	statement, code := s.piston(t, "", "packages", "tidewick", fmt.Sprint(page.Packages[0].ID), "--provenance")
	require.Zero(t, code, statement)
	made, code := s.piston(t, "", "packages", "tidewick", fmt.Sprint(page.Packages[0].ID), "--bill")
	require.Zero(t, code, made)
	key, code := s.piston(t, "", "statement-key")
	require.Zero(t, code, key)
	dir := t.TempDir()
	file := filepath.Join(dir, "tidewick.apk")
	for name, text := range map[string]string{file: string(b), file + ".provenance.json": statement,
		file + ".bill.json": made, filepath.Join(dir, "service.pem"): key} {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	}
	verify := func() (string, int) {
		cmd := exec.Command(binary(), "verify", file, "--key", filepath.Join(dir, "service.pem"))
		cmd.Env = []string{"HOME=" + dir, "PATH=" + os.Getenv("PATH")}
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}
	out, code := verify()
	require.Zero(t, code, out)
	for _, says := range []string{"these are the bytes that were built", page.Packages[0].Commit, "release of tidewick",
		"net.tidewick.almanac 1.5.0 (6)", "clang", "size = minor", "3 components"} {
		assert.Contains(t, out, says)
	}
	require.NoError(t, os.WriteFile(file, append(b, 0), 0o600))
	out, code = verify()
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "these are not the bytes that were built")
	require.NoError(t, os.WriteFile(file, b, 0o600))
	require.NoError(t, os.WriteFile(file+".provenance.json", []byte(strings.Replace(statement, "ey", "fy", 1)), 0o600))
	out, code = verify()
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "was not signed by this key, or was changed since")
}

// checkPackagePages walks through what the console tells of packages and identities.
func checkPackagePages(do func(what string, actions ...chromedp.Action), address string) {
	do("the packages, newest first", chromedp.Navigate(address+"/tidewick/packages"),
		chromedp.WaitVisible(`//a[text()="tidewick.apk"]`), shows("2 against"), shows("meets all"))
	do("found again by the kind", chromedp.Navigate(address+"/tidewick/packages?kind=ipa"),
		chromedp.WaitVisible(`//a[text()="Tidewick.ipa"]`), chromedp.WaitNotPresent(`//a[text()="tidewick.apk"]`))
	do("on its run's page, too", chromedp.Navigate(address+"/tidewick/19"),
		chromedp.WaitVisible(`//section[@aria-label="Packages"]//a[text()="tidewick.apk"]`), shows("2 against"))
	do("one that was stopped", chromedp.Navigate(address+"/tidewick/packages/12"),
		chromedp.WaitVisible(`//section[@aria-label="Checklist"]`), shows("permission-added"), shows("185 times as much"),
		shows("assets/north-coast.bin"), shows("ACCESS_FINE_LOCATION"))
	do("into its size", chromedp.Click(`//section[@aria-label="What the size is made of"]//button[.//b[text()="assets"]]`),
		chromedp.WaitVisible(`//nav[@aria-label="Where in the package"]/button[text()="assets"]`),
		chromedp.Click(`//nav[@aria-label="Where in the package"]/button[text()="all"]`),
		chromedp.WaitVisible(`//section[@aria-label="What the size is made of"]//b[text()="native"]`))
	do("keys: up to the packages", chromedp.KeyEvent("u"), chromedp.WaitVisible(`//h1[text()="Packages"]`))
	do("the identities", chromedp.Navigate(address+"/tidewick/identities"), chromedp.WaitVisible(`//b[text()="harbour-store"]`),
		shows("no copy of the key yet"), shows("pipeline release; branch main"), shows("Signatures that were given"))
	do("make a key", chromedp.Click(`//button[contains(., "Make a key")]`),
		chromedp.SendKeys(`//*[@role="dialog"]//label[contains(., "Name")]/following::input[1]`, "spare"),
		chromedp.Click(`[role=dialog] button[type=submit]`), chromedp.WaitVisible(`//b[text()="spare"]`))
}
