package packaging

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"image"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/appbundle"
	"gentlepiston.example/piston/core/appfile"
)

const frameworkFile = "/usr/share/android-framework-res/framework-res.apk"

const baseManifest = `<manifest xmlns:android="http://schemas.android.com/apk/res/android" package="net.tidewick.almanac"
  android:versionCode="7" android:versionName="1.2">
  <uses-sdk android:minSdkVersion="23" android:targetSdkVersion="29"/>
  <uses-permission android:name="android.permission.INTERNET"/>
  <application android:label="@string/app" android:icon="@drawable/icon"
    android:networkSecurityConfig="@xml/net" android:extractNativeLibs="false">
    <activity android:name=".Main" android:label="@string/app"/>
  </application>
</manifest>`

const networkSettings = `<network-security-config><base-config cleartextTrafficPermitted="false"/>
  <domain-config cleartextTrafficPermitted="true"><domain includeSubdomains="true">gauge.tidewick.example</domain>
    <domain-config cleartextTrafficPermitted="false"><domain>a.tidewick.example</domain></domain-config>
  </domain-config></network-security-config>`

const chartsManifest = `<manifest xmlns:android="http://schemas.android.com/apk/res/android" package="net.tidewick.almanac"
  xmlns:dist="http://schemas.android.com/apk/distribution" android:versionCode="7" split="charts">
  <dist:module dist:instant="false"><dist:fusing dist:include="true"/></dist:module>
  <uses-permission android:name="android.permission.CAMERA"/>
  <uses-permission android:name="android.permission.INTERNET"/>
  <application android:label="other">
    <activity android:name=".Chart" android:label="@string/chart"/>
    <activity android:name=".Main" android:label="not this"/>
  </application>
</manifest>`

// run runs a program that is not ours.
func run(t *testing.T, name string, args ...string) string {
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s %v: %s", name, args, out)
	return string(out)
}

// linked is a module as aapt2 links it, with files added.
func linked(t *testing.T, dir, name, manifest string, files map[string]string, args ...string) string {
	require.NoError(t, os.MkdirAll(filepath.Join(dir, name), 0o755))
	for at, text := range files {
		at = filepath.Join(dir, name, at)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
	}
	at := func(ext string) string { return filepath.Join(dir, name+ext) }
	require.NoError(t, os.WriteFile(at(".xml"), []byte(manifest), 0o644))
	run(t, "aapt2", "compile", "--dir", filepath.Join(dir, name, "in"), "-o", at(".flat.zip"))
	run(t, "aapt2", append([]string{"link", "--proto-format", "-o", at(".zip"), "-I", frameworkFile, "--manifest",
		at(".xml"), at(".flat.zip")}, args...)...)
	added := exec.Command("zip", "-q", "-r", "-D", at(".zip"), ".", "-x", "./in/*", "-x", "in/*")
	added.Dir = filepath.Join(dir, name)
	out, err := added.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return at(".zip")
}

func picture(t *testing.T, size int) string {
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, image.NewGray(image.Rect(0, 0, size, size))))
	return b.String()
}

func text(name, text string) string {
	return fmt.Sprintf(`<resources><string name="%s">%s</string></resources>`, name, text)
}

// modules are those of an app with a feature.
func modules(t *testing.T) (dir string, list []string) {
	dir = t.TempDir()
	base := linked(t, dir, "base", baseManifest, map[string]string{
		"in/values/s.xml": text("app", "Tidewick"), "in/values-de/s.xml": text("app", "Gezeiten"),
		"in/values-fr/s.xml":          text("app", "Marées"),
		"in/xml/net.xml":              networkSettings,
		"in/drawable-mdpi/icon.png":   picture(t, 48),
		"in/drawable-xxhdpi/icon.png": picture(t, 144),
		"classes.dex":                 "first", "lib/arm64-v8a/libtide.so": strings.Repeat("a", 5000),
		"lib/x86_64/libtide.so": "x", "assets/table": "tables", "notice.txt": "of the root"})
	charts := linked(t, dir, "charts", chartsManifest, map[string]string{
		"in/values/s.xml": text("chart", "Chart"), "in/values-de/s.xml": text("chart", "Seekarte"),
		"classes.dex": "second", "classes2.dex": "third", "assets/chart": "north"},
		"--package-id", "0x80", "--allow-reserved-package-id")
	return dir, []string{charts, base}
}

