package versionfile

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"howett.net/plist"
)

// binaryInfo is a binary Info.plist.
func binaryInfo(values map[string]any) string {
	raw, err := plist.Marshal(values, plist.BinaryFormat)
	if err != nil {
		panic(err)
	}
	return string(raw)
}

// xcode writes a project of one app, its tests, and what settings each configuration has.
func xcode(projectSettings, app, tests string) string {
	config := func(id, name, settings string) string {
		return fmt.Sprintf("\t\t%s /* %s */ = {\n\t\t\tisa = XCBuildConfiguration;\n\t\t\tbuildSettings = {\n%s\t\t\t};\n"+
			"\t\t\tname = %s;\n\t\t};\n", id, name, settings, name)
	}
	list := func(id string, ids ...string) string {
		return fmt.Sprintf("\t\t%s = {\n\t\t\tisa = XCConfigurationList;\n\t\t\tbuildConfigurations = (\n\t\t\t\t%s,\n\t\t\t);\n"+
			"\t\t\tdefaultConfigurationIsVisible = 0;\n\t\t};\n", id, strings.Join(ids, ",\n\t\t\t\t"))
	}
	return "// !$*UTF8*$!\n{\n\tarchiveVersion = 1;\n\tobjects = {\n/* Begin */\n" +
		"\t\tAA01 /* Project object */ = {\n\t\t\tisa = PBXProject;\n\t\t\tbuildConfigurationList = AA02;\n\t\t};\n" +
		"\t\tAA03 /* Tidewick */ = {\n\t\t\tisa = PBXNativeTarget;\n\t\t\tbuildConfigurationList = AA04 /* x */;\n" +
		"\t\t\tname = Tidewick;\n\t\t\tproductType = \"com.apple.product-type.application\";\n\t\t};\n" +
		"\t\tAA05 = {\n\t\t\tisa = PBXNativeTarget;\n\t\t\tbuildConfigurationList = AA06;\n\t\t\tname = TidewickTests;\n" +
		"\t\t\tproductType = \"com.apple.product-type.bundle.unit-test\";\n\t\t};\n" +
		list("AA02", "BB01") + list("AA04", "BB02", "BB03") + list("AA06", "BB04") +
		config("BB01", "Release", projectSettings) + config("BB02", "Debug", app) + config("BB03", "Release", app) +
		config("BB04", "Debug", tests) + "\t};\n\trootObject = AA01;\n}\n"
}

var longProject = xcode("", "\t\t\t\tMARKETING_VERSION = 1.4.0;\n", "") // with 2 MB of what an app has besides

