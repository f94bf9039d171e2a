package check

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/purpose"
	"gentlepiston.example/piston/core/versionfile"
)

// asks finds the first word by which a source asks for it; at is -1 when it does not. All sources are looked through
// for all words, so that it matters how.
func asks(p purpose.Purpose, text string) (word string, at int) {
	for _, word := range p.Words {
		for from := 0; ; {
			i := strings.Index(text[from:], word)
			if i < 0 {
				break
			}
			start, end := from+i, from+i+len(word)
			if !inWord(text, start-1) && !inWord(text, end) && !commentedOut(text, start) {
				return word, start
			}
			from = end
		}
	}
	return "", -1
}

// inWord tells whether a byte goes on with a name.
func inWord(text string, i int) bool {
	if i < 0 || i >= len(text) {
		return false
	}
	c := text[i]
	return c == '_' || c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c >= 0x80
}

// missingPurposes finds code for iOS that asks for what no property list says a purpose of, and purposes that say
// nothing. It reads all sources, which is for a work tree on a disk.
func missingPurposes(t *Tree) (found []definition.Finding) {
	said, any := t.saidPurposes()
	if !any {
		return nil // there is no app for iOS
	}
	for i, e := range t.Entries {
		if i == maxLooked || len(found) > definition.MaxFindings {
			break
		}
		ext := path.Ext(e.Path)
		if e.Link || e.Submodule || !slices.Contains([]string{".swift", ".m", ".mm"}, ext) ||
			slices.ContainsFunc(strings.Split(path.Dir(e.Path), "/"), isTest) {
			continue
		}
		text := t.text(e.Path)
		for _, p := range purpose.All {
			if slices.ContainsFunc(p.Keys, func(key string) bool { return said[key] }) {
				continue
			}
			word, at := asks(p, text)
			if at < 0 {
				continue
			}
			line := strings.Count(text[:at], "\n") + 1
			found = append(found, inFile("no-purpose", e.Path, line, lineOf(text, line),
				fmt.Sprintf("%s asks for %s, and no property list says why", word, p.What),
				"Add "+p.Keys[0]+" to Info.plist, with a sentence for those who are asked."))
			said[p.Keys[0]] = true // once is enough
		}
	}
	if t.cut {
		return nil // what was not read may say it
	}
	return found
}

func isTest(dir string) bool {
	return versionfile.Skipped(dir) || strings.HasSuffix(dir, "Tests") || strings.EqualFold(dir, "tests")
}

// commentedOut tells whether a place in a source is behind the slashes of a comment.
func commentedOut(text string, at int) bool {
	line := text[strings.LastIndexByte(text[:at], '\n')+1 : at]
	return strings.Contains(line, "//")
}

// purposeFiles are the kinds of files in which purposes are said, or from which property lists are made.
var purposeFiles = []string{".plist", ".pbxproj", ".xcconfig", ".json", ".yml", ".yaml", ".xml", ".js", ".ts"}

var purposeKey = regexp.MustCompile(`(N(?:S|FC)[A-Za-z]+UsageDescription)\b(?:</key>\s*<string>\s*(</string>))?`)

// saidPurposes are the keys for which a file says a purpose; any tells whether there is an app for iOS at all.
func (t *Tree) saidPurposes() (said map[string]bool, any bool) {
	said = map[string]bool{}
	for _, e := range t.Entries {
		base, ext := path.Base(e.Path), path.Ext(e.Path)
		if base == "Info.plist" || ext == ".pbxproj" {
			any = true
		}
		if !slices.Contains(purposeFiles, ext) {
			continue
		}
		for _, m := range purposeKey.FindAllStringSubmatch(t.text(e.Path), -1) {
			said[m[1]] = said[m[1]] || m[2] == "" // an empty sentence says nothing
		}
	}
	return said, any
}
