package check

import (
	"fmt"
	"path"
	"strings"

	"github.com/agnivade/levenshtein"
)

// missing says in which way a file is not there.
func (c *checker) missing(name string) string {
	if c.tree.OnDisk != nil && c.tree.OnDisk(name) {
		return "is on this machine, but not in the repository: Git does not track it"
	}
	return "is not in the repository"
}

// mend proposes what was meant.
func (c *checker) mend(name string) string {
	if c.tree.OnDisk != nil && c.tree.OnDisk(name) {
		return fmt.Sprintf("git add %s. If it must not be in the repository: piston secret set PROJECT NAME --file %s, "+
			"and name it in secret_files.", name, name)
	}
	if other := c.elsewhere(name); other != "" {
		if strings.HasSuffix(name, "/"+other) {
			return fmt.Sprintf("There is %s at the top of the repository: is the folder it is called from the right one?", other)
		}
		if suffix := strings.TrimSuffix(other, name); suffix != other && suffix != "" {
			return fmt.Sprintf("There is %s: is dir = %q missing?", other, strings.TrimSuffix(suffix, "/"))
		}
		return fmt.Sprintf("There is %s: is that the one?", other)
	}
	if !c.spend(16 * len(c.tree.Entries)) {
		return "Add it to the repository, or correct the path."
	}
	var names []string
	for _, e := range c.tree.Entries {
		if path.Dir(e.Path) == path.Dir(name) {
			names = append(names, e.Path)
		}
	}
	if near := nearest(name, names); near != "" {
		return fmt.Sprintf("Did you mean %s?", near)
	}
	if near := nearest(path.Base(name), sortedKeys(c.tree.bases)); near != "" {
		return fmt.Sprintf("There is %s: is that the one?", c.tree.bases[near][0])
	}
	return "Add it to the repository, or correct the path."
}

func (c *checker) mendFolder(name string) string {
	var names []string
	if !c.spend(64 * len(c.tree.folders)) {
		return "Correct the path; it counts from the top of the repository."
	}
	for _, dir := range sortedKeys(c.tree.folders) {
		if path.Base(dir) == path.Base(name) {
			return fmt.Sprintf("There is %s: is that the one?", dir)
		}
		names = append(names, dir)
	}
	if near := nearest(name, names); near != "" {
		return fmt.Sprintf("Did you mean %s?", near)
	}
	return "Correct the path; it counts from the top of the repository."
}

// elsewhere finds a file of the same base name in another folder: the likeliest one.
func (c *checker) elsewhere(name string) string {
	list := c.tree.bases[path.Base(name)]
	best := ""
	for _, other := range list {
		if strings.HasSuffix(name, "/"+other) {
			return other
		}
		if strings.HasSuffix(other, "/"+name) || best == "" || len(other) < len(best) {
			best = other
		}
	}
	return best
}

// longestMeant is the longest name that is compared: to compare two takes the product of their lengths.
const longestMeant = 300

// nearest returns the candidate a person most likely meant, or "" when none is close.
func nearest(word string, candidates []string) string {
	best, distance := "", max(2, len(word)/4)+1
	for _, c := range candidates {
		if len(c) >= len(word)+distance || len(word) >= len(c)+distance || len(c) > longestMeant {
			continue // the lengths alone tell that it is further away
		}
		if d := levenshtein.ComputeDistance(strings.ToLower(word), strings.ToLower(c)); d < distance {
			best, distance = c, d
		}
	}
	return best
}
