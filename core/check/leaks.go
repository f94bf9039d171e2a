package check

import (
	"regexp"
	"strings"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/leak"
)

// testFiles hold values that are made up.
var testFiles = regexp.MustCompile(`(?i)(^|/)(tests?|__tests__|spec|specs|androidTest|\w+Tests|mocks?|samples?|` +
	`examples?|docs?)/|[._-](test|spec)\.\w+$`)

// leaked finds a value in a text that looks like a real one under a secret's name.
func leaked(file, text string) (f definition.Finding, found bool) {
	if testFiles.MatchString(file) {
		return f, false
	}
	start, found := leak.Find(text)
	if !found {
		return f, false
	}
	return inFile("maybe-secret", file, strings.Count(text[:start], "\n")+1, "",
		"a value that looks like a real password, token or key stands here, in a file that Git tracks",
		"Take it out, make a new one, and set it as a secret; the old one stays in the history. If it is none, allow = "+
			"[\"maybe-secret\"]."), true
}
