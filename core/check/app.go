package check

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"gentlepiston.example/piston/core/definition"
)

// mark is something to look for in the files that describe an app.
type mark struct {
	files *regexp.Regexp // of the base name
	form  *regexp.Regexp // the value is its first group
}

var (
	gradleFile   = regexp.MustCompile(`^build\.gradle(\.kts)?$`)
	manifestFile = regexp.MustCompile(`^AndroidManifest\.xml$`)
	plistFile    = regexp.MustCompile(`^Info\.plist(\.in)?$`)
	projectFile  = regexp.MustCompile(`^project\.pbxproj$`)
)

// appIDs are where an app's id stands (Android developer documentation, "Set the application ID"; Information Property
// List Key Reference, CFBundleIdentifier).
var appIDs = []mark{
	{gradleFile, regexp.MustCompile(`applicationId\s*=?\s*["']([^"'$]+)["']`)},
	{manifestFile, regexp.MustCompile(`\spackage\s*=\s*"([^"$]+)"`)},
	{plistFile, regexp.MustCompile(`<key>CFBundleIdentifier</key>\s*<string>([^<$]+)</string>`)},
	{projectFile, regexp.MustCompile(`PRODUCT_BUNDLE_IDENTIFIER\s*=\s*"?([^";$]+)"?;`)},
}

var versionCodes = []mark{
	{gradleFile, regexp.MustCompile(`versionCode\s*=?\s*(\d+)\b`)},
	{manifestFile, regexp.MustCompile(`android:versionCode\s*=\s*"(\d+)"`)},
	{plistFile, regexp.MustCompile(`<key>CFBundleVersion</key>\s*<string>(\d+)</string>`)},
	{projectFile, regexp.MustCompile(`CURRENT_PROJECT_VERSION\s*=\s*(\d+);`)},
}

// exampleID recognises ids of templates: stores refuse com.example, and "your" company is nobody's.
var exampleID = regexp.MustCompile(`(?i)^(com|org|net|io)\.(example|mycompany|company|yourcompany|yourname|domain|` +
	`test|acme|android\.example)(\.|$)|your[._-]?app|change[._-]?me`)

// each visits every match of marks in the app's files: the value, and its place.
func (c *checker) each(marks []mark, visit func(file string, line, col int, text, value string)) {
	for _, e := range c.tree.Entries {
		base := path.Base(e.Path)
		if !slices.ContainsFunc(marks, func(m mark) bool { return m.files.MatchString(base) }) {
			continue
		}
		text := c.tree.text(e.Path)
		for _, m := range marks {
			if !m.files.MatchString(base) {
				continue
			}
			for _, at := range m.form.FindAllStringSubmatchIndex(text, -1) {
				line := strings.Count(text[:at[2]], "\n") + 1
				start := strings.LastIndexByte(text[:at[2]], '\n') + 1
				end := len(text)
				if n := strings.IndexByte(text[at[2]:], '\n'); n >= 0 {
					end = at[2] + n
				}
				visit(e.Path, line, at[2]-start+1, text[start:end], text[at[2]:at[3]])
			}
		}
	}
}

// publishes reports whether a pipeline makes what leaves the house: its name, group or tags say so.
func publishes(p *definition.Pipeline) bool {
	for _, word := range []string{p.Name, p.Group} {
		for _, part := range strings.FieldsFunc(word, func(r rune) bool { return r == '-' || r == '_' }) {
			if slices.Contains([]string{"release", "store", "publish", "production"}, part) {
				return true
			}
		}
	}
	return p.Trigger.Tag != nil
}

// app checks what stores would refuse, in pipelines that make what goes there.
func (c *checker) app() {
	if !publishes(c.p) {
		return
	}
	add := func(code, message, fix, file string, line, col int, text string) {
		f := whole(code, file, message, fix)
		f.Line, f.Col, f.Excerpt = line, col, strings.TrimRight(text, "\r")
		c.keep(f)
	}
	c.each(appIDs, func(file string, line, col int, text, value string) {
		if exampleID.MatchString(value) {
			add("example-app-id", fmt.Sprintf("the app's id is %s, which is a template's; stores refuse it", value),
				"Choose your own: it can never be changed after the first release.", file, line, col, text)
		}
	})
	c.each(versionCodes, func(file string, line, col int, text, value string) {
		n, err := strconv.ParseInt(value, 10, 64)
		switch {
		case err != nil:
		case n == 0:
			add("version-code", "the version code is 0; stores take numbers from 1 up", "Take it from PISTON_BUILD_NUMBER.",
				file, line, col, text)
		case c.service != nil && n <= c.service.LastBuild:
			add("version-code", fmt.Sprintf("the version code is fixed at %d, and build %d has been issued; stores refuse a "+
				"number that is not higher", n, c.service.LastBuild),
				"Take it from PISTON_BUILD_NUMBER.", file, line, col, text)
		}
	})
	for _, name := range c.p.JobNames() {
		c.debug(c.p.Job[name])
	}
}

var debugBuild = regexp.MustCompile(`\b(assemble|bundle|install)[A-Za-z]*Debug\b|-configuration\s+Debug\b|--debug\b|` +
	`\bCMAKE_BUILD_TYPE=Debug\b`)

func (c *checker) debug(j *definition.Job) {
	const fix = "Build the release variant."
	for _, s := range j.Step {
		for n, line := range strings.Split(s.Script, "\n") {
			if word := debugBuild.FindString(line); word != "" {
				c.keep(c.p.ScriptFinding("debug-build", severities["debug-build"],
					fmt.Sprintf("%q makes a debug build, in a pipeline for releases", word), fix, definition.Place{Job: j, Step: s},
					n+1, word))
			}
		}
	}
	for env, at := range map[*map[string]string]definition.Place{&c.p.Env: {Keys: []string{"env"}},
		&j.Env: {Job: j, Keys: []string{"env"}}} {
		for _, name := range sortedKeys(*env) {
			if strings.EqualFold((*env)[name], "debug") && !slices.Contains(sortedKeys(j.Variant), name) {
				c.add("debug-build", fmt.Sprintf("%s is %q, in a pipeline for releases", name, (*env)[name]), fix,
					definition.Place{Job: at.Job, Keys: append(slices.Clone(at.Keys), name)})
			}
		}
	}
}
