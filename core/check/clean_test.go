package check

import (
	"fmt"
	"maps"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"gentlepiston.example/piston/core/definition"
)

// Kinds of apps as people have them, in a few files each. Nothing is wrong with any.
var kinds = map[string]map[string]string{
	"native android, groovy": {"gradlew": "#!/bin/sh\nexec java -jar gradle/wrapper/gradle-wrapper.jar \"$@\"\n", "settings.gradle": "include ':app'\n", "gradle.properties": "org.gradle.jvmargs=-Xmx2g\n",
		"app/build.gradle": "android {\n  namespace 'org.tidewick.almanac'\n  defaultConfig { applicationId 'org.tidewick.almanac'; versionCode System.getenv('PISTON_BUILD_NUMBER') as Integer }\n" +
			"  signingConfigs { debug { storeFile file('debug.keystore'); storePassword 'android'; keyAlias 'androiddebugkey'; keyPassword 'android' } }\n}\n",
		"app/debug.keystore": "\xfe\xed\xfe\xed", "app/src/main/AndroidManifest.xml": "<manifest/>\n",
		"piston/trunk.toml": "[trigger.push]\n[job.app]\ntools = { java = \">=17\" }\n[job.app.cache.gradle]\npaths = [\".gradle-home\"]\nfollows = [\"app/build.gradle\", \"gradle.properties\"]\n" +
			"[[job.app.step]]\nscript = \"./gradlew --no-daemon test assembleRelease\"\nenv = { GRADLE_USER_HOME = \".gradle-home\" }\ntest_reports = [\"app/build/test-results/**/*.xml\"]\n" +
			"[job.app.keep.apk]\nfiles = [\"app/build/outputs/apk/release/*.apk\"]\n"},
	"native android, kotlin": {"gradlew": "#!/bin/sh\n", "settings.gradle.kts": "include(\":app\")\n", "app/build.gradle.kts": "android { defaultConfig { applicationId = \"org.tidewick.almanac\" } }\n",
		"piston/trunk.toml": "[trigger.push]\nbranches = [\"main\"]\n[[job.app.step]]\nshell = \"bash\"\nscript = '''\nif [[ -n \"${CI:-}\" ]]; then ./gradlew bundleRelease | tee build.log; fi\n'''\n[job.app.keep.aab]\nfiles = [\"app/build/outputs/**/*.aab\"]\n"},
	"native ios": {"App.xcodeproj/project.pbxproj": "// !$*UTF8*$!\n{\n\tobjects = {\n\t\tA1 = {isa = XCBuildConfiguration; buildSettings = {PRODUCT_BUNDLE_IDENTIFIER = org.tidewick.almanac; CURRENT_PROJECT_VERSION = 1; MARKETING_VERSION = 1.0; }; name = Release; };\n\t};\n}\n", "App/Info.plist": "<plist><dict><key>CFBundleIdentifier</key><string>$(PRODUCT_BUNDLE_IDENTIFIER)</string></dict></plist>\n",
		"piston/trunk.toml": "[trigger.push]\n[job.app]\nmachine = [\"macos\"]\ntools = { xcode = \">=15\" }\n[[job.app.step]]\nshell = \"bash\"\nscript = '''\nxcodebuild -scheme App -destination 'generic/platform=iOS' build | tee build.log\n'''\n[job.app.keep.log]\nfiles = [\"build.log\"]\n"},
	"hybrid": {"package.json": "{\"scripts\":{\"build\":\"x\"}}\n", "package-lock.json": "{}\n", "config.xml": "<widget id=\"org.tidewick.almanac\" version=\"1.0.0\"/>\n", "www/index.html": "<html></html>\n",
		"piston/trunk.toml": "[trigger.push]\n[job.app.cache.npm]\npaths = [\"node_modules\"]\nfollows = [\"package-lock.json\"]\n[[job.app.step]]\nscript = \"test -d node_modules/.bin || npm ci\"\n[[job.app.step]]\nscript = \"npm run build && npm test\"\nnetwork = \"none\"\n"},
	"cross-platform": {"pubspec.yaml": "name: almanac\nversion: 1.4.0+12\n", "pubspec.lock": "packages: {}\n", "lib/main.dart": "void main() {}\n", "android/app/build.gradle": "android {}\n", "ios/Runner/Info.plist": "<plist/>\n",
		"piston/trunk.toml": "[trigger.push]\n[job.app]\nvariants.over = { TARGET = [\"apk\", \"appbundle\"] }\n[[job.app.step]]\nscript = \"flutter pub get\"\n[[job.app.step]]\nscript = 'flutter build \"$TARGET\" --release'\n[job.app.keep.out]\nfiles = [\"build/app/outputs/**/*.apk\", \"build/app/outputs/**/*.aab\"]\n"},
	"a core in c": {"CMakeLists.txt": "project(tides C)\n", "src/tide.c": "int main(void) { return 0; }\n", "tools/test": "#!/bin/sh\nset -eu\nmkdir -p out\ncd out\ncmake ..\n",
		"piston/trunk.toml": "[trigger.push]\n[[job.core.step]]\nscript = \"tools/test\"\ntest_reports = [\"out/report.xml\"]\n[[job.core.step]]\nscript = 'grep -c tide src/tide.c | { read -r n; test \"$n\" -gt 0; }'\n"},
	"make and python": {"Makefile": ".PHONY: all\nall:\n\tpython3 tools/gen.py > out.txt\n", "tools/gen.py": "print('x')\n",
		"piston/trunk.toml": "[trigger.push]\n[[job.a.step]]\nscript = \"make all\"\n[[job.a.step]]\nshell = \"python3\"\nscript = \"import os\\nprint(os.environ['HOME'])\"\n"},
	"handed from job to job": {"build.sh": "#!/bin/sh\nset -e\nmkdir -p out\ncc -o out/app app.c\n", "app.c": "int main(void){return 0;}\n",
		"piston/trunk.toml": "[trigger.push]\n[[job.make.step]]\nscript = \"sh build.sh\"\n[job.make.hand.app]\nfiles = [\"out/app\"]\n[job.use]\nafter = [\"make\"]\ntake = [\"make/app\"]\n[[job.use.step]]\nscript = \"out/app && sha256sum out/app\"\n"},
	"a release by tag": {"VERSION": "1.4.0\n", "CHANGES": "x\n", "pack": "#!/bin/sh\nmkdir -p out; cp CHANGES out/; echo \"$PISTON_VERSION_NAME\" > out/v\n",
		"piston/release.toml": "group = \"release\"\n[version]\nfile = \"VERSION\"\n[trigger.tag]\nnames = [\"v*\"]\n[job.a]\nhistory = \"full\"\n[[job.a.step]]\nshell = \"bash\"\nscript = '''\nbefore=$(git describe --tags --abbrev=0 HEAD^ 2>/dev/null || true)\ngit log --format=%s ${before:+$before..}HEAD | tee notes.md\n'''\n[[job.a.step]]\nscript = \"./pack\"\nsecrets = [\"STORE_KEY\"]\n[job.a.keep.out]\nfiles = [\"out/*\", \"notes.md\"]\n"},
	"inputs and parts": {"run.sh": "#!/bin/sh\necho \"$PISTON_INPUT_WHO $MODE\"\n", "piston/parts/greet.toml": "[parameter.MODE]\nkind = \"text\"\ndefault = \"fast\"\n[[step]]\nscript = \"sh run.sh\"\n",
		"piston/greet.toml": "[input.who]\nkind = \"text\"\nrequired = true\n[[job.a.step]]\npart = \"greet\"\nwith = { MODE = \"slow\" }\n"},
}

