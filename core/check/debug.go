package check

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/definition"
)

// debugChecker finds builds of debug versions in pipelines for releases, whichever way the kind is chosen: by a task's
// name, an option, a variable, one of make, or in a script or makefile that a step calls.
type debugChecker struct{ *checker }

const debugFix = "Build the release variant."

// debugWords are those by which builds are told to be for debugging.
const debugWords = `\b(?:assemble|bundle|install|package)[A-Za-z]*Debug\b|` +
	`(?i:-(?:c|configuration)[ =]["']?debug\b|` +
	`--(?:debug\b|(?:variant|mode|type|build-type|buildType|profile)[ =]["']?debug\b)|` +
	`[/-]p:Configuration=["']?debug\b|-P[a-z.]*(?:variant|type|mode|kind)=["']?debug\b|` +
	`\b(?:CMAKE_)?(?:BUILD_?TYPE|BUILD_?MODE|BUILD_?KIND|CONFIGURATION|VARIANT|KIND)=["']?debug\b|` +
	`\b(?:build|package|bundle|android|ios):debug\b)`

var (
	debugBuild   = regexp.MustCompile(debugWords)
	releaseBuild = regexp.MustCompile(strings.NewReplacer("Debug", "Release", "debug", "release").Replace(debugWords))
)

// telling are variables that say how much is told, and not what is built.
var telling = regexp.MustCompile(`(?i)log|level|verbos|trace`)

// job looks at what a job says itself.
func (c debugChecker) job(j *definition.Job) {
	c.env(c.p.Env, j, definition.Place{Keys: []string{"env"}})
	c.env(j.Env, j, definition.Place{Job: j, Keys: []string{"env"}})
	for _, s := range j.Step {
		c.env(s.Env, j, definition.Place{Job: j, Step: s, Keys: []string{"env"}})
		for n, line := range strings.Split(s.Script, "\n") {
			if word := debugWord(line); word != "" {
				c.keep(c.p.ScriptFinding("debug-build", severities["debug-build"],
					fmt.Sprintf("%q makes a debug build, in a pipeline for releases", word), debugFix,
					definition.Place{Job: j, Step: s}, n+1, word))
			}
		}
	}
}

// env looks at variables. What varies is built in all its kinds, and on purpose.
func (c debugChecker) env(env map[string]string, j *definition.Job, at definition.Place) {
	for _, name := range sortedKeys(env) {
		if _, varies := j.Variant[name]; !strings.EqualFold(env[name], "debug") || telling.MatchString(name) || varies {
			continue
		}
		place := at
		place.Keys = append(slices.Clone(at.Keys), name)
		c.add("debug-build", fmt.Sprintf("%s is %q, in a pipeline for releases", name, env[name]), debugFix, place)
	}
}

// debugWord is the word of a line that makes a debug build; "" when there is none, or the line is a comment.
func debugWord(line string) string {
	if strings.HasPrefix(strings.TrimSpace(line), "#") {
		return ""
	}
	return debugBuild.FindString(line)
}

// called looks into the scripts and makefiles that a step calls.
func (c debugChecker) called(j *definition.Job, s *definition.Step, r reading) {
	for _, u := range r.uses {
		switch u.kind {
		case program, input:
			c.script(u.path)
		case makes:
			if file := c.makefile(u.path); file != "" {
				c.makefileBuilds(file, u.target, func(name string) bool {
					return c.p.Env[name]+j.Env[name]+s.Env[name] != "" || strings.Contains(s.Script, name+"=")
				})
			}
		}
	}
}

// fresh tells whether something is looked at for the first time, and whether there is time to.
func (c debugChecker) fresh(what, text string) bool {
	if c.builds == nil {
		c.builds = map[string]bool{}
	}
	if c.builds[what] || len(text) > maxInner || !c.spend(len(text)) {
		return false
	}
	c.builds[what] = true
	return true
}

// maxInner bounds a script that is looked into.
const maxInner = 256 << 10

func (c debugChecker) script(file string) {
	text := c.tree.text(file)
	first, _, _ := strings.Cut(text, "\n")
	isScript := strings.HasPrefix(first, "#!") || slices.Contains([]string{".sh", ".bash"}, path.Ext(file))
	if !isScript || path.Base(file) == "gradlew" || !c.fresh(file, text) {
		return
	}
	for n, line := range strings.Split(text, "\n") {
		if word := debugWord(line); word != "" && !releaseBuild.MatchString(text) { // with both, it chooses
			c.inFile(file, n+1, line, fmt.Sprintf("%q makes a debug build, and a pipeline for releases calls this script", word))
			return
		}
	}
}

func (c debugChecker) inFile(file string, n int, line, message string) {
	c.keep(inFile("debug-build", file, n, strings.TrimSpace(line), message, debugFix))
}
