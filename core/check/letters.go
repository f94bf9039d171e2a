package check

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/definition"
)

// A file system of a person's machine may take two spellings for one, a runner's does not: what a source names in other
// letters than Git has it is there here, and not there.

// naming are how sources name others beside them, by the ends of their names, and what may be left out of the name.
var naming = []struct {
	of     *regexp.Regexp // names of the sources
	word   string         // in each line that names one
	names  *regexp.Regexp // what a line names, the first group
	leaves []string       // what a name may leave out at its end
}{
	{regexp.MustCompile(`\.(c|cc|cpp|cxx|h|hh|hpp|m|mm)$`), `"`,
		regexp.MustCompile(`^[ \t]*#[ \t]*(?:include|import)[ \t]+"([^"]+)"`), []string{""}},
	{regexp.MustCompile(`\.(js|jsx|mjs|cjs|ts|tsx|vue|svelte)$`), "./",
		regexp.MustCompile(`(?:from|import|require\()\s*['"](\.{1,2}/[^'"]+)['"]`),
		[]string{"", ".js", ".jsx", ".mjs", ".cjs", ".ts", ".tsx", ".d.ts", ".json", ".vue", ".svelte", "/index.js",
			"/index.jsx", "/index.ts", "/index.tsx"}},
	{regexp.MustCompile(`\.dart$`), ".dart", regexp.MustCompile(`^(?:import|export|part)\s+['"]([^'":]+\.dart)['"]`),
		[]string{""}},
}

// maxNamed is how many names of a source are looked at, in lines of at most maxLine bytes; maxOther how many are told.
const maxNamed, maxLine, maxOther = 2000, 1000, 10

// letters finds files that a source names in other letters than Git has them.
func (t *Tree) letters(file, text string) (found []definition.Finding) {
	for _, kind := range naming {
		if !kind.of.MatchString(file) {
			continue
		}
		n, looked := 0, 0
		for line := range strings.Lines(text) {
			n++
			if len(line) > maxLine || !strings.Contains(line, kind.word) || looked == maxNamed || len(found) == maxOther {
				continue
			}
			m := kind.names.FindStringSubmatch(line)
			if m == nil {
				continue
			}
			looked++
			if there := t.inOtherLetters(path.Join(path.Dir(file), m[1]), kind.leaves); there != "" {
				found = append(found, inFile("letter-case", file, n, strings.TrimSuffix(line, "\n"),
					fmt.Sprintf("%q is named here, and Git has %s", m[1], there),
					"Write it as it is: a runner's file system tells capitals from small letters."))
			}
		}
	}
	return found
}

// inOtherLetters finds the file that a name means but for its letters; "" when there is one of exactly that name, or
// none.
func (t *Tree) inOtherLetters(name string, leaves []string) string {
	if strings.HasPrefix(name, "../") {
		return ""
	}
	if slices.ContainsFunc(leaves, func(end string) bool { return t.has(name + end) }) {
		return ""
	}
	if t.folded == nil {
		t.folded = map[string]string{}
		for _, e := range t.Entries {
			t.folded[strings.ToLower(e.Path)] = e.Path
		}
	}
	for _, end := range leaves {
		if there, ok := t.folded[strings.ToLower(name+end)]; ok {
			return there
		}
	}
	return ""
}
