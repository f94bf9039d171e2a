package bill

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/appfile"
)

func TestLockFilesAreRead(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"web/package-lock.json", `{"lockfileVersion":3,"packages":{"":{"version":"1"},"node_modules/@tide/a":{"version":
			"1.2.0"},"node_modules/x/node_modules/b":{"version":"3.0.1-rc.1"},"node_modules/dev":{"version":"1","dev":true}}}`,
			"pkg:npm/%40tide/a@1.2.0 pkg:npm/b@3.0.1-rc.1"},
		{"package-lock.json", `{"dependencies":{"a":{"version":"1.0.0"},"d":{"version":"1","dev":true}}}`, "pkg:npm/a@1.0.0"},
		{"ios/Podfile.lock", "PODS:\n  - Tides (1.4):\n    - Tides/Core (= 1.4)\n  - Tides/Core (1.4)\n  - Charts (2.0.1)\n" +
			"DEPENDENCIES:\n  - Tides\n", "pkg:cocoapods/Charts@2.0.1 pkg:cocoapods/Tides@1.4"},
		{"pubspec.lock", "packages:\n  tide:\n    dependency: \"direct main\"\n    version: \"1.0.2\"\n  lint:\n" +
			"    dependency: \"direct dev\"\n    version: \"1.0.0\"\n", "pkg:pub/tide@1.0.2"},
		{"app/gradle.lockfile", "# a comment\ntide.example:charts:1.2=releaseRuntimeClasspath\n" +
			"tide.example:probe:1.0=testRuntimeClasspath,debugUnitTestCompileClasspath\nempty=annotationProcessor\n",
			"pkg:maven/tide.example/charts@1.2"},
		{"App.xcodeproj/Package.resolved", `{"pins":[{"identity":"tide","location":"https://git.example/tide/core.git",
			"state":{"version":"2.1.0","revision":"abc"}}],"version":2}`, "pkg:swift/git.example/tide/core@2.1.0"},
		{"Package.resolved", `{"object":{"pins":[{"repositoryURL":"https://git.example/a","state":{"revision":"ab12"}}]}}`,
			"pkg:swift/git.example/a@ab12"},
		{"Cargo.lock", "[[package]]\nname = \"own\"\nversion = \"0.1.0\"\n[[package]]\nname = \"tide\"\nversion = \"1.0.0\"\n" +
			"source = \"registry+https://x\"\n", "pkg:cargo/tide@1.0.0"},
		{"packages.lock.json", `{"version":1,"dependencies":{"net8.0-android":{"Tide.Charts":{"type":"Direct","resolved":
			"4.1.0"},"own":{"type":"Project"}}}}`, "pkg:nuget/Tide.Charts@4.1.0"},
	} {
		require.True(t, IsLock(c.name), c.name)
		list, err := ReadLock(c.name, []byte(c.text))
		require.NoError(t, err, c.name)
		var urls []string
		for _, u := range list {
			urls = append(urls, u.URL)
		}
		slices.Sort(urls)
		assert.Equal(t, c.want, strings.Join(urls, " "), c.name)
	}
	assert.False(t, IsLock("node_modules/a/package-lock.json"))
	assert.False(t, IsLock("go.mod"))
	for name := range readers {
		_, err := ReadLock(name, []byte("{]\x00\xff: - [["))
		if name != "gradle.lockfile" {
			assert.ErrorContains(t, err, name+" cannot be read", name)
		}
	}
	for _, text := range []string{"[[package]]\nname = \"" + strings.Repeat("x", maxName+1) + "\"\nversion = \"1\"\nsource = \"s\"\n",
		"a = " + strings.Repeat("[", maxDepth+1) + strings.Repeat("]", maxDepth+1)} {
		_, err := ReadLock("Cargo.lock", []byte(text))
		assert.ErrorContains(t, err, "Cargo.lock cannot be read")
	}
	bomb := "a: &a [x,x,x,x,x,x,x,x,x]\n"
	for c := 'b'; c < 'l'; c++ {
		bomb += string(c) + ": &" + string(c) + " [" + strings.Repeat("*"+string(c-1)+",", 9) + "*" + string(c-1) + "]\n"
	}
	_, err := ReadLock("Podfile.lock", []byte(bomb+"PODS: *k\n"))
	if err != nil {
		assert.ErrorContains(t, err, "Podfile.lock cannot be read")
	}
}

func TestTheSamePackageHasTheSameBill(t *testing.T) {
	p := Package{File: "out/tide.apk", SHA256: strings.Repeat("ab", 32), At: time.Unix(1e9, 0),
		Facts: appfile.Facts{Kind: appfile.APK, ID: "net.tide", Version: "1.5.0", Build: "6", Programs: []appfile.Program{
			{Path: "lib/x86_64/libtide.so", Kind: "library", Processor: "x86_64", BuildID: "00ff"},
			{Path: "lib/arm64-v8a/libtide.so", Kind: "library", Processor: "arm64-v8a"}}},
		Used: []Used{{"b", "1", "pkg:npm/b@1", "package-lock.json"}, {"a", "1", "pkg:npm/a@1", "package-lock.json"}}}
	one, err := New(p)
	require.NoError(t, err)
	slices.Reverse(p.Used)
	slices.Reverse(p.Programs)
	two, err := New(p)
	require.NoError(t, err)
	assert.Equal(t, string(one), string(two))
	for _, what := range []string{`"bomFormat":"CycloneDX"`, `"specVersion":"1.5"`, `"purl":"pkg:npm/a@1"`, "00ff"} {
		assert.Contains(t, string(one), what)
	}
	all, used, err := Count(one)
	require.NoError(t, err)
	assert.Equal(t, []int{4, 2}, []int{all, used})
	_, _, err = Count([]byte("{"))
	assert.Error(t, err)
}
