package check

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/definition"
)

// exampleID recognises ids of templates: stores refuse com.example, and "your" company is nobody's.
var exampleID = regexp.MustCompile(`(?i)^(com|org|net|io)\.(example|mycompany|company|yourcompany|yourname|domain|` +
	`test|acme|android\.example)(\.|$)|your[._-]?app|change[._-]?me`)

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
	if publishes(c.p) || c.p.Raises() {
		appChecker{c}.versions()
		for _, f := range c.tree.manifests() {
			c.keep(f)
		}
	}
	if !publishes(c.p) {
		return
	}
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
