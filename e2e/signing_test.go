package e2e

import (
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"debug/macho"
	"encoding/base64"
	endian "encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"howett.net/plist"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// checkSignatures looks at what the demo's release signed with programs that are not ours, and with a checker that
// shares no code with the signer.
func checkSignatures(t *testing.T, s *server, dir string) {
	upload, err := s.cl.Identity(t.Context(), "tidewick", "harbour-upload")
	require.NoError(t, err)
	apk := filepath.Join(dir, "tidewick.apk")
	verifyAPK(t, apk, upload.Fingerprints.SHA256)
	out := program(t, "jarsigner", "-verify", "-verbose", filepath.Join(dir, "tidewick.aab"))
	assert.Contains(t, out, "jar verified")
	assert.NotContains(t, out, "unsigned entries")
	checkApp(t, filepath.Join(dir, "Payload/Tidewick.app"))

	checkProvenance(t, s, apk)
	page, err := s.cl.Signatures(t.Context(), "tidewick", api.SignatureFilter{Run: 6, Limit: 50})
	require.NoError(t, err)
	require.Len(t, page.Signatures, 6, "three of the APK, one of the bundle, two of the app")
	for _, g := range page.Signatures {
		assert.Equal(t, []any{"release", "main", "net.tidewick.almanac", "local"}, []any{g.Pipeline, g.Branch, g.App, g.Runner})
	}
}

// verifyAPK has each scheme verified on its own, by the systems that go by it.
func verifyAPK(t *testing.T, apk, fingerprint string) {
	for scheme, span := range map[string][2]string{"v1": {"21", "23"}, "v2": {"24", "27"}, "v3": {"28", "34"}} {
		out := program(t, "apksigner", "verify", "-v", "--print-certs", "--min-sdk-version", span[0], "--max-sdk-version",
			span[1], apk)
		assert.Regexp(t, `Verified using `+scheme+` scheme [^:]*: true`, out)
		assert.Contains(t, out, strings.ToLower(strings.ReplaceAll(fingerprint, ":", "")))
	}
	program(t, "zipalign", "-c", "4", apk)
	program(t, "unzip", "-tq", apk)
}

// checkApp checks each program in an app, and the seals of its folders.
func checkApp(t *testing.T, app string) {
	checkProgram(t, filepath.Join(app, "Tidewick"), filepath.Join(app, "Info.plist"),
		filepath.Join(app, "_CodeSignature/CodeResources"))
	framework := filepath.Join(app, "Frameworks/Tides.framework")
	checkProgram(t, filepath.Join(framework, "Tides"), filepath.Join(framework, "Info.plist"),
		filepath.Join(framework, "_CodeSignature/CodeResources"))
	for _, dir := range []string{framework, app} {
		checkSeal(t, dir)
	}
}

// seal is what another program makes of a seal.
func readSeal(t *testing.T, name string) (out struct {
	Files  map[string][]byte `plist:"files"`
	Files2 map[string]struct {
		Hash2 []byte `plist:"hash2"`
	} `plist:"files2"`
}) {
	text := program(t, "plistutil", "-f", "xml", "-i", name)
	_, err := plist.Unmarshal([]byte(text), &out)
	require.NoError(t, err)
	return out
}

func checkSeal(t *testing.T, dir string) {
	seal := readSeal(t, filepath.Join(dir, "_CodeSignature/CodeResources"))
	info, err := os.ReadFile(filepath.Join(dir, "Info.plist"))
	require.NoError(t, err)
	var about struct{ CFBundleExecutable string }
	_, err = plist.Unmarshal(info, &about)
	require.NoError(t, err)
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		name, _ := filepath.Rel(dir, path)
		if d.IsDir() || name == about.CFBundleExecutable || strings.HasPrefix(name, "_CodeSignature/") {
			return nil
		}
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		short, long := sha1.Sum(b), sha256.Sum256(b)
		assert.Equal(t, short[:], seal.Files[name], name)
		if name != "Info.plist" {
			assert.Equal(t, long[:], seal.Files2[name].Hash2, name)
		}
		return nil
	}))
}

