package versionfile

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/version"
)

// sample is a repository of one or a few files, and what is found in it, as "file:line kind value [of]"; what is
// computed has ~ for its value.
type sample struct {
	about string
	files map[string]string
	want  string
}

func treeOf(files map[string]string) Tree {
	t := Tree{Read: func(name string) ([]byte, error) { return []byte(files[name]), nil }}
	for name := range files {
		t.Paths = append(t.Paths, name)
	}
	slices.Sort(t.Paths)
	return t
}

func shown(found Found) string {
	var lines []string
	for _, p := range found.Places {
		value := p.Value
		if !p.Literal() {
			value = "~"
		}
		lines = append(lines, strings.TrimRight(fmt.Sprintf("%s:%d %s %s %s", p.File, p.Line, p.Kind, value, p.Of), " "))
	}
	return strings.Join(lines, "\n")
}

func one(name, text string) map[string]string { return map[string]string{name: text} }

func utf16Of(big bool, s string) string {
	out := []byte{0xFF, 0xFE}
	if big {
		out = []byte{0xFE, 0xFF}
	}
	for _, u := range utf16.Encode([]rune(s)) {
		if big {
			out = append(out, byte(u>>8), byte(u))
		} else {
			out = append(out, byte(u), byte(u>>8))
		}
	}
	return string(out)
}

func crlf(s string) string { return strings.ReplaceAll(s, "\n", "\r\n") }

const infoHead = `<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">
<plist version="1.0">
`

func info(body string) string { return infoHead + "<dict>\n" + body + "</dict>\n</plist>\n" }

// TestTheCorpus reads files in the many styles people write them, raises what they hold, and puts it back.
func TestTheCorpus(t *testing.T) {
	files := 0
	for _, s := range slices.Concat(gradleSamples, appleSamples, otherSamples) {
		files += len(s.files)
		t.Run(s.about, func(t *testing.T) {
			found := Find(treeOf(s.files), nil, nil)
			assert.Empty(t, found.Problems)
			assert.Equal(t, strings.TrimSpace(s.want), shown(found))
			there(t, s.files, found)
		})
	}
	assert.GreaterOrEqual(t, files, 80, "the corpus")
}

// TestTheCorpusWithOtherLineEnds reads the same files with the line ends of other systems.
func TestTheCorpusWithOtherLineEnds(t *testing.T) {
	for name, end := range map[string]string{"CRLF": "\r\n", "CR": "\r"} {
		for _, s := range slices.Concat(gradleSamples, appleSamples, otherSamples) {
			files, plain := map[string]string{}, true
			for file, text := range s.files {
				plain = plain && !strings.ContainsAny(text, "\r\x00") && !strings.HasPrefix(text, "bplist")
				files[file] = strings.ReplaceAll(text, "\n", end)
			}
			if plain {
				t.Run(s.about+" "+name, func(t *testing.T) {
					assert.Equal(t, strings.TrimSpace(s.want), shown(Find(treeOf(files), nil, nil)))
				})
			}
		}
	}
}

// there changes each place by itself and back.
func there(t *testing.T, files map[string]string, found Found) {
	t.Helper()
	for i, p := range found.Places {
		if !p.Literal() || p.Kind == ID {
			continue
		}
		value := "12.34.567-rc.8"
		if p.Kind == Build {
			value = "2100000000"
		}
		changed, err := Edit(p.File, []byte(files[p.File]), []Change{{p, value}})
		require.NoError(t, err)
		after := map[string]string{}
		for name, text := range files {
			after[name] = text
		}
		after[p.File] = string(changed)
		again := Find(treeOf(after), nil, nil)
		if p.follows { // changed alone, it would count no more
			moved := p
			moved.Value, moved.end = value, p.start+len(value)
			again.Places = append(again.Places, moved)
		}
		k := slices.IndexFunc(again.Places, func(o Place) bool { return o.File == p.File && o.start == p.start && o.Kind == p.Kind })
		require.GreaterOrEqual(t, k, 0, "%s:%d is found again", p.File, p.Line)
		assert.Equal(t, value, again.Places[k].Value, "place %d", i)
		back, err := Edit(p.File, changed, []Change{{again.Places[k], p.Value}})
		require.NoError(t, err)
		assert.Equal(t, files[p.File], string(back), "%s is as it was", p.File)
		if raw := []byte(files[p.File]); !decode(p.File, raw).binary {
			d := decode(p.File, raw)
			start, end := d.offset(p.start), d.offset(p.end)
			assert.Equal(t, string(raw[:start]), string(changed[:start]), "nothing before it")
			assert.Equal(t, string(raw[end:]), string(changed[len(changed)-(len(raw)-end):]), "nothing behind it")
		}
	}
}

