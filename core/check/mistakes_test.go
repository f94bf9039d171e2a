package check

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"gentlepiston.example/piston/core/definition"
)

// here is a repository as a work tree on this disk: all of its files are tracked.
func here(files map[string]string) *Repository {
	r := tree(files)
	r.OnDisk = func(name string) bool { _, ok := files[name]; return ok }
	return r
}

// push is a pipeline that a push starts, with one step.
func push(script string, keys ...string) string {
	return "[trigger.push]\n[[job.a.step]]\nscript = '''\n" + script + "\n'''\n" + strings.Join(keys, "\n") + "\n"
}

const (
	listing   = "[trigger.push]\n[[job.a.step]]\nscript = \"true\"\n[[job.a.step]]\nchecklist = { files = [\"out/*.apk\"] }\n"
	listedApp = "[app.tide]\nandroid = \"net.tide\"\nios = \"net.tide\"\nin = [\"app\"]\n[app.tide.checklist]\ntarget = 34\n" +
		"permissions = [\"android.permission.INTERNET\"]\n"
)

// Each mistake, its code, and what is so near to it that it must not be taken for one.
var mistakes = []struct {
	name, code   string
	wrong, right map[string]string
}{
	{"the pipelines' folder is a link", "no-folder", map[string]string{"piston": "real", "real/p.toml": push("true")}, map[string]string{"piston/p.toml": push("true")}},
	{"a pipe in sh hides a failure", "hidden-failure", map[string]string{"piston/p.toml": push("make test | tee log.txt"), "Makefile": "test:\n\ttrue\n"},
		map[string]string{"piston/p.toml": push("make test | tee log.txt", `shell = "bash"`), "Makefile": "test:\n\ttrue\n"}},
	{"a pipe into grep fails by itself", "hidden-failure", map[string]string{"piston/p.toml": push("ninja 2>&1 | tail -n 20")},
		map[string]string{"piston/p.toml": push("aapt dump badging app.apk | grep -q release\ncat a | sort | tee b", `allow = []`), "app.apk": "", "a": ""}},
	{"|| true", "hidden-failure", map[string]string{"piston/p.toml": push("ninja test || true")},
		map[string]string{"piston/p.toml": push("last=$(git describe --tags || true)\ngrep -q x log || true\nrm -f x || true\nwhich jq || echo none\nninja || exit 1", `allow = ["shallow-history"]`)}},
	{"a subshell before ||", "hidden-failure", map[string]string{"piston/p.toml": push("(cd app && ninja test) || echo failed"), "app/x": ""},
		map[string]string{"piston/p.toml": push("(cd app && ninja test)"), "app/x": ""}},
	{"set +e", "hidden-failure", map[string]string{"piston/p.toml": push("set +e\nninja test")}, map[string]string{"piston/p.toml": push("set +e\nninja test\ncode=$?\nset -e\nexit $code")}},
	{"[[ under sh", "not-in-sh", map[string]string{"piston/p.toml": push("if [[ \"$CI\" == true ]]; then ninja test; fi")},
		map[string]string{"piston/p.toml": push("if [[ \"$CI\" == true ]]; then ninja test; fi", `shell = "bash"`)}},
	{"[[ in a script that sh runs", "not-in-sh", map[string]string{"piston/p.toml": push("tools/t"), "tools/t": "#!/bin/sh\nif [[ -n \"$X\" ]]; then ninja; fi\n"},
		map[string]string{"piston/p.toml": push("tools/t"), "tools/t": "#!/bin/bash\nif [[ -n \"$X\" ]]; then ninja; fi\n"}},
	{"a carriage return in a script's first line", "crlf", map[string]string{"piston/p.toml": push("tools/t"), "tools/t": "#!/bin/sh\r\nninja\r\n"},
		map[string]string{"piston/p.toml": push("tools/t"), "tools/t": "#!/bin/sh\nninja\n"}},
	{"a folder that a script file goes into", "no-folder", map[string]string{"piston/p.toml": push("tools/t"), "tools/t": "#!/bin/sh\nset -e\ncd andriod\nninja\n", "android/x": ""},
		map[string]string{"piston/p.toml": push("tools/t"), "tools/t": "#!/bin/sh\nset -e\ncd android\nninja\nmkdir -p out\ncd out\n", "android/x": ""}},
	{"a variable that nothing sets", "unset-variable", map[string]string{"piston/p.toml": push("ninja -C \"$BUILD_DIRR\"", `env = { BUILD_DIR = "out" }`)},
		map[string]string{"piston/p.toml": push("x=1; for f in a b; do echo $f $x ${Y:-} ${Z+z} $HOME $1 $# $? $PISTON_RUN; done; read -r line; echo $line $BUILD_DIR $KEY", `env = { BUILD_DIR = "out" }`, `secrets = ["KEY"]`)}},
	{"a count of commits", "shallow-history", map[string]string{"piston/p.toml": push("ninja -DCODE=$(git rev-list --count HEAD)")},
		map[string]string{"piston/p.toml": "[trigger.push]\n[job.a]\nhistory = \"full\"\n[[job.a.step]]\nscript = \"ninja -DCODE=$(git rev-list --count HEAD)\"\n"}},
	{"a version code from a count of commits in a build file", "shallow-history", map[string]string{"piston/p.toml": push("./gradlew assemble"), "gradlew": "", "app/build.gradle": "def code = 'git rev-list --count HEAD'.execute().text.trim()\n"},
		map[string]string{"piston/p.toml": push("./gradlew assemble"), "gradlew": "", "app/build.gradle": "versionCode System.getenv('PISTON_BUILD_NUMBER') as Integer\n"}},
	{"a program of another system", "other-system", map[string]string{"piston/p.toml": push("xcodebuild -scheme App")},
		map[string]string{"piston/p.toml": "[trigger.push]\n[job.a]\nmachine = [\"macos\"]\n[[job.a.step]]\nscript = \"xcodebuild -scheme App\"\n"}},
	{"a tool of another system", "other-system", map[string]string{"piston/p.toml": "[trigger.push]\n[job.a]\ntools = { xcode = \"*\" }\n[[job.a.step]]\nscript = \"true\"\n"},
		map[string]string{"piston/p.toml": "[trigger.push]\n[job.a]\nmachine = [\"macos\"]\ntools = { xcode = \"*\" }\n[[job.a.step]]\nscript = \"true\"\n"}},
	{"a fetch without network", "no-network", map[string]string{"piston/p.toml": push("npm ci", `network = "none"`), "package.json": "{}"},
		map[string]string{"piston/p.toml": push("echo curl is not called\nnpm test", `network = "none"`), "package.json": "{}"}},
	{"a package of another job, not taken", "not-taken", map[string]string{"piston/p.toml": "[trigger.push]\n[[job.build.step]]\nscript = \"ninja\"\n[job.build.keep.app]\nfiles = [\"out/*.apk\"]\n" +
		"[job.sign]\nafter = [\"build\"]\n[[job.sign.step]]\nscript = \"cat out/app.apk\"\n"},
		map[string]string{"piston/p.toml": "[trigger.push]\n[[job.build.step]]\nscript = \"ninja\"\n[job.build.hand.app]\nfiles = [\"out/*.apk\"]\n" +
			"[job.sign]\nafter = [\"build\"]\ntake = [\"build/app\"]\n[[job.sign.step]]\nscript = \"cat out/app.apk\"\n"}},
	{"two flavours that keep one name", "same-name", map[string]string{"piston/p.toml": "[trigger.push]\n[job.a]\nvariants.over = { FLAVOUR = [\"free\", \"paid\"] }\n[[job.a.step]]\nscript = \"ninja $FLAVOUR out/app.apk\"\n[job.a.keep.app]\nfiles = [\"out/app.apk\"]\n"},
		map[string]string{"piston/p.toml": "[trigger.push]\n[job.a]\nvariants.over = { FLAVOUR = [\"free\", \"paid\"] }\n[[job.a.step]]\nscript = \"ninja $FLAVOUR out/app.apk\"\n[job.a.keep.app]\nfiles = [\"out/app-${FLAVOUR}.apk\"]\n"}},
	{"a secret that proposals ask for", "secret-in-proposal", map[string]string{"piston/p.toml": "[trigger.proposal]\ninto = [\"main\"]\n[[job.a.step]]\nscript = \"ninja $KEY\"\nsecrets = [\"KEY\"]\n"},
		map[string]string{"piston/p.toml": "[trigger.proposal]\ninto = [\"main\"]\n[[job.a.step]]\nscript = \"ninja $KEY\"\nsecrets = [\"KEY\"]\nwhen = 'trusted'\n"}},
	{"an input that nothing uses", "unused-input", map[string]string{"piston/p.toml": "[input.channel]\nkind = \"text\"\n[[job.a.step]]\nscript = \"true\"\n"},
		map[string]string{"piston/p.toml": "[input.channel]\nkind = \"text\"\n[input.dry]\nkind = \"flag\"\n[[job.a.step]]\nscript = \"echo $PISTON_INPUT_CHANNEL\"\nwhen = '!input.dry'\n"}},
	{"a part that nothing uses", "unused-part", map[string]string{"piston/p.toml": push("true"), "piston/parts/old.toml": "[[step]]\nscript = \"true\"\n"},
		map[string]string{"piston/p.toml": "[[job.a.step]]\npart = \"old\"\n", "piston/parts/old.toml": "[[step]]\nscript = \"true\"\n"}},
	{"a merge marker in resources", "merge-marker", map[string]string{"piston/p.toml": push("true"), "app/res/strings.xml": "<resources>\n<<<<<<< HEAD\n<a/>\n=======\n<b/>\n>>>>>>> work\n</resources>\n"},
		map[string]string{"piston/p.toml": push("true"), "docs/merging.md": "<<<<<<< HEAD\n>>>>>>> work\n", "app/a.c": "int a = b <<<<<<< 3;\n"}},
	{"a pointer instead of a picture", "lfs-pointer", map[string]string{"piston/p.toml": push("true"), "app/icon.png": "version https://git-lfs.github.com/spec/v1\noid sha256:aa\nsize 9\n"},
		map[string]string{"piston/p.toml": push("true"), "app/icon.png": "\x89PNG\r\n"}},
	{"a path of one machine in a build file", "machine-path", map[string]string{"piston/p.toml": push("true"), "app/build.gradle": "ndkPath '/Users/wren/ndk'\n"},
		map[string]string{"piston/p.toml": push("true"), "app/build.gradle": "// ndkPath '/Users/wren/ndk'\n", "docs/a.md": "/home/wren/x"}},
	{"a submodule by ssh", "submodule-refused", map[string]string{"piston/p.toml": push("true"), ".gitmodules": "[submodule \"x\"]\n\tpath = x\n\turl = git@git.tidewick.example:charts.git\n"},
		map[string]string{"piston/p.toml": push("true"), ".gitmodules": "[submodule \"x\"]\n\tpath = x\n\turl = ../charts.git\n[submodule \"y\"]\n\tpath = y\n\turl = https://git.tidewick.example/y.git\n"}},
	{"a submodule by ssh at a port that no key is for", "submodule-refused", map[string]string{"piston/p.toml": "[trigger.push]\n[job.a.submodules]\nkey = \"CHARTS_KEY\"\nhosts = [\"git.tidewick.example ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8gISIjJCUm\"]\n[[job.a.step]]\nscript = \"true\"\n", ".gitmodules": "[submodule \"x\"]\n\tpath = x\n\turl = ssh://git@git.tidewick.example:2222/charts.git\n"},
		map[string]string{"piston/p.toml": "[trigger.push]\n[job.a.submodules]\nkey = \"CHARTS_KEY\"\nhosts = [\"[git.tidewick.example]:2222 ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8gISIjJCUm\"]\n[[job.a.step]]\nscript = \"true\"\n", ".gitmodules": "[submodule \"x\"]\n\tpath = x\n\turl = ssh://git@git.tidewick.example:2222/charts.git\n"}},
	{"a submodule inside", "submodule-refused", map[string]string{"piston/p.toml": push("true"), ".gitmodules": "[submodule \"x\"]\n\tpath = x\n\turl = https://127.0.0.1:8443/x.git\n"}, nil},
	{"a token in source", "maybe-secret", map[string]string{"piston/p.toml": push("true"), "app/Api.kt": "object Api {\n  const val API_KEY = \"aZ3kQ9x1LmT7vB2nR5yW\"\n}\n"},
		map[string]string{"piston/p.toml": push("true"), "app/Api.kt": "val token = \"com.tides.almanac.session.token.v2\"\nval passwordField: String = \"input-password-main-1\"\nval secret = \"${SECRET_OF_THE_APP_1}\"\n",
			"tests/a.kt": "val token = \"aZ3kQ9x1LmT7vB2nR5yW\"\n", "app/l.json": "{\"tokenFormat\": \"0123456789abcdefghij\"}"}},
	{"an app file with a slip", "unknown-key", map[string]string{"piston/p.toml": push("true"), "piston/app.toml": "[app.a]\nandriod = \"org.tidewick.almanac\"\n"},
		map[string]string{"piston/p.toml": push("true"), "piston/app.toml": "[app.a]\nandroid = \"org.tidewick.almanac\"\n"}},
	{"places that differ", "versions-differ", map[string]string{"piston/p.toml": raise, "VERSION": "1.5.0\n", "app/build.gradle": "android.defaultConfig.versionName = '1.4.0'\n"},
		map[string]string{"piston/p.toml": raise, "VERSION": "1.4.0\n", "app/build.gradle": "android.defaultConfig.versionName = '1.4.0'\n"}},
	{"a version that is none", "versions-differ", map[string]string{"piston/p.toml": raise, "app/build.gradle": "android.defaultConfig.versionName = 'next'\n"},
		map[string]string{"piston/p.toml": push("true"), "app/build.gradle": "android.defaultConfig.versionName = 'next'\n"}},
	{"a property list cut off", "versions-unread", map[string]string{"piston/p.toml": raise, "ios/Info.plist": "<plist><dict>"},
		map[string]string{"piston/p.toml": raise, "ios/Info.plist": "<plist><dict/></plist>"}},
	{"an id that differs in letter case", "app-id-differs", map[string]string{"piston/p.toml": raise, "piston/app.toml": "[app.a]\nios = \"org.tidewick.almanac\"\n",
		"ios/Info.plist": "<plist><dict><key>CFBundleIdentifier</key><string>org.Tidewick.almanac</string></dict></plist>"},
		map[string]string{"piston/p.toml": raise, "piston/app.toml": "[app.a]\nios = \"org.tidewick.almanac\"\n",
			"ios/Info.plist": "<plist><dict><key>CFBundleIdentifier</key><string>org.tidewick.almanac.widget</string></dict></plist>"}},
	{"a release that can be debugged", "debug-manifest", map[string]string{"piston/p.toml": raise,
		"app/src/main/AndroidManifest.xml": "<manifest>\n<!-- android:testOnly=\"true\" -->\n<application android:label=\"x\"\n  android:debuggable=\"true\"/></manifest>"},
		map[string]string{"piston/p.toml": raise, "app/src/debug/AndroidManifest.xml": "<manifest><application android:debuggable=\"true\"/></manifest>",
			"app/src/main/AndroidManifest.xml": "<manifest><application android:debuggable=\"false\"/></manifest>"}},
	{"other apps' logs", "debug-manifest", map[string]string{"piston/p.toml": raise,
		"AndroidManifest.xml": "<manifest><uses-permission android:name=\"android.permission.READ_LOGS\"/></manifest>"},
		map[string]string{"piston/p.toml": push("true"), "AndroidManifest.xml": "<manifest><uses-permission android:name=\"android.permission.READ_LOGS\"/></manifest>"}},
	{"an activity that says not who may start it", "not-exported", map[string]string{"piston/p.toml": raise,
		"AndroidManifest.xml": "<manifest><application><activity android:name=\"A\"><intent-filter/></activity></application></manifest>"},
		map[string]string{"piston/p.toml": raise, "AndroidManifest.xml": "<manifest><application><activity android:name=\"A\" android:exported=\"true\"><intent-filter/></activity>" +
			"<activity android:name=\"B\"/></application></manifest>"}},
	{"no processor with 64 bits", "no-64-bit", map[string]string{"piston/p.toml": raise, "app/build.gradle": "android {\n  ndk {\n    abiFilters 'armeabi-v7a', 'x86'\n  }\n}\n"},
		map[string]string{"piston/p.toml": raise, "app/build.gradle": "android {\n  ndk {\n    abiFilters 'armeabi-v7a', 'arm64-v8a'\n    // abiFilters 'x86'\n  }\n}\n"}},
	{"no processor with 64 bits in the release only", "no-64-bit", map[string]string{"piston/p.toml": raise, "app/build.gradle.kts": "android {\n  buildTypes {\n    debug { ndk { abiFilters += \"arm64-v8a\" } }\n    getByName(\"release\") {\n      ndk { abiFilters += setOf(\"armeabi-v7a\") }\n    }\n  }\n}\n"},
		map[string]string{"piston/p.toml": raise, "app/build.gradle.kts": "android {\n  buildTypes {\n    debug { ndk { abiFilters += \"x86\" } }\n    release {\n      ndk {\n        abiFilters.add(\"armeabi-v7a\")\n        abiFilters.add(\"arm64-v8a\")\n      }\n    }\n  }\n}\n"}},
	{"a build number that no store takes", "version-code", map[string]string{"piston/p.toml": raise, "app/build.gradle": "android.defaultConfig.versionCode = 2100000001\n"},
		map[string]string{"piston/p.toml": raise, "app/build.gradle": "android.defaultConfig.versionCode = 2100000000\n"}},
	{"a debug build by a step's variable", "debug-build", map[string]string{"piston/p.toml": "group = \"release\"\n[trigger.push]\n[[job.a.step]]\nscript = \"true\"\nenv = { BUILD = \"debug\" }\n"},
		map[string]string{"piston/p.toml": "group = \"release\"\n[trigger.push]\n[[job.a.step]]\nscript = \"true\"\nenv = { LOG_LEVEL = \"debug\" }\n"}},
	{"a debug build by a part's variable", "debug-build", map[string]string{"piston/p.toml": "group = \"release\"\n[trigger.push]\n[[job.a.step]]\npart = \"pack\"\n", "piston/parts/pack.toml": "[[step]]\nscript = \"true\"\nenv = { KIND = \"Debug\" }\n"},
		map[string]string{"piston/p.toml": "group = \"release\"\n[trigger.push]\n[[job.a.step]]\npart = \"pack\"\n", "piston/parts/pack.toml": "[[step]]\nscript = \"true\"\nenv = { KIND = \"Release\" }\n"}},
	{"a debug build by an option", "debug-build", map[string]string{"piston/p.toml": "group = \"release\"\n[trigger.push]\n[[job.a.step]]\nscript = \"dotnet build -c Debug\"\n"},
		map[string]string{"piston/p.toml": "group = \"release\"\n[trigger.push]\n[[job.a.step]]\nscript = \"dotnet build -c Release --verbosity debug\"\n"}},
	{"a debug build by a variable of make", "debug-build", map[string]string{"piston/p.toml": "group = \"release\"\n[trigger.push]\n[[job.a.step]]\nscript = \"make android VARIANT=debug\"\n", "Makefile": "android:\n\ttrue\n"},
		map[string]string{"piston/p.toml": "group = \"release\"\n[trigger.push]\n[[job.a.step]]\nscript = \"make android VARIANT=release\"\n", "Makefile": "VARIANT ?= debug\nandroid:\n\ttrue $(VARIANT)\n"}},
	{"a debug build unless make is told", "debug-build", map[string]string{"piston/p.toml": "group = \"release\"\n[trigger.push]\n[[job.a.step]]\nscript = \"make\"\n", "Makefile": "BUILD_TYPE ?= Debug\n.PHONY: all\nall: app\napp:\n\tcc -D$(BUILD_TYPE) a.c\n"},
		map[string]string{"piston/p.toml": "group = \"release\"\n[trigger.push]\n[[job.a.step]]\nscript = \"make all\"\nenv = { BUILD_TYPE = \"Release\" }\n", "Makefile": "BUILD_TYPE ?= Debug\n.PHONY: all\nall: app\napp:\n\tcc -D$(BUILD_TYPE) a.c\n"}},
	{"a debug build in a makefile", "debug-build", map[string]string{"piston/p.toml": "group = \"release\"\n[trigger.push]\n[[job.a.step]]\nscript = \"make app\"\n", "Makefile": "app: pack\npack:\n\tgradle assembleDebug\n"},
		map[string]string{"piston/p.toml": "group = \"release\"\n[trigger.push]\n[[job.a.step]]\nscript = \"make app\"\n", "Makefile": "app: pack\npack:\n\tgradle assembleRelease\ntry:\n\tgradle assembleDebug\n"}},
	{"a debug build in a wrapper", "debug-build", map[string]string{"piston/p.toml": "group = \"release\"\n[trigger.push]\n[[job.a.step]]\nscript = \"tools/pack\"\n", "tools/pack": "#!/bin/sh\n# as usual\ngradle bundleDebug\n"},
		map[string]string{"piston/p.toml": "group = \"release\"\n[trigger.push]\n[[job.a.step]]\nscript = \"tools/pack\"\n", "tools/pack": "#!/bin/sh\nif test -n \"$1\"; then gradle assembleDebug; else gradle assembleRelease; fi\n"}},
	{"code that asks for the camera and says no purpose", "no-purpose", map[string]string{"piston/p.toml": push("true"), "ios/Info.plist": "<plist><dict/></plist>", "ios/Scan.swift": "import AVFoundation\nlet camera = AVCaptureDevice.default(for: .video)\n"},
		map[string]string{"piston/p.toml": push("true"), "ios/Info.plist": "<plist><dict><key>NSCameraUsageDescription</key><string>To read buoys</string></dict></plist>", "ios/Scan.swift": "let camera = AVCaptureDevice.default(for: .video)\n// CLLocationManager\n", "iosTests/A.swift": "CNContactStore()"}},
	{"a purpose that says nothing", "no-purpose", map[string]string{"piston/p.toml": push("true"), "ios/Info.plist": "<plist><dict><key>NSCameraUsageDescription</key>\n<string></string></dict></plist>", "ios/Scan.m": "[AVCaptureDevice devices];\n"},
		map[string]string{"piston/p.toml": push("true"), "ios/A.xcodeproj/project.pbxproj": "INFOPLIST_KEY_NSCameraUsageDescription = \"To read buoys\";", "ios/Scan.m": "[AVCaptureDevice devices];\n"}},
	{"a profile for another app", "wrong-profile", map[string]string{"piston/p.toml": raise, "piston/app.toml": "[app.a]\nios = \"org.tidewick.almanac\"\n", "ios/a.mobileprovision": "x<?xml?><plist><dict><key>ExpirationDate</key><date>2026-01-01T00:00:00Z</date><key>application-identifier</key><string>T0.org.tidewick.charts</string></dict></plist>x"},
		map[string]string{"piston/p.toml": raise, "piston/app.toml": "[app.a]\nios = \"org.tidewick.almanac\"\n", "ios/a.mobileprovision": "x<?xml?><plist><dict><key>ExpirationDate</key><date>2026-01-01T00:00:00Z</date><key>application-identifier</key><string>T0.org.tidewick.*</string></dict></plist>x", "ios/b.mobileprovision": "x<?xml?><plist><dict><key>ExpirationDate</key><date>2026-01-01T00:00:00Z</date><key>application-identifier</key><string>T0.org.tidewick.almanac.widget</string></dict></plist>x", "ios/c.mobileprovision": "none"}},
	{"notes that are too long", "notes-refused", map[string]string{"piston/p.toml": push("true"), "piston/app.toml": "[app.a]\nandroid = \"net.tidewick.a\"\nnotes = { files = \"notes/{language}.txt\" }\n", "notes/da.txt": strings.Repeat("ø", 501)},
		map[string]string{"piston/p.toml": push("true"), "piston/app.toml": "[app.a]\nandroid = \"net.tidewick.a\"\nnotes = { files = \"notes/{language}.txt\" }\n", "notes/da.txt": strings.Repeat("ø", 500)}},
	{"notes in no text", "notes-refused", map[string]string{"piston/p.toml": push("true"), "piston/app.toml": "[app.a]\nandroid = \"net.tidewick.a\"\nnotes = { files = \"notes/{language}.txt\" }\n", "notes/da.txt": "a\x00"},
		map[string]string{"piston/p.toml": push("true"), "piston/app.toml": "[app.a]\n", "notes/da.txt": "a\x00"}},
	{"the password of a keystore", "key-tracked", map[string]string{"piston/p.toml": push("true"), "app/build.gradle": "release {\n  storePassword 'ebbtide99'\n}\n"},
		map[string]string{"piston/p.toml": push("true"), "app/build.gradle": "debug {\n  storePassword 'android'\n  keyPassword 'android'\n}\n"}},
	{"a service account's key", "key-tracked", map[string]string{"piston/p.toml": push("true"), "play/upload.json": "{\n  \"type\": \"service_account\"\n}\n"},
		map[string]string{"piston/p.toml": push("true"), "play/about.json": "{\"type\": \"account\"}"}},
	{"a misspelt key", "unknown-key", map[string]string{"piston/p.toml": "[trigger.push]\n[[job.a.step]]\nscritp = \"true\"\n"}, nil},
	{"a package that no step makes", "artifact-unwritten", map[string]string{"piston/p.toml": push("make app", "[[job.a.step]]", `sign = { files = ["packed/almanac.apk"], into = "out" }`), "Makefile": "app:\n\tcc -o build/tides.apk main.c\n"},
		map[string]string{"piston/p.toml": push("make app", "[[job.a.step]]", `sign = { files = ["build/*.apk"], into = "out" }`, "[[job.a.step]]", `checklist = { files = ["out/*"] }`), "Makefile": "app:\n\tcc -o build/tides.apk main.c\n"}},
	{"a permission that nobody agreed to", "checklist-ahead", map[string]string{"piston/p.toml": listing, "piston/app.toml": listedApp,
		"app/src/main/AndroidManifest.xml": "<manifest>\n<uses-permission android:name=\"android.permission.CAMERA\"/></manifest>"},
		map[string]string{"piston/p.toml": listing, "piston/app.toml": listedApp, "app/src/debug/AndroidManifest.xml": `<manifest><uses-permission android:name="a"/></manifest>`,
			"app/src/main/AndroidManifest.xml": `<manifest><!-- <uses-permission android:name="x"/> --><uses-permission android:name="android.permission.INTERNET"/></manifest>`}},
	{"a level below the least", "checklist-ahead", map[string]string{"piston/p.toml": listing, "piston/app.toml": listedApp,
		"app/build.gradle.kts": "android {\n  defaultConfig {\n    targetSdk = 33\n  }\n}\n"},
		map[string]string{"piston/p.toml": listing, "piston/app.toml": listedApp, "app/build.gradle.kts": "    targetSdk = 34\n", "other/build.gradle": "targetSdk 20"}},
	{"encryption that is not declared", "checklist-ahead", map[string]string{"piston/p.toml": listing, "piston/app.toml": listedApp,
		"app/Info.plist": "<plist><dict>\n<key>CFBundlePackageType</key><string>APPL</string></dict></plist>"},
		map[string]string{"piston/p.toml": listing, "piston/app.toml": strings.Replace(listedApp, "target", `accept = [{ rule = "encryption-undeclared", reason = "r", until = "2026-12-01" }]
target`, 1), "app/Info.plist": "<plist><dict>\n<key>CFBundlePackageType</key><string>APPL</string></dict></plist>"}},
}