var appleSamples = []sample{
	{"a plist", one("ios/Info.plist", info(`	<key>CFBundleIdentifier</key>
	<string>org.tidewick.almanac</string>
	<key>CFBundleShortVersionString</key>
	<string>1.4.0</string>
	<key>CFBundleVersion</key>
	<string>12</string>
`)), "ios/Info.plist:6 id org.tidewick.almanac\nios/Info.plist:8 name 1.4.0\nios/Info.plist:10 build 12"},
	{"a plist on one line, with spaces in it and CRLF", one("Tidewick-Info.plist", crlf(infoHead)+
		"<dict><key>CFBundleVersion</key>  <string> 12 </string></dict></plist>"), "Tidewick-Info.plist:4 build 12"},
	{"a plist in UTF-16, big end first", one("Info.plist", utf16Of(true, strings.ReplaceAll(
		info("<!-- Küste \U0001F30A --><key>CFBundleVersion</key><string>12</string>\n"), "UTF-8", "UTF-16"))),
		"Info.plist:5 build 12"},
	{"a plist in UTF-16, small end first", one("Info.plist", utf16Of(false, strings.ReplaceAll(
		info("<key>CFBundleShortVersionString</key><string>1.4</string>\n"), "UTF-8", "UTF-16"))), "Info.plist:5 name 1.4"},
	{"a key in an inner dictionary is another", one("Info.plist", info("<key>Extra</key><dict><key>CFBundleVersion</key>"+
		"<string>1</string></dict>\n<key>CFBundleVersion</key>\n<!-- 11 -->\n<string>12</string>\n")), "Info.plist:8 build 12"},
	{"a framework's and a test's plist do not count", map[string]string{
		"ios/Info.plist":      info("<key>CFBundlePackageType</key><string>APPL</string><key>CFBundleVersion</key><string>12</string>"),
		"ios/Kit/Info.plist":  info("<key>CFBundleVersion</key><string>1</string><key>CFBundlePackageType</key><string>FMWK</string>"),
		"iosTests/Info.plist": info("<key>CFBundleVersion</key><string>1</string>")}, "ios/Info.plist:5 build 12"},
	{"a binary plist", one("Info.plist", binaryInfo(map[string]any{"CFBundleVersion": "12", "CFBundleName": "Tidewick",
		"CFBundleShortVersionString": "1.4.0", "UIFileSharingEnabled": true, "UIDeviceFamily": []int{1, 2}})),
		"Info.plist:1 name 1.4.0\nInfo.plist:1 build 12"},
	{"a binary plist with keys that share a value", one("Info.plist", binaryInfo(map[string]any{"CFBundleVersion": "2",
		"CFBundleShortVersionString": "2"})), "Info.plist:1 name ~\nInfo.plist:1 build ~"},
	{"a plist that carries on a project's settings", map[string]string{
		"App/Info.plist": info("<key>CFBundleVersion</key><string>$(CURRENT_PROJECT_VERSION)</string>\n" +
			"<key>CFBundleShortVersionString</key><string>${MARKETING_VERSION}</string>\n"),
		"App.xcodeproj/project.pbxproj": xcode("", "\t\t\t\tCURRENT_PROJECT_VERSION = 12;\n\t\t\t\tMARKETING_VERSION = 1.4.0;\n", "")},
		`App.xcodeproj/project.pbxproj:53 build 12 Tidewick/Debug
App.xcodeproj/project.pbxproj:54 name 1.4.0 Tidewick/Debug
App.xcodeproj/project.pbxproj:61 build 12 Tidewick/Release
App.xcodeproj/project.pbxproj:62 name 1.4.0 Tidewick/Release`},
	{"a plist to be filled in", one("Info.plist.in", info("<key>CFBundleVersion</key><string>@BUILD_NUMBER@</string>\n")),
		"Info.plist.in:5 build ~"},
	{"settings of the whole project, quoted; tests do not count", one("A.xcodeproj/project.pbxproj",
		xcode("\t\t\t\tMARKETING_VERSION = \"1.4.0\";\n", "\t\t\t\tPRODUCT_BUNDLE_IDENTIFIER = org.tidewick.almanac;\n",
			"\t\t\t\tMARKETING_VERSION = 1.0;\n")),
		`A.xcodeproj/project.pbxproj:47 name 1.4.0 Release
A.xcodeproj/project.pbxproj:54 id org.tidewick.almanac Tidewick/Debug
A.xcodeproj/project.pbxproj:61 id org.tidewick.almanac Tidewick/Release`},
	{"a project of 2 MB", one("A.xcodeproj/project.pbxproj", strings.Replace(longProject, "/* Begin */\n", "/* Begin */\n"+
		strings.Repeat("\t\tFF00 /* tide.c in Sources */ = {isa = PBXBuildFile; fileRef = FF01 /* tide.c */; };\n", 24_000), 1)),
		"A.xcodeproj/project.pbxproj:24053 name 1.4.0 Tidewick/Debug\nA.xcodeproj/project.pbxproj:24060 name 1.4.0 Tidewick/Release"},
	{"xcconfig", one("Config/App.xcconfig", "// of the app\nMARKETING_VERSION = 1.4.0 // for people\nCURRENT_PROJECT_VERSION=12\n"+
		"CURRENT_PROJECT_VERSION[config=Debug] = 1\nOTHER = $(inherited) -ObjC\n"),
		"Config/App.xcconfig:2 name 1.4.0\nConfig/App.xcconfig:3 build 12\nConfig/App.xcconfig:4 build 1 Debug"},
	{"xcconfig that includes another, and refers to it", map[string]string{
		"Config/App.xcconfig":   "#include \"Version.config\"\nMARKETING_VERSION = $(TIDEWICK_NAME)\nCURRENT_PROJECT_VERSION = $(TIDEWICK_BUILD)\n",
		"Config/Version.config": "TIDEWICK_NAME = 1.4.0\nTIDEWICK_BUILD = 12\n"},
		"Config/Version.config:1 name 1.4.0\nConfig/Version.config:2 build 12"},
	{"a project that refers to an xcconfig", map[string]string{
		"A.xcodeproj/project.pbxproj": xcode("", "\t\t\t\tMARKETING_VERSION = \"$(APP_NAME)\";\n", ""),
		"Base.xcconfig":               "APP_NAME = 1.4.0\r\n"}, "Base.xcconfig:1 name 1.4.0 Tidewick/Debug\nBase.xcconfig:1 name 1.4.0 Tidewick/Release"},
}

