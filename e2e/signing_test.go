package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/profile"
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
	exported := filepath.Join(t.TempDir(), "upload.p12")
	const passphrase = "the ebb and the flood"
	said, code := s.piston(t, passphrase+"\n"+passphrase+"\n", "identity", "export", "tidewick", "harbour-upload", exported)
	require.Zero(t, code, said)
	listed := program(t, "keytool", "-list", "-v", "-keystore", exported, "-storetype", "PKCS12", "-storepass", passphrase)
	assert.Contains(t, listed, upload.Fingerprints.SHA256)
	assert.Contains(t, listed, "PrivateKeyEntry")
	strict := program(t, "jarsigner", "-verify", "-strict", "-keystore", exported, "-storepass", passphrase,
		filepath.Join(dir, "tidewick.aab"))
	assert.Contains(t, strict, "jar verified")

	checkProvenance(t, s, apk)
	page, err := s.cl.Signatures(t.Context(), "tidewick", api.SignatureFilter{Run: 6, Limit: 50})
	require.NoError(t, err)
	require.Len(t, page.Signatures, 9, "three of each APK, one of the bundle, two of the app")
	for _, g := range page.Signatures {
		assert.Equal(t, []any{"release", "main", "net.tidewick.almanac", "local"}, []any{g.Pipeline, g.Branch, g.App, g.Runner})
	}
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

	file, password := keyFile(t, t.TempDir())
	out, code = s.piston(t, password, "identity", "rotate", "rotates", "play", file)
	require.Zero(t, code, out)
	third, err := s.cl.Identity(t.Context(), "rotates", "play")
	require.NoError(t, err)
	assert.Equal(t, "CN=Tidewick by hand,OU=TIDEWICK00", third.Subject)
	assert.Equal(t, []string{first.Fingerprints.SHA256, second.Fingerprints.SHA256}, third.Follows)
}

func TestASigningThatIsKilledLeavesNoHalfPackage(t *testing.T) {
	dir := t.TempDir()
	apk, into := filepath.Join(dir, "tide.apk"), filepath.Join(dir, "out")
	require.NoError(t, os.WriteFile(apk, []byte(apkOf(t, "", 3_000_000)), 0o600))
	args := []string{"sign", "--throw-away", "--into", into, apk}
	made := filepath.Join(into, "tide.apk")
	for wait := 30 * time.Millisecond; wait < 200*time.Millisecond; wait += 30 * time.Millisecond {
		cmd := exec.Command(binary(), args...)
		require.NoError(t, cmd.Start())
		time.Sleep(wait)
		_ = cmd.Process.Kill() // it may have ended
		_ = cmd.Wait()
		if _, err := os.Stat(made); err == nil {
			program(t, "apksigner", "verify", made)
			require.NoError(t, os.Remove(made))
		}
	}
	out, code := localPiston(t, "", args...)
	require.Zero(t, code, "what a killed one left stands in nobody's way: %s", out)
	program(t, "apksigner", "verify", made)
}