func entries(t *testing.T, name string) map[string]*zip.File {
	r, err := zip.OpenReader(name)
	require.NoError(t, err)
	t.Cleanup(func() { r.Close() })
	out := map[string]*zip.File{}
	for _, f := range r.File {
		out[f.Name] = f
	}
	return out
}

func TestAnAppBundleAndTheAPKsOfIt(t *testing.T) {
	ctx := context.Background()
	dir, list := modules(t)
	at := func(name string) string { return filepath.Join(dir, "out", name) }
	require.NoError(t, os.WriteFile(filepath.Join(dir, "mapping.txt"), []byte("a -> b"), 0o644))
	pack := Pack{Modules: list, Mapping: filepath.Join(dir, "mapping.txt"), Into: at("tide.aab")}
	made, err := pack.Make(ctx)
	require.NoError(t, err)
	assert.Equal(t, appbundle.About{ID: "net.tidewick.almanac", Version: "1.2", Build: "7",
		Modules: []string{"base", "charts"}, Processors: []string{"arm64-v8a", "x86_64"}}, made.About)
	got := entries(t, at("tide.aab"))
	for _, name := range []string{"BundleConfig.pb", "base/manifest/AndroidManifest.xml", "base/resources.pb",
		"base/dex/classes.dex", "base/lib/arm64-v8a/libtide.so", "base/native.pb", "base/root/notice.txt",
		"charts/dex/classes2.dex", "charts/assets/chart", mappingEntry} {
		assert.Contains(t, got, name)
	}
	assert.NotContains(t, got, "charts/native.pb")

	pack.Into = at("again.aab")
	_, err = pack.Make(ctx)
	require.NoError(t, err)
	one, err := os.ReadFile(at("tide.aab"))
	require.NoError(t, err)
	two, err := os.ReadFile(at("again.aab"))
	require.NoError(t, err)
	assert.Equal(t, one, two, "the same modules give the same bytes")

	all, err := Pack{Bundle: at("tide.aab"), Into: at("all.apk")}.Make(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"base", "charts"}, all.Modules)
	said := run(t, "aapt2", "dump", "badging", at("all.apk"))
	for _, what := range []string{"name='net.tidewick.almanac' versionCode='7' versionName='1.2'", "CAMERA", "INTERNET",
		"application-label-de:'Gezeiten'", "application-label-fr:'Marées'", "native-code: 'arm64-v8a' 'x86_64'"} {
		assert.Contains(t, said, what)
	}
	manifest := run(t, "aapt2", "dump", "xmltree", "--file", "AndroidManifest.xml", at("all.apk"))
	assert.Contains(t, manifest, "Chart", "a feature's activity is in the one APK")
	assert.Equal(t, 1, strings.Count(manifest, `".Main" (Raw`), "what both have is as the base has it: %s", manifest)
	assert.Contains(t, run(t, "aapt2", "dump", "resources", at("all.apk")), "Seekarte")
	got = entries(t, at("all.apk"))
	assert.Contains(t, got, "classes3.dex", "code of a feature comes after that of the base")
	assert.Contains(t, got, "notice.txt")
	assert.Equal(t, zip.Store, got["lib/arm64-v8a/libtide.so"].Method, "the manifest says that it is mapped")
	run(t, "zipalign", "-c", "-p", "4", at("all.apk"))
	for _, name := range []string{"tide.aab", "all.apk"} {
		seen, _, err := Inspect(ctx, at(name), Looking{Search: true})
		require.NoError(t, err)
		assert.Equal(t, []appfile.Domain{{Name: "a.tidewick.example"},
			{Name: "gauge.tidewick.example", Below: true, Cleartext: true}}, seen.Domains, name)
		assert.NotEmpty(t, seen.Picture, name)
		assert.Empty(t, seen.Unsplit)
	}
	looked, err := Look(at("all.apk"))
	require.NoError(t, err)
	assert.Equal(t, appfile.APK, looked.Kind)

	_, err = Pack{Bundle: at("tide.aab"), Into: at("phone.apk"), Device: &appbundle.Device{Processor: "arm64-v8a",
		Density: 420, Languages: []string{"de"}, Level: 28}}.Make(ctx)
	require.NoError(t, err)
	got = entries(t, at("phone.apk"))
	assert.NotContains(t, got, "lib/x86_64/libtide.so")
	assert.NotContains(t, got, "res/drawable-mdpi-v4/icon.png", "of another density")
	assert.Contains(t, got, "res/drawable-xxhdpi-v4/icon.png")
	said = run(t, "aapt2", "dump", "badging", at("phone.apk"))
	assert.Contains(t, said, "Gezeiten")
	assert.NotContains(t, said, "Marées")
}