var gradleSamples = []sample{
	{"Groovy without an equals sign", one("app/build.gradle", `apply plugin: 'com.android.application'
android {
    compileSdkVersion 34
    defaultConfig {
        applicationId "org.tidewick.almanac"
        versionCode 12
        versionName "1.4.0"
    }
}
`), `app/build.gradle:5 id org.tidewick.almanac
app/build.gradle:6 build 12
app/build.gradle:7 name 1.4.0`},
	{"Groovy, single quotes, aligned comments, tabs, CRLF", one("app/build.gradle", crlf("android {\n\tdefaultConfig {\n"+
		"\t\tversionCode   12        // raised by hand\n\t\tversionName   '1.4.0'   /* for people */\n\t}\n}\n")),
		"app/build.gradle:3 build 12\napp/build.gradle:4 name 1.4.0"},
	{"Kotlin", one("app/build.gradle.kts", `plugins { id("com.android.application") }
android {
    namespace = "org.tidewick.almanac"
    defaultConfig {
        applicationId = "org.tidewick.almanac"
        versionCode = 12
        versionName = "1.4.0"
    }
}
`), `app/build.gradle.kts:5 id org.tidewick.almanac
app/build.gradle.kts:6 build 12
app/build.gradle.kts:7 name 1.4.0`},
	{"on one line", one("build.gradle", `android { defaultConfig { versionCode 12; versionName "1.4.0" } }`),
		"build.gradle:1 build 12\nbuild.gradle:1 name 1.4.0"},
	{"with parentheses", one("build.gradle", "android {\n defaultConfig {\n  versionCode(12)\n  versionName('1.4')\n }\n}"),
		"build.gradle:3 build 12\nbuild.gradle:4 name 1.4"},
	{"with setters", one("build.gradle", "android {\n defaultConfig {\n  setVersionCode(12)\n  setVersionName('1.4')\n }\n}"),
		"build.gradle:3 build 12\nbuild.gradle:4 name 1.4"},
	{"by a path", one("build.gradle", "android.defaultConfig.versionCode = 12\nandroid.defaultConfig.versionName = '1.4'\n"),
		"build.gradle:1 build 12\nbuild.gradle:2 name 1.4"},
	{"numbers with underscores", one("build.gradle.kts", "android { defaultConfig { versionCode = 1_004_000 } }"),
		"build.gradle.kts:1 build 1_004_000"},
	{"what is commented out does not count", one("build.gradle", `android {
    defaultConfig {
        // versionCode 11
        /* versionName "1.3.0"
        versionCode 10 */
        versionCode 12
    }
}`), "build.gradle:6 build 12"},
	{"what stands in texts does not count", one("build.gradle", `android {
    defaultConfig {
        buildConfigField "String", "ABOUT", "\"versionCode 7 { http://tidewick.example/ \""
        versionName "1.4.0"
    }
}`), "build.gradle:4 name 1.4.0"},
	{"three flavours in Groovy", one("app/build.gradle", `android {
    defaultConfig {
        versionCode 12
        versionName "1.4.0"
    }
    flavorDimensions "sea"
    productFlavors {
        harbour { dimension "sea"; versionName "1.4.0-harbour" }
        coast {
            versionNameSuffix "-coast"
        }
        ocean {
            versionCode 100012
        }
    }
    buildTypes {
        release { minifyEnabled true }
        debug { versionNameSuffix "-debug" }
    }
}`), `app/build.gradle:3 build 12
app/build.gradle:4 name 1.4.0
app/build.gradle:8 name 1.4.0-harbour harbour
app/build.gradle:13 build 100012 ocean`},
	{"flavours in Kotlin", one("app/build.gradle.kts", `android {
    defaultConfig { versionCode = 12 }
    productFlavors {
        create("harbour") { versionName = "1.4.0-harbour" }
        register("coast") {
            versionName = "1.4.0-coast"
        }
    }
    productFlavors.getByName("coast").versionCode = 13
}`), `app/build.gradle.kts:2 build 12
app/build.gradle.kts:4 name 1.4.0-harbour harbour
app/build.gradle.kts:6 name 1.4.0-coast coast`},
	{"a library's is not the app's", map[string]string{
		"app/build.gradle": "apply plugin: 'com.android.application'\nandroid { defaultConfig { versionCode 12 } }",
		"lib/build.gradle": "apply plugin: 'com.android.library'\nandroid { defaultConfig { versionCode 1 } }"},
		"app/build.gradle:2 build 12"},
	{"from gradle.properties", map[string]string{
		"app/build.gradle":  "android {\n defaultConfig {\n  versionCode VERSION_CODE.toInteger()\n  versionName VERSION_NAME\n }\n}",
		"gradle.properties": "# Tidewick\norg.gradle.jvmargs=-Xmx2g\nVERSION_NAME=1.4.0\nVERSION_CODE = 12\n"},
		"gradle.properties:3 name 1.4.0\ngradle.properties:4 build 12"},
	{"from gradle.properties, every way to ask", map[string]string{
		"a/build.gradle": "android.defaultConfig.versionCode = Integer.parseInt(project.property('code'))\n" +
			"android.defaultConfig.versionName = findProperty('name')",
		"b/build.gradle.kts": "android.defaultConfig.versionCode = providers.gradleProperty(\"code\").get().toInt()\n" +
			"android { defaultConfig { versionName = property(\"name\") as String } }",
		"gradle.properties": "code: 12\nname 1.4.0\n"},
		"gradle.properties:1 build 12\ngradle.properties:2 name 1.4.0"},
	{"from version.properties that the script loads", map[string]string{
		"app/build.gradle": "def props = new Properties()\nprops.load(new FileInputStream(file('version.properties')))\n" +
			"android {\n defaultConfig {\n  versionCode props['CODE'].toInteger()\n  versionName props.getProperty('NAME')\n }\n}",
		"app/version.properties": "NAME=1.4.0\nCODE=12\n"},
		"app/version.properties:1 name 1.4.0\napp/version.properties:2 build 12"},
	{"from a version catalog", map[string]string{
		"app/build.gradle.kts": "android {\n defaultConfig {\n  versionCode = libs.versions.app.code.get().toInt()\n" +
			"  versionName = libs.versions.appName.get()\n }\n}",
		"gradle/libs.versions.toml": "[versions]\nkotlin = \"2.0.0\"\napp-code = \"12\"\nappName = '1.4.0' # of the app\n\n" +
			"[libraries]\napp-code = \"9\"\n"},
		"gradle/libs.versions.toml:3 build 12\ngradle/libs.versions.toml:4 name 1.4.0"},
	{"from a variable of the script", one("build.gradle", "def code = 12\ndef name = \"1.4.0\"\n"+
		"android { defaultConfig { versionCode code; versionName name } }"), "build.gradle:1 build 12\nbuild.gradle:2 name 1.4.0"},
	{"from a constant in Kotlin", one("build.gradle.kts", "val code: Int = 12\nval appName = \"1.4.0\"\n"+
		"android {\n defaultConfig {\n  versionCode = code\n  versionName = appName\n }\n}"),
		"build.gradle.kts:1 build 12\nbuild.gradle.kts:2 name 1.4.0"},
	{"from ext of the root project", map[string]string{
		"build.gradle":     "ext {\n    versionCode = 12\n    appVersion = '1.4.0'\n}\n",
		"app/build.gradle": "android {\n defaultConfig {\n  versionCode rootProject.ext.versionCode\n  versionName rootProject.appVersion\n }\n}"},
		"build.gradle:2 build 12\nbuild.gradle:3 name 1.4.0"},
	{"from a map in ext", map[string]string{
		"build.gradle":     "ext.versions = [code: 12,\n    name: '1.4.0']\n",
		"app/build.gradle": "android {\n defaultConfig {\n  versionCode versions.code\n  versionName rootProject.ext.versions.name\n }\n}"},
		"build.gradle:1 build 12\nbuild.gradle:2 name 1.4.0"},
	{"from extra in Kotlin", map[string]string{
		"build.gradle.kts":     "extra[\"code\"] = 12\nextra.set(\"appName\", \"1.4.0\")\n",
		"app/build.gradle.kts": "android {\n defaultConfig {\n  versionCode = rootProject.extra[\"code\"] as Int\n  versionName = rootProject.extra[\"appName\"] as String\n }\n}"},
		"build.gradle.kts:1 build 12\nbuild.gradle.kts:2 name 1.4.0"},
	{"computed from parts", one("build.gradle", `def major = 1
def minor = 4
android {
    defaultConfig {
        versionCode major * 100 + minor
        versionName "${major}.${minor}"
    }
}`), "build.gradle:5 build ~\nbuild.gradle:6 name ~"},
	{"computed by git", one("build.gradle.kts", `fun count() = providers.exec { commandLine("git", "rev-list", "--count", "HEAD") }
android {
    defaultConfig {
        versionCode = count()
        versionName = "1.4.0"
    }
}`), "build.gradle.kts:4 build ~\nbuild.gradle.kts:5 name 1.4.0"},
	{"from the environment", one("build.gradle", "android {\n defaultConfig {\n"+
		"  versionCode((System.getenv('BUILD') ?: '1').toInteger())\n  versionName System.getenv(\"NAME\")\n }\n}"),
		"build.gradle:3 build ~\nbuild.gradle:4 name ~"},
	{"of several modules", map[string]string{
		"phone/build.gradle": "android { defaultConfig { versionCode 12 } }",
		"watch/build.gradle": "android { defaultConfig { versionCode 1000012 } }"},
		"phone/build.gradle:1 build 12\nwatch/build.gradle:1 build 1000012"},
	{"a value on the next line", one("build.gradle.kts", "android {\n defaultConfig {\n  versionCode = (\n    12\n  )\n }\n}"),
		"build.gradle.kts:4 build 12"},
	{"with a byte order mark", one("build.gradle", "\ufeffandroid { defaultConfig { versionCode 12 } }"), "build.gradle:1 build 12"},
	{"in Latin-1", one("build.gradle", "// Gezeitenk\xfcste\nandroid { defaultConfig { versionCode 12 } }"), "build.gradle:2 build 12"},
	{"what others wrote is not read", map[string]string{
		"app/build.gradle":                      "android { defaultConfig { versionCode 12 } }",
		"node_modules/x/android/build.gradle":   "android { defaultConfig { versionCode 1 } }",
		"app/build/generated/x.gradle":          "android { defaultConfig { versionCode 1 } }",
		"third_party/map/build.gradle":          "android { defaultConfig { versionCode 1 } }",
		"ios/Pods/map/Info.plist":               info("<key>CFBundleVersion</key><string>1</string>"),
		"ios/DerivedData/x/project.pbxproj":     "garbage",
		"ios/Carthage/Checkouts/y/build.gradle": "android { defaultConfig { versionCode 1 } }"},
		"app/build.gradle:1 build 12"},
	{"a manifest", one("app/src/main/AndroidManifest.xml", `<?xml version="1.0" encoding="utf-8"?>
<manifest xmlns:android="http://schemas.android.com/apk/res/android"
    package="org.tidewick.almanac"
    android:versionCode="12"
    android:versionName = '1.4.0' >
    <!-- android:versionCode="1" -->
    <application android:label="x"/>
</manifest>`), `app/src/main/AndroidManifest.xml:3 id org.tidewick.almanac
app/src/main/AndroidManifest.xml:4 build 12
app/src/main/AndroidManifest.xml:5 name 1.4.0`},
	{"a manifest in UTF-16", one("AndroidManifest.xml", utf16Of(false, "<?xml version=\"1.0\" encoding=\"utf-16\"?>\r\n"+
		"<manifest xmlns:a=\"x\" a:versionCode=\"12\" a:versionName=\"1.4.0\"><!-- Küste --></manifest>")),
		"AndroidManifest.xml:2 build 12\nAndroidManifest.xml:2 name 1.4.0"},
	{"a manifest of a flavour, with marks to fill", one("app/src/harbour/AndroidManifest.xml",
		`<manifest xmlns:android="x" android:versionName="${name}" android:versionCode="12"/>`),
		"app/src/harbour/AndroidManifest.xml:1 name ~ harbour\napp/src/harbour/AndroidManifest.xml:1 build 12 harbour"},
}

