package definition

import (
	"fmt"
	"regexp"
	"regexp/syntax"
)

// CausesFile is the file of the folder in which a team describes what fails with them, and is not a pipeline.
const CausesFile = "causes.toml"

// CausesPath is where a repository has it.
const CausesPath = Folder + "/" + CausesFile

// Causes are what a team knows of its failures.
type Causes struct {
	// What fails, each with lines by which it is known. They are looked for before the product's own; the first that fits
	// is told.
	Cause []Cause `toml:"cause" json:"cause"`
}

// Cause is something that fails.
type Cause struct {
	// Names it: letters, digits and dashes.
	//
	//	name = "charts-behind"
	Name string `toml:"name" json:"name"`
	// What it is, in a few words.
	//
	//	title = "the charts are behind the code"
	Title string `toml:"title" json:"title"`
	// Patterns (RE2) of which one has to be in a line of the log.
	//
	//	says = ['chart .* has no edition \d+']
	Says []string `toml:"says" json:"says"`
	// What it means.
	//
	//	means = "The submodule points at charts that this version cannot read."
	Means string `toml:"means" json:"means,omitempty"`
	// What to do.
	//
	//	do = "Raise the submodule charts to its newest tag."
	Do string `toml:"do" json:"do,omitempty"`
	// Lines that one of the patterns must know: check holds them against each other.
	//
	//	example = ["chart skagen has no edition 9"]
	Example []string `toml:"example" json:"example,omitempty"`
}

const (
	maxCauses   = 200
	maxPatterns = 20
	longPattern = 500
	longText    = 2000
	maxProgram  = 5000 // instructions of a pattern
)

var causeName = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

// ParseCauses reads causes from a file. They are nil when any finding is an error.
func ParseCauses(file string, text []byte) ([]Cause, []Finding) {
	all := new(Causes)
	ix, found := decode(&source{file: file, text: text}, all)
	if ix == nil {
		return nil, Foremost(found)
	}
	v := &validator{ix: ix, found: found}
	causes(v, all.Cause)
	sortFindings(v.found)
	if HasErrors(v.found) {
		return nil, Foremost(v.found)
	}
	return all.Cause, v.found
}

func causes(v *validator, list []Cause) {
	if len(list) > maxCauses {
		v.add("too-many", fmt.Sprintf("%d causes; at most %d are read", len(list), maxCauses), "Take some out.", "cause")
	}
	seen := map[string]bool{}
	for i, c := range list {
		path := func(key string) []string { return []string{"cause", fmt.Sprint(i), key} }
		switch {
		case len(c.Name) > 63 || !causeName.MatchString(c.Name):
			v.add("bad-name", fmt.Sprintf("%q is no name of a cause", c.Name), "Use letters, digits and dashes.",
				path("name")...)
		case seen[c.Name]:
			v.add("bad-name", fmt.Sprintf("there is a cause %q already", c.Name), "Name it otherwise.", path("name")...)
		}
		seen[c.Name] = true
		if c.Title == "" {
			v.add("missing-key", "a cause needs a title: what it is, in a few words", "Add one.", path("name")...)
		}
		if len(c.Title)+len(c.Means)+len(c.Do) > longText {
			v.add("bad-value", fmt.Sprintf("title, means and do have more than %d characters", longText), "Say it shorter.",
				path("title")...)
		}
		if len(c.Says) == 0 || len(c.Says) > maxPatterns {
			v.add("missing-key", fmt.Sprintf("a cause needs patterns by which it is known: 1 to %d", maxPatterns),
				`Add says = ["…"].`, path("name")...)
		}
		patterns(v, c, path)
	}
}

// patterns checks what a cause is known by, and that its examples are.
func patterns(v *validator, c Cause, path func(string) []string) {
	var all []*regexp.Regexp
	for n, p := range c.Says {
		at := append(path("says"), fmt.Sprint(n))
		e, err := pattern(p)
		if err != nil {
			v.add("bad-pattern", fmt.Sprintf("%.80q: %v", p, err),
				"Patterns are RE2: no references back, no looking ahead.", at...)
			continue
		}
		if e.MatchString("") {
			v.add("bad-pattern", fmt.Sprintf("%.80q fits every line", p), "Say more of the line.", at...)
		}
		all = append(all, e)
	}
	for n, line := range c.Example {
		fits := len(all) < len(c.Says)
		for _, e := range all {
			fits = fits || e.MatchString(line)
		}
		if !fits {
			v.add("bad-pattern", fmt.Sprintf("no pattern of %s knows its example %.80q", c.Name, line),
				"Correct the pattern, or the example.", append(path("example"), fmt.Sprint(n))...)
		}
	}
}

// pattern compiles one that a stranger wrote. RE2 takes time in proportion to text and pattern; so the pattern is
// bounded, as it is when its repetitions are written out.
func pattern(text string) (*regexp.Regexp, error) {
	if len(text) > longPattern {
		return nil, fmt.Errorf("it has more than %d characters", longPattern)
	}
	tree, err := syntax.Parse(text, syntax.Perl)
	if err != nil {
		return nil, err
	}
	program, err := syntax.Compile(tree.Simplify())
	if err != nil {
		return nil, err
	}
	if len(program.Inst) > maxProgram {
		return nil, fmt.Errorf("with its repetitions it is %d parts long; at most %d", len(program.Inst), maxProgram)
	}
	return regexp.Compile(text)
}
