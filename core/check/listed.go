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

// listed finds what a step with checklist would stop a package for, as far as sources tell: it costs a second here and
// a build there.
func (c *checker) listed() {
	if !c.holdsAgainstList() {
		return
	}
	for _, a := range c.tree.apps().places {
		if a.app.Checklist == nil {
			continue
		}
		l := listChecker{c, a.app, *a.app.Checklist}
		for _, e := range c.tree.Entries {
			dirs := strings.Split(path.Dir(e.Path), "/")
			if e.Link || e.Submodule || slices.ContainsFunc(dirs, notReleased) || slices.ContainsFunc(dirs, isTest) ||
				!within(a.app.In, e.Path) {
				continue
			}
			switch base := path.Base(e.Path); {
			case base == "AndroidManifest.xml" && a.app.Android != "":
				l.manifest(e.Path, c.tree.text(e.Path))
			case strings.HasPrefix(base, "build.gradle") && a.app.Android != "":
				l.target(e.Path, c.tree.text(e.Path), gradleTarget)
			case base == "Info.plist" && a.app.IOS != "":
				l.list(e.Path, c.tree.text(e.Path))
			}
		}
	}
}

// holdsAgainstList tells whether any step of the pipeline does.
func (c *checker) holdsAgainstList() bool {
	for _, job := range c.p.Job {
		for _, s := range job.Step {
			if s.Checklist != nil {
				return true
			}
		}
	}
	return false
}

// within tells whether a file is one of an app's own.
func within(in []string, name string) bool {
	return len(in) == 0 || slices.ContainsFunc(in, func(place string) bool {
		place = path.Clean(place)
		return place == "." || name == place || strings.HasPrefix(name, place+"/")
	})
}

// listChecker holds one app's sources against its checklist.
type listChecker struct {
	*checker
	app   *definition.App
	rules definition.AppChecklist
}

// ahead tells of what a rule would find, unless it is accepted.
func (l listChecker) ahead(rule, file, text string, at int, message, fix string) {
	if slices.ContainsFunc(l.rules.Accept, func(a definition.Acceptance) bool { return a.Rule == rule }) {
		return
	}
	line := strings.Count(text[:at], "\n") + 1
	l.keep(inFile("checklist-ahead", file, line, lineOf(text, line),
		message+"; the checklist will stop the package ["+rule+"]", fix))
}

var (
	permissionForm = regexp.MustCompile(`<uses-permission(?:-sdk-23)?\s[^>]*?android:name\s*=\s*"([^"]{1,200})"[^>]*>`)
	manifestTarget = regexp.MustCompile(`android:targetSdkVersion\s*=\s*"(\d{1,4})"`)
	gradleTarget   = regexp.MustCompile(`(?m)^[ \t]*targetSdk(?:Version)?[ \t]*[=( ][ \t]*(\d{1,4})\b`)
	comment        = regexp.MustCompile(`(?s)<!--.*?-->`)
)

// manifest checks permissions and level.
func (l listChecker) manifest(file, text string) {
	text = comment.ReplaceAllStringFunc(text, func(c string) string { // lines stay where they are
		return strings.Repeat("\n", strings.Count(c, "\n"))
	})
	l.target(file, text, manifestTarget)
	if l.rules.Permissions == nil {
		return
	}
	for _, m := range permissionForm.FindAllStringSubmatchIndex(text, definition.MaxFindings) {
		name := text[m[2]:m[3]]
		if slices.Contains(l.rules.Permissions, name) || strings.Contains(text[m[0]:m[1]], `tools:node="remove"`) {
			continue
		}
		l.ahead("permission-added", file, text, m[0], name+" is not among the permissions agreed in "+definition.AppsPath,
			"Remove it, or agree to it there, in a change of its own.")
	}
}

// target checks the level that an app is made for.
func (l listChecker) target(file, text string, form *regexp.Regexp) {
	m := form.FindStringSubmatchIndex(text)
	if m == nil {
		return
	}
	if n, err := strconv.Atoi(text[m[2]:m[3]]); err == nil && n < l.rules.Target {
		l.ahead("low-target", file, text, m[0], fmt.Sprintf("the app is made for level %d of Android, and %d is the least", n,
			l.rules.Target), fmt.Sprintf("Raise it to %d.", l.rules.Target))
	}
}

// list checks the property list of an app, which others have, too: frameworks, and extensions.
func (l listChecker) list(file, text string) {
	at := strings.Index(text, "<key>CFBundlePackageType</key>")
	if at < 0 || !strings.Contains(text[at:min(len(text), at+200)], ">APPL<") &&
		!strings.Contains(text[at:min(len(text), at+200)], "$(PRODUCT_BUNDLE_PACKAGE_TYPE)") ||
		strings.Contains(text, "<key>NSExtension</key>") || strings.Contains(text, "ITSAppUsesNonExemptEncryption") {
		return
	}
	l.ahead("encryption-undeclared", file, text, at,
		"the app does not say whether it uses encryption that has to be declared",
		"Add ITSAppUsesNonExemptEncryption: false for what only uses https.")
}