// habits are what is added to a kind of app: things that many repositories have and that are right.
var habits = map[string]map[string]string{
	"submodules by https": {".gitmodules": "[submodule \"charts\"]\n\tpath = charts\n\turl = https://git.tidewick.example/charts.git\n[submodule \"tools2\"]\n\tpath = tools2\n\turl = ../tools.git\n"},
	"a release that raises and lands": {"piston/ship.toml": "group = \"release\"\nlimit = \"20m\"\n[input.size]\nkind = \"choice\"\nchoices = [\"patch\", \"minor\"]\n[[job.ship.step]]\nraise = { by = \"${PISTON_INPUT_SIZE}\" }\n" +
		"[[job.ship.step]]\nscript = \"echo packed\"\nenv = { LOG_LEVEL = \"debug\", CONFIGURATION = \"Release\" }\n[[job.ship.step]]\nland = { tag = true }\n"},
	"documents, examples and settings": {"README.md": "Run /home/you/bin/x.\n<<<<<<< an example of a merge\n>>>>>>> its end\npassword = \"hunter2hunter2\"\n", ".gitignore": "out/\nbuild/\n", ".env.example": "API_KEY=\n",
		"docs/api.json": "{\"token\": \"<your token>\"}\n", "config/settings.yaml": "timeout: 30\npassword_field: \"#password\"\n", "LICENSE": "Permission is hereby granted\n", ".gitattributes": "*.png binary\n"},
}

func TestCleanRepositoriesRaiseNoAlarm(t *testing.T) {
	n := 0
	for kind, files := range kinds {
		for habit, more := range habits {
			n++
			all := maps.Clone(files)
			maps.Copy(all, more)
			r := here(all)
			for i, e := range r.Entries {
				r.Entries[i].Executable = strings.HasPrefix(all[e.Path], "#!")
			}
			found := All(r, nil).All()
			assert.Empty(t, found, "%s with %s:\n%s", kind, habit, texts(found))
		}
	}
	assert.Equal(t, 30, n)
}

func texts(found []definition.Finding) string {
	var b strings.Builder
	for _, f := range found {
		fmt.Fprintln(&b, f)
	}
	return b.String()
}