// signatureOf cuts the signature out of a program, by the standard library's reader.
func signatureOf(t *testing.T, b []byte) (signature []byte, at int) {
	f, err := macho.NewFile(bytes.NewReader(b))
	require.NoError(t, err)
	for _, l := range f.Loads {
		raw := l.Raw()
		if f.ByteOrder.Uint32(raw) == 0x1d {
			at = int(f.ByteOrder.Uint32(raw[8:]))
			return b[at : at+int(f.ByteOrder.Uint32(raw[12:]))], at
		}
	}
	require.Fail(t, "the program has no signature")
	return nil, 0
}

func slotOf(signature []byte, slot uint32) []byte {
	for i := range endian.BigEndian.Uint32(signature[8:]) {
		if entry := signature[12+8*i:]; endian.BigEndian.Uint32(entry) == slot {
			at := endian.BigEndian.Uint32(entry[4:])
			return signature[at : at+endian.BigEndian.Uint32(signature[at+4:])]
		}
	}
	return nil
}

// pagesOf are the sums of pages that a code directory has.
func pagesOf(directory []byte) (pages [][]byte, limit int) {
	u32 := func(at int) int { return int(endian.BigEndian.Uint32(directory[at:])) }
	for i := range u32(28) {
		pages = append(pages, directory[u32(16)+32*i:][:32])
	}
	return pages, u32(32)
}

// checkProgram checks a signature as a device does, with openssl for the envelope.
func checkProgram(t *testing.T, name, info, resources string) {
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	signature, at := signatureOf(t, b)
	directory := slotOf(signature, 0)
	pages, limit := pagesOf(directory)
	require.Equal(t, at, limit, "all up to the signature is signed")
	for i, sum := range pages {
		want := sha256.Sum256(b[i*4096 : min((i+1)*4096, limit)])
		require.Equal(t, want[:], sum, "%s, page %d", name, i)
	}
	hashes := int(endian.BigEndian.Uint32(directory[16:]))
	for slot, file := range map[int]string{1: info, 3: resources} {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		want := sha256.Sum256(text)
		assert.Equal(t, want[:], directory[hashes-32*slot:][:32], file)
	}
	dir := t.TempDir()
	cms, content := filepath.Join(dir, "cms"), filepath.Join(dir, "directory")
	require.NoError(t, os.WriteFile(cms, slotOf(signature, 0x10000)[8:], 0o600))
	require.NoError(t, os.WriteFile(content, directory, 0o600))
	program(t, "openssl", "cms", "-verify", "-noverify", "-inform", "der", "-binary", "-in", cms, "-content", content,
		"-out", filepath.Join(dir, "out"))
	parsed := program(t, "openssl", "asn1parse", "-inform", "der", "-in", cms)
	sum := sha256.Sum256(directory)
	assert.Contains(t, parsed, strings.ToUpper(hex.EncodeToString(sum[:])), "the hash stands in the signed attributes")
	list := base64.StdEncoding.EncodeToString(sum[:20])
	assert.Contains(t, strings.Join(strings.Fields(string(slotOf(signature, 0x10000))), ""), list)
}

// keyFile makes a key as PKCS #12, with a program that is not ours.
func keyFile(t *testing.T, dir string) (file, password string) {
	password = "the ebb and the flood"
	key, cert := filepath.Join(dir, "key.pem"), filepath.Join(dir, "cert.pem")
	program(t, "openssl", "req", "-x509", "-newkey", "rsa:3072", "-nodes", "-keyout", key, "-out", cert, "-days", "3650",
		"-subj", "/CN=Tidewick by hand/OU=TIDEWICK00")
	file = filepath.Join(dir, "key.p12")
	program(t, "openssl", "pkcs12", "-export", "-inkey", key, "-in", cert, "-out", file, "-passout", "pass:"+password)
	return file, password
}

func localPiston(t *testing.T, stdin string, args ...string) (string, int) {
	cmd := exec.Command(binary(), args...)
	cmd.Stdin = strings.NewReader(stdin)
	out, err := cmd.CombinedOutput()
	if err != nil && cmd.ProcessState == nil {
		require.NoError(t, err)
	}
	return string(out), cmd.ProcessState.ExitCode()
}