func TestMistakesOfScriptsAndPipelines(t *testing.T) {
	for _, m := range mistakes {
		t.Run(m.name, func(t *testing.T) {
			found := All(here(m.wrong), nil).All()
			i := slices.IndexFunc(found, func(f definition.Finding) bool { return f.Code == m.code })
			if assert.GreaterOrEqual(t, i, 0, "%v", found) {
				assert.NotEmpty(t, found[i].Fix)
				assert.NotEmpty(t, found[i].File)
			}
			if m.right != nil {
				for _, f := range All(here(m.right), nil).All() {
					assert.NotEqual(t, m.code, f.Code, "%s", f)
				}
			}
		})
	}
}

func TestEveryKindOfFindingHereHasATest(t *testing.T) {
	text := ""
	files, err := filepath.Glob("*_test.go")
	assert.NoError(t, err)
	for _, file := range files {
		b, err := os.ReadFile(file)
		assert.NoError(t, err)
		text += string(b)
	}
	elsewhere := []string{"schedule-missed", "bad-version-file", "bad-input", "conflict", "unreadable-file", "set-aside", "fewer-tests", "secret-refused", "secret-protected", "secret-expired", "secret-expires", "secret-tracked", "no-branch"}
	for _, c := range Codes {
		if !slices.Contains(elsewhere, c.Name) {
			assert.Contains(t, text, fmt.Sprintf("%q", c.Name), "no test speaks of it")
		}
	}
}