const mappingEntry = "BUNDLE-METADATA/com.android.tools.build.obfuscation/proguard.map"

func TestWhatIsNoSetOfModules(t *testing.T) {
	ctx := context.Background()
	dir, list := modules(t)
	charts, base := list[0], list[1]
	into := filepath.Join(dir, "no", "tide.aab")
	older := linked(t, dir, "older", strings.Replace(chartsManifest, `Code="7"`, `Code="6"`, 1),
		map[string]string{"in/values/s.xml": text("chart", "x"), "classes.dex": "x"})
	clash := linked(t, dir, "clash", strings.Replace(chartsManifest, "charts", "depths", 1),
		map[string]string{"in/values/s.xml": text("chart", "x"), "classes.dex": "x"})
	apk := filepath.Join(dir, "tide.apk")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "text"), []byte("text"), 0o644))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	for what, p := range map[string]Pack{
		"none of the modules is the base": {Modules: []string{charts}},
		"it is a base, too":               {Modules: []string{base, base}},
		"is called charts, as":            {Modules: []string{base, charts, charts}},
		"its versionCode is \"6\"":        {Modules: []string{base, older}},
		"aapt2 link --proto-format":       {Modules: []string{samples + "signed.apk"}},
		"no ZIP archive":                  {Modules: []string{filepath.Join(dir, "text")}},
		"no such file":                    {Modules: []string{filepath.Join(dir, "none.zip")}},
		"is a directory":                  {Modules: []string{base}, Mapping: dir},
	} {
		p.Into = into
		_, err := p.Make(ctx)
		assert.ErrorContains(t, err, what)
	}
	_, err := Pack{Modules: []string{base, clash}, Into: filepath.Join(dir, "clash.aab")}.Make(ctx)
	require.NoError(t, err)
	for what, p := range map[string]Pack{
		"package id 0x7f":             {Bundle: filepath.Join(dir, "clash.aab")},
		"the app is for 23 and later": {Bundle: filepath.Join(dir, "clash.aab"), Device: &appbundle.Device{Level: 22}},
		"none that \"riscv64\" runs": {Bundle: filepath.Join(dir, "good.aab"),
			Device: &appbundle.Device{Processor: "riscv64"}},
		"it is no app bundle": {Bundle: base},
		"it is no file":       {Bundle: filepath.Join(dir, "pipe")},
	} {
		if strings.HasSuffix(p.Bundle, "good.aab") {
			_, err := Pack{Modules: []string{base}, Into: p.Bundle}.Make(ctx)
			require.NoError(t, err)
		}
		if p.Device != nil && p.Device.Level > 0 {
			p.Bundle = filepath.Join(dir, "level.aab")
			_, err := Pack{Modules: []string{base}, Into: p.Bundle}.Make(ctx)
			require.NoError(t, err)
		}
		p.Into = apk
		_, err := p.Make(ctx)
		assert.ErrorContains(t, err, what)
	}
	assert.NoFileExists(t, apk)
	left, err := filepath.Glob(filepath.Join(dir, ".packing-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	_, err = Pack{Modules: []string{base}, Into: filepath.Join(dir, "good.aab")}.Make(ctx)
	assert.ErrorIs(t, err, os.ErrExist, "what is there is not written over")
}
