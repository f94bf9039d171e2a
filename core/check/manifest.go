package check

import (
	"encoding/xml"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/versionfile"
)

// manifests finds what stores or phones refuse in what an Android app says of itself, and whether it has code for
// 64-bit processors. Manifests of debug builds and tests are passed by. It is the same for all pipelines, and found
// once.
func (t *Tree) manifests() []definition.Finding {
	if t.inManifests != nil {
		return t.inManifests.found
	}
	m := &manifestReader{}
	t.inManifests = m
	for _, e := range t.Entries {
		dirs := strings.Split(path.Dir(e.Path), "/")
		if e.Link || e.Submodule || slices.ContainsFunc(dirs, notReleased) {
			continue
		}
		switch base := path.Base(e.Path); {
		case base == "AndroidManifest.xml":
			m.manifest(e.Path, t.text(e.Path))
		case strings.HasSuffix(base, ".gradle") || strings.HasSuffix(base, ".gradle.kts"):
			m.processors(e.Path, t.text(e.Path))
		}
	}
	return m.found
}

// manifestReader gathers what is found.
type manifestReader struct{ found []definition.Finding }

// notReleased tells a folder whose files are in no release.
func notReleased(dir string) bool {
	return versionfile.Skipped(dir) || slices.Contains([]string{"debug", "profile", "test", "androidTest"}, dir)
}

// revealing are attributes of an application that no release should have, and what each does.
var revealing = map[string]string{
	"debuggable":           "lets anybody attach a debugger to the app",
	"testOnly":             "makes the package one for tests, which phones do not install",
	"usesCleartextTraffic": "lets the app speak without encryption to anybody",
}

// manifest checks one (Android developer documentation, "<application>", "<activity>").
func (m *manifestReader) manifest(file, text string) {
	d := xml.NewDecoder(strings.NewReader(text))
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	component, at, decided := "", 0, true
	for {
		start := int(d.InputOffset())
		tok, err := d.RawToken()
		if err != nil {
			return // that it cannot be read is said where versions are looked for
		}
		tag, is := tok.(xml.StartElement)
		if !is {
			continue
		}
		switch tag.Name.Local {
		case "application":
			for _, a := range tag.Attr {
				if why := revealing[a.Name.Local]; why != "" && a.Value == "true" {
					line := start + max(0, strings.Index(text[start:], a.Name.Local))
					m.inText("debug-manifest", file, text, line, fmt.Sprintf("android:%s %s", a.Name.Local, why),
						"Take it out, or move it into the manifest of the debug build, src/debug/AndroidManifest.xml.")
				}
			}
		case "uses-permission":
			if attribute(tag, "name") == "android.permission.READ_LOGS" {
				m.inText("debug-manifest", file, text, start, "the app asks for other apps' logs",
					"Take the permission out, or move it into src/debug/AndroidManifest.xml.")
			}
		case "activity", "activity-alias", "service", "receiver":
			component, at, decided = tag.Name.Local, start, attribute(tag, "exported") != ""
		case "intent-filter":
			if !decided {
				m.inText("not-exported", file, text, at, fmt.Sprintf("this %s has an intent-filter and does not say whether "+
					"other apps may start it; from target level 31 on phones refuse the package", component),
					`Add android:exported="true" or "false".`)
				decided = true
			}
		}
	}
}

func attribute(tag xml.StartElement, name string) string {
	for _, a := range tag.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

var (
	abiForm   = regexp.MustCompile(`(?m)^[^/\n]*\b(?:abiFilters|include)\b[^\n]*["'](?:armeabi-v7a|x86)["'][^\n]*$`)
	wide64Bit = regexp.MustCompile(`["'](arm64-v8a|x86_64)["']`)
)

// processors checks that a build script which names processors names one with 64 bits: stores want that since 2019.
func (m *manifestReader) processors(file, text string) {
	if at := only32Bits(text); at >= 0 {
		m.inText("no-64-bit", file, text, at, "only processors with 32 bits are built for; stores refuse that",
			"Add arm64-v8a.")
		return
	}
	for _, block := range releaseBlock.FindAllStringIndex(text, maxBlocks) {
		if at := only32Bits(text[block[1]:endOfBlock(text, block[1])]); at >= 0 {
			m.inText("no-64-bit", file, text, block[1]+at, "the release is built for processors with 32 bits only; stores "+
				"refuse that", "Add arm64-v8a.")
			return
		}
	}
}

// releaseBlock begins what is said of a release, in Groovy and in Kotlin.
var releaseBlock = regexp.MustCompile(`\brelease["']?\)?[ \t]*\{`)

// maxBlocks bounds how many of them are looked at.
const maxBlocks = 100

// only32Bits finds where a text names processors, none of them with 64 bits; -1 when it does not.
func only32Bits(text string) int {
	at := abiForm.FindStringIndex(text)
	if at == nil || wide64Bit.MatchString(text) {
		return -1
	}
	line := text[at[0]:at[1]]
	return at[0] + len(line) - len(strings.TrimLeft(line, " \t"))
}

// endOfBlock finds the brace that ends a block whose content begins somewhere.
func endOfBlock(text string, from int) int {
	for depth, i := 1, from; i < len(text); i++ {
		switch text[i] {
		case '{':
			depth++
		case '}':
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return len(text)
}

// inText complains of a place in a file.
func (m *manifestReader) inText(code, file, text string, at int, message, fix string) {
	if len(m.found) > definition.MaxFindings {
		return // nobody reads so many, and each costs
	}
	f := whole(code, file, message, fix)
	f.Line = strings.Count(text[:at], "\n") + 1
	f.Col = len([]rune(text[strings.LastIndexByte(text[:at], '\n')+1:at])) + 1
	f.Excerpt = lineOf(text, f.Line)
	m.found = append(m.found, f)
}
