package check

import (
	"fmt"
	"maps"
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

// makeRule is a rule of a makefile (POSIX.1-2017, make, Target Rules).
type makeRule struct {
	needs []string
	lines map[int]string // its recipe, by the lines of the file
}

var (
	makeRuleForm = regexp.MustCompile(`^([^\s#:=][^:=#]*?)\s*::?([^=].*)?$`)
	makeKindForm = regexp.MustCompile(`(?i)^\s*(?:export\s+)?` +
		`([A-Z_]*(?:BUILD_?TYPE|MODE|KIND|CONFIG|CONFIGURATION|VARIANT))\s*[?:]{0,2}=\s*["']?debug["']?\s*(?:#.*)?$`)
)

// makefileBuilds looks at what a target's recipe and those of what it needs do, and at variables that choose a debug
// build unless something sets them.
func (c debugChecker) makefileBuilds(file, target string, isSet func(name string) bool) {
	text := c.tree.text(file)
	if !c.fresh(file+" "+target, text) {
		return
	}
	lines := strings.Split(text, "\n")
	rules, first := makeRules(lines)
	if target == "" {
		target = first
	}
	built, used := rules.recipes(target)
	for n, line := range lines {
		if m := makeKindForm.FindStringSubmatch(line); m != nil && used[m[1]] && !isSet(m[1]) {
			c.inFile(file, n+1, line, fmt.Sprintf("%s makes a debug build unless it is set, and a pipeline for releases "+
				"calls make %s without", m[1], target))
		}
		if recipe, is := built[n]; is && debugWord(recipe) != "" {
			c.inFile(file, n+1, line, fmt.Sprintf("%q makes a debug build, and a pipeline for releases calls make %s",
				debugWord(recipe), target))
		}
	}
}

type makeRuleSet map[string]*makeRule

func makeRules(lines []string) (rules makeRuleSet, first string) {
	rules = makeRuleSet{}
	var now []*makeRule
	for n, line := range lines {
		if strings.HasPrefix(line, "\t") {
			for _, r := range now {
				r.lines[n] = line
			}
			continue
		}
		m := makeRuleForm.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		now = nil
		for _, name := range strings.Fields(m[1]) {
			if rules[name] == nil {
				rules[name] = &makeRule{lines: map[int]string{}}
			}
			if first == "" && !strings.HasPrefix(name, ".") {
				first = name
			}
			rules[name].needs = append(rules[name].needs, strings.Fields(m[2])...)
			now = append(now, rules[name])
		}
	}
	return rules, first
}

var makeVariable = regexp.MustCompile(`\$[({]([A-Za-z_]+)[)}]`)

// recipes are the lines that making a target runs, by the lines of the file, and the variables in them.
func (s makeRuleSet) recipes(target string) (lines map[int]string, used map[string]bool) {
	lines, used = map[int]string{}, map[string]bool{}
	seen := map[string]bool{target: true}
	for next := []string{target}; len(next) > 0; next = next[1:] {
		r := s[next[0]]
		if r == nil {
			continue
		}
		maps.Copy(lines, r.lines)
		for _, line := range r.lines {
			for _, m := range makeVariable.FindAllStringSubmatch(line, -1) {
				used[m[1]] = true
			}
		}
		for _, need := range r.needs {
			if !seen[need] {
				seen[need] = true
				next = append(next, need)
			}
		}
	}
	return lines, used
}