var otherSamples = []sample{
	{"pubspec", one("pubspec.yaml", "name: tidewick\n# version: 0.1.0\nversion: 1.4.0+12\n\ndependencies:\n  map:\n    version: 3\n"),
		"pubspec.yaml:3 name 1.4.0\npubspec.yaml:3 build 12"},
	{"pubspec in quotes, with a comment", one("app/pubspec.yaml", "version: '1.4.0-rc.1+12' # next\n"),
		"app/pubspec.yaml:1 name 1.4.0-rc.1\napp/pubspec.yaml:1 build 12"},
	{"pubspec without a number, CRLF", one("pubspec.yaml", "name: x\r\nversion:   1.4.0\r\n"), "pubspec.yaml:2 name 1.4.0"},
	{"pubspec that the platforms take theirs from", map[string]string{
		"pubspec.yaml": "version: 1.4.0+12\n",
		"android/app/build.gradle": "def flutterVersionCode = localProperties.getProperty('flutter.versionCode')\n" +
			"android {\n defaultConfig {\n  versionCode flutterVersionCode.toInteger()\n  versionName flutterVersionName\n }\n}",
		"android/app/build.gradle.kts": "android { defaultConfig { versionCode = flutter.versionCode } }",
		"ios/Runner/Info.plist":        info("<key>CFBundleVersion</key><string>$(FLUTTER_BUILD_NUMBER)</string>")},
		"pubspec.yaml:1 name 1.4.0\npubspec.yaml:1 build 12"},
	{"app.json", one("app.json", `{
  "app": {
    "name": "Tidewick", "version" : "1.4.0",
    "ios": { "bundleIdentifier": "org.tidewick.almanac", "buildNumber": "12" },
    "android": { "versionCode": 12, "permissions": ["a", {"versionCode": 3}] }
  }
}`), `app.json:3 name 1.4.0
app.json:4 id org.tidewick.almanac
app.json:4 build 12
app.json:5 build 12`},
	{"app.json without a level, minified", one("app.json", `{"version":"1.4.0","android":{"versionCode":12},"extra":{"a":{"version":"9"}}}`),
		"app.json:1 name 1.4.0\napp.json:1 build 12"},
	{"package.json and its lock, as they agree", map[string]string{
		"package.json":      "{\n\t\"name\": \"tidewick\",\n\t\"version\": \"1.4.0\",\n\t\"dependencies\": {\"map\": \"1.4.0\"}\n}\n",
		"package-lock.json": `{"name": "tidewick", "version": "1.4.0", "packages": {"": {"version": "1.4.0"}, "node_modules/map": {"version": "1.4.0"}}}`,
		"app.json":          `{"version": "1.4.0"}`},
		"app.json:1 name 1.4.0\npackage-lock.json:1 name 1.4.0\npackage-lock.json:1 name 1.4.0\npackage.json:3 name 1.4.0"},
	{"a package.json that nobody ever raised", map[string]string{
		"package.json":             `{"version": "0.0.1"}`,
		"android/app/build.gradle": "android { defaultConfig { versionName '1.4.0' } }"}, "android/app/build.gradle:1 name 1.4.0"},
	{"a package.json of a tool", map[string]string{"tools/package.json": `{"version": "3.0.0"}`, "VERSION": "1.4.0"}, "VERSION:1 name 1.4.0"},
	{"config.xml", one("config.xml", "<?xml version='1.0' encoding='utf-8'?>\n<widget id=\"org.tidewick.almanac\" version=\"1.4.0\"\n"+
		"   android-versionCode=\"12\" ios-CFBundleVersion='12' xmlns=\"http://www.w3.org/ns/widgets\">\n  <name version=\"1\">x</name>\n</widget>"),
		"config.xml:2 id org.tidewick.almanac\nconfig.xml:2 name 1.4.0\nconfig.xml:3 build 12\nconfig.xml:3 build 12"},
	{".NET", one("Tidewick/Tidewick.csproj", "\ufeff<Project Sdk=\"Microsoft.NET.Sdk\">\r\n  <PropertyGroup>\r\n    <Version>9.9</Version>\r\n"+
		"    <ApplicationId>org.tidewick.almanac</ApplicationId>\r\n    <ApplicationDisplayVersion>1.4</ApplicationDisplayVersion>\r\n"+
		"    <ApplicationVersion>12</ApplicationVersion>\r\n  </PropertyGroup>\r\n</Project>\r\n"),
		"Tidewick/Tidewick.csproj:4 id org.tidewick.almanac\nTidewick/Tidewick.csproj:5 name 1.4\nTidewick/Tidewick.csproj:6 build 12"},
	{".NET, from shared properties", map[string]string{
		"App/App.csproj":        "<Project><PropertyGroup><ApplicationVersion>$(TideBuild)</ApplicationVersion></PropertyGroup></Project>",
		"Directory.Build.props": "<Project>\n<PropertyGroup>\n<TideBuild>12</TideBuild></PropertyGroup></Project>"},
		"Directory.Build.props:3 build 12"},
	{"a descriptor", one("src/Tidewick-app.xml", "<?xml version=\"1.0\"?>\n<application xmlns=\"urn:x\">\n<id>org.tidewick.almanac</id>\n"+
		"<versionNumber>1.4.0</versionNumber>\n<filename>x</filename></application>"),
		"src/Tidewick-app.xml:3 id org.tidewick.almanac\nsrc/Tidewick-app.xml:4 name 1.4.0"},
	{"a version file", one("VERSION", "1.4.0\n"), "VERSION:1 name 1.4.0"},
	{"a version file without an end of line, with a v", one("version.txt", "v1.4.0"), "version.txt:1 name 1.4.0"},
	{"a version file of an inner folder is another's", map[string]string{"VERSION": " 1.4.0 \r\n", "lib/VERSION": "3"}, "VERSION:1 name 1.4.0"},
}

