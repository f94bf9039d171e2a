package access

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// Scope says which runs are given a secret. Globs; where there are none, any will do. Where there are globs of
// branches or of tags, a run must be of a branch or a tag that matches: one of a proposal, or of a bare commit, is
// of neither.
type Scope struct {
	// Only runs of these pipelines (globs).
	Pipelines []string `json:"pipelines,omitempty" maxItems:"50"`
	// Only runs of these branches (globs).
	Branches []string `json:"branches,omitempty" maxItems:"50"`
	// Only runs of these tags (globs).
	Tags []string `json:"tags,omitempty" maxItems:"50"`
}

// Check refuses a scope with globs that cannot be read.
func (s Scope) Check() error {
	for _, list := range [][]string{s.Pipelines, s.Branches, s.Tags} {
		for _, g := range list {
			if g == "" || len(g) > 200 || !doublestar.ValidatePattern(g) {
				return fmt.Errorf("%q is no glob: write a name in which * stands for any part of it, such as main or release/*", g)
			}
		}
	}
	return nil
}

// Protects reports whether not every run is given the secret.
func (s Scope) Protects() bool { return len(s.Pipelines)+len(s.Branches)+len(s.Tags) > 0 }

// Refuses tells why a run is not given the secret; "" when it is.
func (s Scope) Refuses(pipeline, branch, tag string) string {
	if len(s.Pipelines) > 0 && !anyOf(s.Pipelines, pipeline) {
		return "it is for " + listed("pipeline", "pipelines", s.Pipelines) + " only, and this is " + pipeline
	}
	if len(s.Branches) == 0 && len(s.Tags) == 0 || branch != "" && anyOf(s.Branches, branch) ||
		tag != "" && anyOf(s.Tags, tag) {
		return ""
	}
	var places []string
	if len(s.Branches) > 0 {
		places = append(places, listed("branch", "branches", s.Branches))
	}
	if len(s.Tags) > 0 {
		places = append(places, listed("tag", "tags", s.Tags))
	}
	why := "it is for " + strings.Join(places, " and ") + " only, and this is "
	switch {
	case branch != "":
		return why + "branch " + branch
	case tag != "":
		return why + "tag " + tag
	}
	return why + "of no branch and no tag"
}

func listed(one, several string, globs []string) string {
	if len(globs) > 1 {
		one = several
	}
	return one + " " + strings.Join(globs, ", ")
}

func anyOf(globs []string, name string) bool {
	for _, g := range globs {
		if doublestar.MatchUnvalidated(g, name) {
			return true
		}
	}
	return false
}

// SecretName is a secret's name, or the name of a set of secrets and, behind a colon, of one of its members.
type SecretName string

var secretForm = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,99}(:[A-Za-z0-9][A-Za-z0-9._-]{0,99})?$`)

// Check refuses what cannot be a secret's name.
func (n SecretName) Check() error {
	if !secretForm.MatchString(string(n)) || strings.HasPrefix(string(n), "PISTON_") {
		return fmt.Errorf("it must be letters, digits and _, not beginning with a digit or with PISTON_, at most 100 " +
			"long; of a set, such as SERVICES:harbour, " +
			"the member's name follows a colon")
	}
	return nil
}

// Variable is the environment variable in which a step finds it.
func (n SecretName) Variable() string {
	set, _, _ := strings.Cut(string(n), ":")
	return set
}

// Member is the name within a set; "" when it is not of one.
func (n SecretName) Member() string {
	_, member, _ := strings.Cut(string(n), ":")
	return member
}
