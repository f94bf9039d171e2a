package check

import (
	"encoding/json"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/definition"
)

// lockKind is a manifest that names what is fetched, and the lock file beside it that says which.
type lockKind struct {
	manifest string
	locks    []string // any of them will do
	misfit   func(manifest, lock string) (name string)
}

var lockKinds = []lockKind{
	{"package.json", []string{"package-lock.json", "npm-shrinkwrap.json", "yarn.lock", "pnpm-lock.yaml", "bun.lock"},
		npmMisfit},
	{"pubspec.yaml", []string{"pubspec.lock"}, pubMisfit},
	{"Podfile", []string{"Podfile.lock"}, namesIn(regexp.MustCompile(`(?m)^\s*pod\s+['"]([^'"\n]+)['"]`), "- %s")},
	{"Gemfile", []string{"Gemfile.lock"}, namesIn(regexp.MustCompile(`(?m)^\s*gem\s+['"]([^'"\n]+)['"]`), "    %s")},
	{"Cargo.toml", []string{"Cargo.lock"}, nil},
	{"composer.json", []string{"composer.lock"}, nil},
}

// maxLock is the most bytes of a lock file that is compared.
const maxLock = 4 << 20

// lockFiles finds lock files that say something else than their manifest, and those that Git does not have though they
// are on this disk: what is fetched is then another thing in each build.
func lockFiles(t *Tree) (found []definition.Finding) {
	for _, kind := range lockKinds {
		for _, manifest := range t.bases[kind.manifest] {
			if passedOver.MatchString(manifest) {
				continue
			}
			if f, is := lockOf(t, kind, manifest); is {
				found = append(found, f)
			}
		}
	}
	return found
}

func lockOf(t *Tree, kind lockKind, manifest string) (f definition.Finding, is bool) {
	beside := func(name string) string { return path.Join(path.Dir(manifest), name) }
	if i := slices.IndexFunc(kind.locks, func(name string) bool { return t.has(beside(name)) }); i >= 0 {
		lock := beside(kind.locks[i])
		text := t.text(lock)
		if kind.misfit == nil || text == "" || len(text) > maxLock {
			return f, false
		}
		name := kind.misfit(t.text(manifest), text)
		if name == "" {
			return f, false
		}
		return whole("lock-misfit", lock,
			fmt.Sprintf("%s asks for %s, and this does not have it so", path.Base(manifest), name),
			"Install here once, and commit both files."), true
	}
	if i := slices.IndexFunc(kind.locks, func(name string) bool { return t.OnDisk(beside(name)) }); i >= 0 {
		return whole("lock-ignored", beside(kind.locks[i]),
			"the lock file is on this machine, and Git does not have it: each build may fetch something else",
			fmt.Sprintf("git add -f %s, and take it out of .gitignore.", beside(kind.locks[i]))), true
	}
	return f, false
}

// wants are the dependencies of a package.json, or of the root of its lock file.
type wants struct {
	Dependencies    map[string]string `json:"dependencies"`
	DevDependencies map[string]string `json:"devDependencies"`
}

// npmMisfit compares with what package-lock.json says that the package itself asks for (npm-package-lock(5), packages);
// of other lock files nothing is said.
func npmMisfit(manifest, lock string) string {
	var asked wants
	var there struct {
		Packages map[string]json.RawMessage `json:"packages"`
	}
	if json.Unmarshal([]byte(manifest), &asked) != nil || json.Unmarshal([]byte(lock), &there) != nil ||
		there.Packages[""] == nil {
		return ""
	}
	var locked wants
	if json.Unmarshal(there.Packages[""], &locked) != nil {
		return ""
	}
	for _, pair := range [][2]map[string]string{{asked.Dependencies, locked.Dependencies},
		{asked.DevDependencies, locked.DevDependencies}} {
		for _, name := range sortedKeys(pair[0]) {
			if pair[0][name] != pair[1][name] {
				return name + " " + pair[0][name]
			}
		}
	}
	return ""
}

var (
	pubSection = regexp.MustCompile(`(?m)^(dev_)?dependencies:[ \t]*\n((?:[ \t]+.*\n|[ \t]*\n|#.*\n)*)`)
	pubName    = regexp.MustCompile(`(?m)^  ([a-z0-9_]+):`)
)

// pubMisfit looks for each dependency of a pubspec.yaml among the packages of its lock file.
func pubMisfit(manifest, lock string) string {
	for _, section := range pubSection.FindAllStringSubmatch(manifest+"\n", -1) {
		for _, m := range pubName.FindAllStringSubmatch(section[2], -1) {
			if !strings.Contains(lock, "\n  "+m[1]+":") {
				return m[1]
			}
		}
	}
	return ""
}

// namesIn looks for each name of a manifest in its lock file, where it stands in a form.
func namesIn(names *regexp.Regexp, form string) func(manifest, lock string) string {
	return func(manifest, lock string) string {
		for _, m := range names.FindAllStringSubmatch(manifest, -1) {
			if !strings.Contains(lock, fmt.Sprintf(form, m[1])) && !strings.Contains(lock, fmt.Sprintf(form, `"`+m[1])) {
				return m[1]
			}
		}
		return ""
	}
}