func TestAPatternFindsWhatNoReaderKnows(t *testing.T) {
	files := map[string]string{"src/about.h": "#define TIDE_NAME \"1.4.0\"\n#define TIDE_BUILD 12\n", "VERSION": "1.4.0\n"}
	found := Find(treeOf(files), nil, []Pattern{{"src/about.h", `TIDE_NAME "(.*)"`, Name, Both},
		{"src/about.h", `^#define TIDE_BUILD (\d+)$`, Build, Android}, {"VERSION", `^(.*)$`, Name, IOS}})
	assert.Empty(t, found.Problems)
	assert.Equal(t, "VERSION:1 name 1.4.0\nsrc/about.h:1 name 1.4.0\nsrc/about.h:2 build 12", shown(found))
	assert.Equal(t, IOS, found.Places[0].Platform, "the pattern's word counts")
	there(t, files, Found{Places: found.Places[:1]})
	for _, bad := range []Pattern{{"gone.h", "(x)", Name, Both}, {"VERSION", "(x)", Name, Both}, {"VERSION", "1.4", Name, Both},
		{"VERSION", "(", Name, Both}} {
		assert.Len(t, Find(treeOf(files), nil, []Pattern{bad}).Problems, 1, bad.Form)
	}
}

func TestAValueThatIsTooLongIsNone(t *testing.T) {
	found := Find(treeOf(one("VERSION", strings.Repeat("1", 5_000_000))), nil, nil)
	require.Len(t, found.Places, 1)
	assert.False(t, found.Places[0].Literal())
	assert.Less(t, len(found.Places[0].Value), 100)
}

func TestOnlyTheAppsFoldersAreRead(t *testing.T) {
	files := map[string]string{"a/build.gradle": "android.defaultConfig.versionCode = 1", "ab/build.gradle": "android.defaultConfig.versionCode = 2",
		"VERSION": "1.0"}
	assert.Equal(t, "a/build.gradle:1 build 1", shown(Find(treeOf(files), []string{"a/"}, nil)))
	assert.Equal(t, "VERSION:1 name 1.0\na/build.gradle:1 build 1", shown(Find(treeOf(files), []string{"./a", "VERSION"}, nil)))
}

