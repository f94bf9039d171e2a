package check

import (
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
		a := appChecker{c}
		a.versions()
		a.behind()
		a.tagged()
		a.secretProfiles()
		for _, f := range slices.Concat(c.tree.manifests(), c.tree.profiles()) {
			c.keep(f)
		}
	}
	c.listed()
	if publishes(c.p) {
		for _, name := range c.p.JobNames() {
			debugChecker{c}.job(c.p.Job[name])
		}
	}
}