func TestWhatAPlaceSaysOfItself(t *testing.T) {
	found := Find(treeOf(map[string]string{"a/build.gradle": "android {\n defaultConfig {\n" +
		"  versionCode Integer.valueOf(System.env.BUILD ?: major * 2)\n  versionName System.getenv('NAME')\n }\n}"}), nil, nil)
	require.Len(t, found.Places, 2)
	assert.Contains(t, found.Places[0].Computed, "major")
	assert.Equal(t, "NAME", found.Places[1].Variable)
	assert.Equal(t, 3, found.Places[0].Line)
	assert.Equal(t, "  versionCode Integer.valueOf(System.env.BUILD ?: major * 2)", found.Places[0].Excerpt())
	assert.Equal(t, Android, found.Places[0].Platform)
}

func TestWhatComesNextIsWrittenWhereItBelongs(t *testing.T) {
	files := map[string]string{
		"app/build.gradle": "android {\n defaultConfig { versionCode 12; versionName '1.4.0' }\n productFlavors {\n" +
			"  harbour { versionName '1.4.0-harbour' }\n  ocean { versionCode 100012; versionName '7.1' }\n }\n}\n",
		"ios/Info.plist": info("<key>CFBundleVersion</key><string>12</string>\n" +
			"<key>CFBundleShortVersionString</key><string>1.4.0</string>\n"),
		"VERSION": "1.4.0\n",
	}
	found := Find(treeOf(files), nil, nil)
	now := found.Current()
	assert.Empty(t, now.Differ)
	assert.Equal(t, "1.4.0", now.Name.String())
	assert.Equal(t, map[Platform]version.BuildNumber{Android: 12, IOS: 12}, now.Builds)
	next, err := now.Name.Raise(version.Minor, "rc")
	require.NoError(t, err)
	changes, left := found.Changes(Next{Name: next, Builds: map[Platform]version.BuildNumber{Android: 413, IOS: 413}})
	assert.Len(t, left, 2, "what the flavour ocean says is its own")
	assert.Equal(t, " defaultConfig { versionCode 413; versionName '1.5.0-rc.1' }", LineAfter(changes[1:3]))
	after, err := EditAll(treeOf(files), changes)
	require.NoError(t, err)
	assert.Equal(t, "1.5.0-rc.1\n", string(after["VERSION"]))
	assert.Contains(t, string(after["app/build.gradle"]), "versionCode 413; versionName '1.5.0-rc.1' }")
	assert.Contains(t, string(after["app/build.gradle"]), "harbour { versionName '1.5.0-rc.1-harbour' }")
	assert.Contains(t, string(after["app/build.gradle"]), "ocean { versionCode 100012; versionName '7.1' }")
	assert.Contains(t, string(after["ios/Info.plist"]), "<string>1.5.0</string>", "iOS takes no pre-release")
	assert.Contains(t, string(after["ios/Info.plist"]), "<string>413</string>")
	for name, text := range after {
		files[name] = string(text)
	}
	assert.Empty(t, Find(treeOf(files), nil, nil).Current().Differ, "they agree again")
}