func TestFilesThatCannotBeRead(t *testing.T) {
	deep := strings.Repeat("(", 5000)
	for about, files := range map[string]map[string]string{
		"a plist cut off":          one("Info.plist", infoHead+"<dict><key>CFBundleVersion</key><string>12"),
		"markup that nests":        one("AndroidManifest.xml", strings.Repeat("<a>", 5000)),
		"a project cut off":        one("project.pbxproj", "{ objects = { A = { isa"),
		"a project that nests":     one("project.pbxproj", "{ objects = "+deep),
		"a project of nothing":     one("project.pbxproj", ""),
		"a project without any":    one("project.pbxproj", "{}"),
		"JSON that is none":        one("app.json", `{"version": 1.2.3}`),
		"JSON that nests":          one("app.json", strings.Repeat(`{"a":`, 5000)),
		"a binary plist cut off":   one("Info.plist", "bplist00\x01"),
		"a binary plist that lies": one("Info.plist", "bplist00"+strings.Repeat("\xff", 100)),
	} {
		found := Find(treeOf(files), nil, nil)
		require.Len(t, found.Problems, 1, about)
		assert.NotEmpty(t, found.Problems[0].File, about)
		assert.Contains(t, found.Problems[0].Error(), found.Problems[0].File, about)
	}
	links := treeOf(one("VERSION", "1.0"))
	links.Link = func(string) bool { return true }
	assert.Len(t, Find(links, nil, nil).Problems, 1, "a link is not followed")
	failing := treeOf(one("VERSION", "1.0"))
	failing.Read = func(string) ([]byte, error) { return nil, fmt.Errorf("a broken disk") }
	assert.Len(t, Find(failing, nil, nil).Problems, 1)
	assert.Len(t, Find(treeOf(one("VERSION", strings.Repeat("1", MaxFile+1))), nil, nil).Problems, 1, "too long")
}

// TestNothingTakesLong feeds what costs a careless reader the square of its length.
func TestNothingTakesLong(t *testing.T) {
	const n = 300_000
	for about, files := range map[string]map[string]string{
		"ends of lines": one("build.gradle", "android {"+strings.Repeat("\n;", n)),
		"open brackets": one("build.gradle", "android { versionCode "+strings.Repeat("(", n)),
		"blocks":        one("build.gradle", strings.Repeat("android {", n)),
		"conversions":   one("build.gradle", "android.versionCode = 1"+strings.Repeat(" as x", n)),
		"computed":      one("build.gradle", "android {"+strings.Repeat("versionCode x\n", n)),
		"values put in": one("build.gradle", `android.versionName = "`+strings.Repeat("${", n)),
		"definitions":   one("build.gradle", strings.Repeat("x = 1\n", n)+"android.versionCode = x"),
		"settings":      one("a.xcconfig", strings.Repeat("MARKETING_VERSION = $(MARKETING_VERSION)\n", n)),
		"attributes":    one("AndroidManifest.xml", "<manifest "+strings.Repeat(`a="b" `, n)+"/>"),
		"a list":        one("project.pbxproj", "{ objects = ("+strings.Repeat("a,", n)+"); }"),
		"package.jsons": one("package.json", "["+strings.Repeat("1,", n)+"1]"),
	} {
		began := make(chan struct{})
		go func() { defer close(began); Find(treeOf(files), nil, nil) }()
		select {
		case <-began:
		case <-time.After(20 * time.Second):
			t.Fatal(about)
		}
	}
}

func FuzzReaders(f *testing.F) {
	for i, s := range [][]sample{gradleSamples, appleSamples, otherSamples} {
		for _, sample := range s {
			for name, text := range sample.files {
				if len(text) < 10_000 {
					f.Add(name, text, i%2 == 0)
				}
			}
		}
	}
	f.Fuzz(func(t *testing.T, name, text string, alone bool) {
		files := one(name, text)
		if !alone {
			files["gradle.properties"], files["A/Info.plist"] = text, text
		}
		found := Find(treeOf(files), nil, nil)
		for _, p := range found.Problems {
			assert.NotEmpty(t, p.Message)
		}
		for _, p := range found.Places {
			require.Positive(t, p.Line)
			if p.Literal() && p.Kind != ID && p.Value != "" {
				after, err := Edit(p.File, []byte(files[p.File]), []Change{{p, "7"}})
				require.NoError(t, err)
				require.NotNil(t, after)
			}
		}
		changes, _ := found.Changes(Next{})
		assert.Empty(t, changes)
	})
}