func TestPackagesAreSignedFromTheCommandLine(t *testing.T) {
	dir := t.TempDir()
	file, password := keyFile(t, dir)
	key, err := os.ReadFile(file)
	require.NoError(t, err)
	s, err := identity.Import(identity.File{Data: key, Password: password})
	require.NoError(t, err)
	fingerprint := identity.FingerprintsOf(s.Leaf()).SHA256
	apk := filepath.Join(dir, "tide.apk")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "AndroidManifest.xml"), []byte(`<manifest
		xmlns:android="http://schemas.android.com/apk/res/android" package="net.tidewick.tide" android:versionCode="3"
		android:versionName="1.2"><uses-sdk android:minSdkVersion="21"/><application android:hasCode="false"/></manifest>`),
		0o600))
	program(t, "aapt", "package", "-f", "-M", filepath.Join(dir, "AndroidManifest.xml"), "-I",
		"/usr/share/android-framework-res/framework-res.apk", "-F", apk)

	out, code := localPiston(t, password+"\n", "sign", "--key", file, "--into", filepath.Join(dir, "signed"), "--beside",
		"--json", apk)
	require.Zero(t, code, out)
	var made []struct {
		ID      string
		Files   []string
		Schemes []string
	}
	require.NoError(t, json.Unmarshal([]byte(out), &made))
	require.Len(t, made, 1)
	assert.Equal(t, "net.tidewick.tide", made[0].ID)
	require.Len(t, made[0].Files, 2)
	verifyAPK(t, made[0].Files[0], fingerprint)
	assert.Regexp(t, `Verified using v4 scheme [^:]*: true`, program(t, "apksigner", "verify", "-v",
		"--v4-signature-file", made[0].Files[1], made[0].Files[0]))

	out, code = localPiston(t, password+"\n", "sign", "--key", file, "--into", filepath.Join(dir, "signed"), apk)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "is not written over")
	out, code = localPiston(t, "wrong\n", "sign", "--key", file, "--into", dir, apk)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "the password does not open the file")
	// What others have signed is signed anew.
	program(t, "apksigner", "sign", "--ks", file, "--ks-pass", "pass:"+password, apk)
	out, code = localPiston(t, password+"\n", "sign", "--key", file, "--into", filepath.Join(dir, "anew"), apk)
	require.Zero(t, code, out)
	verifyAPK(t, filepath.Join(dir, "anew", "tide.apk"), fingerprint)
}

func TestPagesAreSummedAsTheLinkerDoes(t *testing.T) {
	dir := t.TempDir()
	app := filepath.Join(dir, "Tide.app")
	require.NoError(t, os.Mkdir(app, 0o755))
	stubs := filepath.Join("..", "demo", "tidewick", "ios", "stubs")
	source := filepath.Join(dir, "main.c")
	require.NoError(t, os.WriteFile(source, []byte("static const char table[200000] = {1, 2, 3};\n"+
		"int main(int n, char **v) { (void)v; return table[n]; }\n"), 0o600))
	program(t, "clang", "--target=arm64-apple-ios14.0", "-ffreestanding", "-c", "-o", filepath.Join(dir, "main.o"), source)
	linker, err := filepath.Glob("/usr/lib/llvm-*/bin/ld64.lld")
	require.NoError(t, err)
	require.NotEmpty(t, linker)
	program(t, linker[0], "-arch", "arm64", "-platform_version", "ios", "14.0", "14.0", "-adhoc_codesign", "-o",
		filepath.Join(app, "Tide"), filepath.Join(dir, "main.o"), filepath.Join(stubs, "libSystem.tbd"))
	require.NoError(t, os.WriteFile(filepath.Join(app, "Info.plist"), []byte(`<plist version="1.0"><dict>
		<key>CFBundleIdentifier</key><string>net.tidewick.tide</string><key>CFBundleExecutable</key><string>Tide</string>
		</dict></plist>`), 0o600))
	linked, err := os.ReadFile(filepath.Join(app, "Tide"))
	require.NoError(t, err)
	before, _ := signatureOf(t, linked)

	file, password := keyFile(t, dir)
	key, err := os.ReadFile(file)
	require.NoError(t, err)
	s, err := identity.Import(identity.File{Data: key, Password: password})
	require.NoError(t, err)
	raw, err := profile.StandIn(s, s.Leaf(), "TIDEWICK00", "net.tidewick.tide", time.Now(), time.Now().AddDate(1, 0, 0))
	require.NoError(t, err)
	profileFile := filepath.Join(dir, "tide.mobileprovision")
	require.NoError(t, os.WriteFile(profileFile, raw, 0o600))
	out, code := localPiston(t, password+"\n", "sign", "--key", file, "--profile", profileFile, "--into", dir, app)
	require.Zero(t, code, out)
	program(t, "unzip", "-q", filepath.Join(dir, "Tide.ipa"), "-d", filepath.Join(dir, "out"))
	signed := filepath.Join(dir, "out", "Payload", "Tide.app")
	checkProgram(t, filepath.Join(signed, "Tide"), filepath.Join(signed, "Info.plist"),
		filepath.Join(signed, "_CodeSignature", "CodeResources"))
	b, err := os.ReadFile(filepath.Join(signed, "Tide"))
	require.NoError(t, err)
	after, _ := signatureOf(t, b)
	theirs, limit := pagesOf(slotOf(before, 0))
	ours, same := pagesOf(slotOf(after, 0))
	require.Equal(t, limit, same)
	require.Greater(t, len(theirs), 40)
	require.NotEqual(t, theirs[0], ours[0], "how long the signature is stands in the first page")
	assert.Equal(t, theirs[1:], ours[1:])
	assert.Equal(t, fmt.Sprint(len(theirs)), fmt.Sprint(len(ours)))
}

