package check

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/definition"
)

// publishing recognises commands that bring something to people or to the repository, which two at a time do twice or
// over each other.
var publishing = regexp.MustCompile(`(?m)(?:^|[;&|(]\s*)\s*(git\s+push|npm publish|yarn publish|twine upload|` +
	`rsync\s|scp\s|curl\s[^\n]*(?:\s-T|--upload-file|-X ?PUT|-F )\s?)`)

// publishers are words of which each such command has one: to look for them first is many times faster.
var publishers = []string{"push", "publish", "upload", "rsync", "scp", "curl"}

// publisher is a pipeline that publishes, and where.
type publisher struct {
	p    *definition.Pipeline
	at   definition.Place
	word string
}

// apart warns of pipelines that publish and have no group in common: they overlap.
func apart(files []File, t *Tree) {
	var first *publisher
	for i := range files {
		found := publisherOf(files[i].Pipeline, t)
		if found == nil {
			continue
		}
		if first == nil {
			first = found
			continue
		}
		if first.p.Group != "" && first.p.Group == found.p.Group {
			continue
		}
		files[i].Findings = append(files[i].Findings, New(found.p, "no-common-group",
			fmt.Sprintf("%s here, and %s in the pipeline %s: the two may be at it at the same moment", found.word, first.word,
				first.p.Name),
			fmt.Sprintf("Give both the same group, such as group = %q: of its runs one is at work at a time.",
				groupOr(first.p.Group)), found.at))
	}
}

func groupOr(name string) string {
	if name == "" {
		return "publish"
	}
	return name
}

// publisherOf finds the first step of a pipeline that publishes, in its script or a file that this calls.
func publisherOf(p *definition.Pipeline, t *Tree) *publisher {
	if p == nil {
		return nil
	}
	left := maxCalled
	for _, name := range p.JobNames() {
		j := p.Job[name]
		for _, s := range j.Step {
			for _, text := range append([]string{s.Script}, calledTexts(s.Script, t, &left)...) {
				if !slices.ContainsFunc(publishers, func(w string) bool { return strings.Contains(text, w) }) {
					continue
				}
				if m := publishing.FindStringSubmatch(text); m != nil {
					word := strings.Fields(m[1])
					return &publisher{p, definition.Place{Job: j, Step: s, Keys: []string{"script"}},
						strings.Join(word[:min(2, len(word))], " ")}
				}
			}
		}
	}
	return nil
}

// maxCalled is how many of the files that a pipeline's scripts call are read for this.
const maxCalled = 20

// calledTexts are the texts of tracked files whose paths a script says, of so many as are left.
func calledTexts(script string, t *Tree, left *int) (texts []string) {
	for _, word := range strings.Fields(script) {
		name := path.Clean(strings.Trim(word, `"';`))
		if _, tracked := t.files[name]; !tracked || *left == 0 {
			continue
		}
		*left--
		if text := t.text(name); len(text) < definition.MaxScript {
			texts = append(texts, text)
		}
	}
	return texts
}
