package check

import (
	"fmt"
	"regexp"
	"strings"
)

// makeRule is a rule of a makefile (POSIX.1-2017, make, Target Rules), as far as it says what is built.
type makeRule struct {
	needs []string
	used  []string // variables in its recipe
	debug []int    // lines of its recipe that make a debug build, from 0
}

// makeKind is a variable that chooses a debug build unless something sets it.
type makeKind struct {
	name string
	line int // from 0
}

// makeBuilds is what is known of a makefile.
type makeBuilds struct {
	lines []string
	rules map[string][]*makeRule
	first string // its first target, which make makes when it is told none
	kinds []makeKind
}

var (
	makeRuleForm = regexp.MustCompile(`^([^\s#:=][^:=#]*?)\s*::?([^=].*)?$`)
	makeVariable = regexp.MustCompile(`\$[({]([A-Za-z_]+)[)}]`)
	makeKindForm = regexp.MustCompile(`(?i)^\s*(?:export\s+)?` +
		`([A-Z_]*(?:BUILD_?TYPE|MODE|KIND|CONFIG|CONFIGURATION|VARIANT))\s*[?:]{0,2}=\s*["']?debug["']?\s*(?:#.*)?$`)
)

// makeBuilds reads a makefile, once for all pipelines.
func (t *Tree) makeBuilds(file string) *makeBuilds {
	if known := t.builds[file]; known != nil {
		return known
	}
	m := &makeBuilds{rules: map[string][]*makeRule{}}
	if t.builds == nil {
		t.builds = map[string]*makeBuilds{}
	}
	t.builds[file] = m
	text := t.text(file)
	if len(text) > maxInner {
		return m
	}
	m.lines = strings.Split(text, "\n")
	now := &makeRule{} // of lines before the first rule
	for n, line := range m.lines {
		if !strings.HasPrefix(line, "\t") {
			now = m.head(n, line, now)
			continue
		}
		for _, v := range makeVariable.FindAllStringSubmatch(line, -1) {
			now.used = append(now.used, v[1])
		}
		if debugWord(line) != "" {
			now.debug = append(now.debug, n)
		}
	}
	return m
}

// head reads a line that is of no recipe, and gives the rule whose recipe may follow.
func (m *makeBuilds) head(n int, line string, now *makeRule) *makeRule {
	if kind := makeKindForm.FindStringSubmatch(line); kind != nil {
		m.kinds = append(m.kinds, makeKind{kind[1], n})
	}
	rule := makeRuleForm.FindStringSubmatch(line)
	if rule == nil {
		return now
	}
	now = &makeRule{needs: strings.Fields(rule[2])}
	for _, name := range strings.Fields(rule[1]) {
		m.rules[name] = append(m.rules[name], now)
		if m.first == "" && !strings.HasPrefix(name, ".") {
			m.first = name
		}
	}
	return now
}

// of gathers what making a target does.
func (m *makeBuilds) of(target string) (debug []int, used map[string]bool, looked int) {
	used = map[string]bool{}
	seen, done := map[string]bool{target: true}, map[*makeRule]bool{}
	for next := []string{target}; len(next) > 0; next = next[1:] {
		for _, r := range m.rules[next[0]] {
			if looked++; done[r] {
				continue
			}
			done[r] = true
			debug = append(debug, r.debug...)
			for _, name := range r.used {
				used[name] = true
			}
			for _, need := range r.needs {
				if !seen[need] {
					seen[need] = true
					next = append(next, need)
				}
			}
			looked += len(r.used) + len(r.needs)
		}
	}
	return debug, used, looked
}

// makefileBuilds looks at what a target's recipe and those of what it needs do, and at variables that choose a debug
// build unless something sets them.
func (c debugChecker) makefileBuilds(file, target string, isSet func(name string) bool) {
	m := c.tree.makeBuilds(file)
	if target == "" {
		target = m.first
	}
	if !c.fresh(file+" "+target, "") {
		return
	}
	debug, used, looked := m.of(target)
	if !c.spend(100 * looked) { // maps cost more than bytes
		return
	}
	for _, k := range m.kinds {
		if used[k.name] && !isSet(k.name) {
			c.inFile(file, k.line+1, m.lines[k.line], fmt.Sprintf("%s makes a debug build unless it is set, and a pipeline for "+
				"releases calls make %s without", k.name, target))
		}
	}
	for _, n := range debug {
		c.inFile(file, n+1, m.lines[n], fmt.Sprintf("%q makes a debug build, and a pipeline for releases calls make %s",
			debugWord(m.lines[n]), target))
	}
}