// apkOf makes a package, with a permission more, or so many bytes of assets.
func apkOf(t *testing.T, permission string, assets int) string {
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
	noise := make([]byte, assets)
	for i := range noise {
		sum := sha256.Sum256([]byte(fmt.Sprint(i)))
		noise[i] = sum[0]
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "assets", "tides.bin"), noise, 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "res", "drawable-mdpi"), 0o755))
	icon, err := os.ReadFile("../demo/tidewick/android/res/drawable-mdpi/icon.png")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "res", "drawable-mdpi", "icon.png"), icon, 0o600))
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
	key, code := s.piston(t, "", "statement-key")
	require.Zero(t, code, key)
	dir := t.TempDir()
	file := filepath.Join(dir, "tidewick.apk")
	for name, text := range map[string]string{file: string(b), file + ".provenance.json": statement,
		filepath.Join(dir, "service.pem"): key} {
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
		"net.tidewick.almanac 1.5.0 (6)", "clang", "size = minor"} {
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
	do("on its run's page, too", chromedp.Navigate(address+"/tidewick/16"),
		chromedp.WaitVisible(`//section[@aria-label="Packages"]//a[text()="tidewick.apk"]`), shows("2 against"))
	do("one that was stopped", chromedp.Navigate(address+"/tidewick/packages/6"),
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

func TestARotatedKeySignsForOldAndNewDevices(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "rotates", map[string]string{"tide.apk": apkOf(t, "", 100), "piston/trunk.toml": `
[trigger.push]
[[job.main.step]]
sign = { files = ["*.apk"], into = "out" }
[job.main.keep.packages]
files = ["out/*"]
`})
	out, code := s.piston(t, "", "identity", "make", "rotates", "play", "--platform", "android", "--key", "rsa-3072")
	require.Zero(t, code, out)
	first, err := s.cl.Identity(t.Context(), "rotates", "play")
	require.NoError(t, err)
	r.push()
	r.passes(1)
	out, code = s.piston(t, "", "identity", "rotate", "rotates", "play", "--key", "p256")
	require.Zero(t, code, out)
	assert.Contains(t, out, "follows  "+first.Fingerprints.SHA256)
	second, err := s.cl.Identity(t.Context(), "rotates", "play")
	require.NoError(t, err)
	r.commit("Again", map[string]string{"note": "x"})
	r.push()
	r.passes(2)
	dir := t.TempDir()
	out, code = s.piston(t, "", "get", "rotates", "2", "--to", dir)
	require.Zero(t, code, out)
	apk := filepath.Join(dir, "tide.apk")
	plain := func(fingerprint string) string { return strings.ToLower(strings.ReplaceAll(fingerprint, ":", "")) }
	for levels, want := range map[[2]string]string{{"21", "23"}: first.Fingerprints.SHA256,
		{"24", "27"}: first.Fingerprints.SHA256, {"28", "34"}: second.Fingerprints.SHA256} {
		said := program(t, "apksigner", "verify", "--print-certs", "--min-sdk-version", levels[0], "--max-sdk-version",
			levels[1], apk)
		assert.Contains(t, said, plain(want), levels)
	}
	said := program(t, "apksigner", "lineage", "--in", apk, "--print-certs")
	assert.Contains(t, said, plain(first.Fingerprints.SHA256))
	assert.Contains(t, said, plain(second.Fingerprints.SHA256))
}