// Each mistake in a pipeline of its own, all in one repository, behind a file that cannot be read. Those whose other
// files are another's too are left out, and those that what is beside them mends.
func TestNoMistakeHidesAnother(t *testing.T) {
	files := map[string]string{"piston/0.toml": "["}
	mended := []string{"a part that nothing uses", "an app file with a slip"} // another does; nothing is known of apps then
	wanted := map[string]string{}
	for i, m := range mistakes {
		text, is := m.wrong["piston/p.toml"]
		if !is || slices.Contains(mended, m.name) || slices.ContainsFunc(sortedKeys(m.wrong), func(name string) bool {
			_, taken := files[name]
			return taken
		}) {
			continue
		}
		maps.Copy(files, m.wrong)
		delete(files, "piston/p.toml")
		name := fmt.Sprintf("piston/m%d.toml", i)
		files[name], wanted[name] = text, m.code
	}
	assert.Greater(t, len(wanted), 20)
	found := All(here(files), nil).All()
	for name, code := range wanted {
		assert.True(t, slices.ContainsFunc(found, func(f definition.Finding) bool { return f.Code == code }),
			"%s, in %s:\n%s", code, name, files[name])
	}
}

// raise is a pipeline that takes the app's version from the ledger.
const raise = "[trigger.push]\n[[job.a.step]]\nraise = { by = \"patch\" }\n"
