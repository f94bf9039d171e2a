package imprint

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
)

// Step is all that what a step makes depends on. Two steps with the same make the same, as far as the machine lets
// them: the audit looks whether it does.
type Step struct {
	Script, Shell, Dir string
	Env                map[string]string // what it finds as variables
	Tools              map[string]string // versions, by name
	System             string            // what is installed on the machine
	Platform           string            // such as linux/amd64
	Isolation          string
	Secrets            map[string]int    // revisions, by name
	Files              map[string]string // sums of its inputs, by path
	Outputs, Reports   []string          // globs
}

// mostTold is how many files are told one by one; of more, it is told in which folders they are.
const mostTold = 4000

// Key stands for all of it.
func (s Step) Key() CacheKey {
	return CacheKey(sum("step 1", s.Script, s.Shell, s.Dir, s.Env, s.Tools, s.System, s.Platform, s.Isolation, s.Secrets,
		s.Files, s.Outputs, s.Reports))
}

// StepShape is the same for the runs of one step.
func StepShape(pipeline, job, step string) string { return sum("step shape 1", pipeline, job, step) }

// Parts are sums of its parts, by what a person calls them, so that one can tell what differs from another.
func (s Step) Parts() map[string]string {
	parts := map[string]string{"the script": sum(s.Script, s.Shell), "its folder": s.Dir, "the system": s.System,
		"the platform": s.Platform + " " + s.Isolation, "its outputs": sum(s.Outputs, s.Reports)}
	for name, value := range s.Env {
		parts["the variable "+name] = sum(value)
	}
	for name, version := range s.Tools {
		parts["the tool "+name] = version
	}
	for name, revision := range s.Secrets {
		parts["the secret "+name] = fmt.Sprint(revision)
	}
	if len(s.Files) <= mostTold {
		maps.Copy(parts, s.Files)
		return parts
	}
	folders := map[string][]string{}
	for _, name := range slices.Sorted(maps.Keys(s.Files)) {
		at := path.Dir(name)
		if names := strings.SplitN(at, "/", 3); len(names) == 3 {
			at = names[0] + "/" + names[1]
		}
		folders[at+"/…"] = append(folders[at+"/…"], name, s.Files[name])
	}
	for at, texts := range folders {
		parts[at] = sum(texts)
	}
	return parts
}