func TestPlacesThatContradictEachOther(t *testing.T) {
	files := map[string]string{
		"app/build.gradle":                 "android { defaultConfig { versionCode 12; versionName '1.4.0' } }",
		"app/src/main/AndroidManifest.xml": `<manifest xmlns:android="x" android:versionCode="11"/>`,
		"ios/Info.plist":                   info("<key>CFBundleShortVersionString</key><string>1.3</string>\n<key>CFBundleVersion</key><string>nine</string>\n"),
	}
	now := Find(treeOf(files), nil, nil).Current()
	require.Len(t, now.Differ, 2)
	assert.Equal(t, "ios/Info.plist:5 says 1.3, and app/build.gradle:1 says 1.4.0", now.Differ[0].String())
	assert.Equal(t, "app/src/main/AndroidManifest.xml:1 says 11, and app/build.gradle:1 says 12", now.Differ[1].String())
	require.Len(t, now.Broken, 1)
	assert.Equal(t, "nine", now.Broken[0].Value)
}

func TestEditsThatCannotBe(t *testing.T) {
	files := map[string]string{"VERSION": "1.4.0\n", "build.gradle": "android.defaultConfig.versionCode = code()\n"}
	found := Find(treeOf(files), nil, nil)
	require.Len(t, found.Places, 2)
	file, computed := found.Places[0], found.Places[1]
	for about, c := range map[string]struct {
		name, text string
		changes    []Change
	}{
		"changed meanwhile": {"VERSION", "2.4.0\n", []Change{{file, "1.5.0"}}},
		"cut off meanwhile": {"VERSION", "1", []Change{{file, "1.5.0"}}},
		"computed":          {"build.gradle", files["build.gradle"], []Change{{computed, "12"}}},
		"another file":      {"VERSION2", "1.4.0\n", []Change{{file, "1.5.0"}}},
		"no version":        {"VERSION", "1.4.0\n", []Change{{file, "1.5.0\nrm -rf /"}}},
		"quotes":            {"VERSION", "1.4.0\n", []Change{{file, `1"; x`}}},
		"two at one place":  {"VERSION", "1.4.0\n", []Change{{file, "1.5.0"}, {file, "1.6.0"}}},
		"nothing":           {"VERSION", "1.4.0\n", []Change{{file, ""}}},
	} {
		_, err := Edit(c.name, []byte(c.text), c.changes)
		assert.Error(t, err, about)
	}
	_, err := EditAll(treeOf(files), []Change{{file, "1.5.0"}, {computed, "12"}})
	assert.Error(t, err, "all or none")
}

func TestWhatIsNearlyAPlace(t *testing.T) {
	for text, c := range map[string]struct{ file, want string }{
		"android.defaultConfig.versionCode = 1_999":                                                         {"app/build.gradle", "app/build.gradle:1 build 1_999"},
		"<plist><array><dict><key>CFBundleVersion</key><string>3</string></dict></array></plist>":           {"Info.plist", ""},
		"<plist><dict><key>X</key><dict><key>CFBundleVersion</key><string>3</string></dict></dict></plist>": {"Info.plist", ""},
		"<list><dict><key>CFBundleVersion</key><string>3</string></dict></list>":                            {"Info.plist", ""},
		"MARKETING_VERSION = // none yet\n":                                                                 {"a.xcconfig", ""},
		"MARKETING_VERSION = 1.9 // of the almanac\n":                                                       {"a.xcconfig", "a.xcconfig:1 name 1.9"},
		"version:\nname: x\n":                               {"pubspec.yaml", ""},
		"android { flavors.create('x') { versionCode 9 } }": {"build.gradle", "build.gradle:1 build 9"},
	} {
		assert.Equal(t, c.want, shown(Find(treeOf(map[string]string{c.file: text}), nil, nil)), text)
	}
}
