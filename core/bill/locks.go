package bill

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"path"
	"regexp"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"go.yaml.in/yaml/v3"

	"gentlepiston.example/piston/core/bound"
)

// Used is a package of others that the sources name.
type Used struct {
	Name    string
	Version string
	// Package URL (ECMA-427), by which databases of faults know it.
	URL  string
	File string // the lock file
}

// readers read lock files, by their names.
var readers = map[string]func(text []byte, add func(kind, name, version string)) error{
	"package-lock.json":   readNPM,
	"npm-shrinkwrap.json": readNPM,
	"Podfile.lock":        readPods,
	"pubspec.lock":        readPub,
	"gradle.lockfile":     readGradle,
	"Package.resolved":    readSwift,
	"Cargo.lock":          readCargo,
	"packages.lock.json":  readNuGet,
}

// The bounds of what is read.
const (
	MaxLock  = 8 << 20
	MaxLocks = 50
	MaxUsed  = 20_000 // in all of them
	maxName  = 500    // bytes of a name or a version
	maxDepth = 20
)

// IsLock tells whether a file of a repository is a lock file that is read. Those of what was fetched are not.
func IsLock(name string) bool {
	return readers[path.Base(name)] != nil && !strings.Contains("/"+name, "/node_modules/") &&
		!strings.Contains("/"+name, "/Pods/")
}

// ReadLock reads one.
func ReadLock(name string, text []byte) (list []Used, err error) {
	seen, long := map[string]bool{}, false
	err = readers[path.Base(name)](text, func(kind, of, version string) {
		u := packageURL(kind, of, version)
		if of == "" || version == "" || seen[u] || len(list) > MaxUsed {
			return
		}
		long = long || len(of) > maxName || len(version) > maxName
		seen[u] = true
		list = append(list, Used{of, version, u, name})
	})
	if err == nil && long {
		err = fmt.Errorf("it names something by more than %d bytes", maxName)
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", name, err)
	}
	return list, nil
}

// packageURL writes one: the parts of a name are its namespace.
func packageURL(kind, name, version string) string {
	parts := strings.FieldsFunc(name, func(r rune) bool { return r == '/' || kind == "maven" && r == ':' })
	for i := range parts {
		parts[i] = url.PathEscape(parts[i])
	}
	return "pkg:" + kind + "/" + strings.ReplaceAll(strings.Join(parts, "/"), "@", "%40") + "@" + url.PathEscape(version)
}

func readNPM(text []byte, add func(kind, name, version string)) error {
	type dependency struct {
		Version      string
		Dev          bool
		Link         bool
		Dependencies map[string]json.RawMessage
	}
	var lock struct {
		Packages     map[string]dependency
		Dependencies map[string]dependency
	}
	if err := json.Unmarshal(text, &lock); err != nil {
		return err
	}
	for at, d := range lock.Packages {
		if i := strings.LastIndex(at, "node_modules/"); i >= 0 && !d.Dev && !d.Link {
			add("npm", at[i+len("node_modules/"):], d.Version)
		}
	}
	if lock.Packages == nil { // of older versions
		for name, d := range lock.Dependencies {
			if !d.Dev {
				add("npm", name, d.Version)
			}
		}
	}
	return nil
}

var podForm = regexp.MustCompile(`^(\S+) \(([^()\s]+)\)$`)

func readPods(text []byte, add func(kind, name, version string)) error {
	var lock struct {
		Pods []yaml.Node `yaml:"PODS"`
	}
	if err := yaml.Unmarshal(text, &lock); err != nil {
		return err
	}
	for _, n := range lock.Pods {
		if n.Kind == yaml.MappingNode && len(n.Content) > 0 { // with what it needs itself
			n = *n.Content[0]
		}
		if m := podForm.FindStringSubmatch(n.Value); m != nil {
			add("cocoapods", strings.Split(m[1], "/")[0], m[2])
		}
	}
	return nil
}

func readPub(text []byte, add func(kind, name, version string)) error {
	var lock struct {
		Packages map[string]struct {
			Version    string
			Dependency string
			Source     string
		}
	}
	if err := yaml.Unmarshal(text, &lock); err != nil {
		return err
	}
	for name, p := range lock.Packages {
		if p.Dependency != "direct dev" && p.Source != "sdk" {
			add("pub", name, p.Version)
		}
	}
	return nil
}

// readGradle reads lines such as group:name:1.2=releaseRuntimeClasspath.
func readGradle(text []byte, add func(kind, name, version string)) error {
	for line := range strings.Lines(string(text)) {
		what, used, is := strings.Cut(strings.TrimSpace(line), "=")
		parts := strings.Split(what, ":")
		if !is || len(parts) != 3 || strings.HasPrefix(line, "#") || onlyTests(used) {
			continue
		}
		add("maven", parts[0]+":"+parts[1], parts[2])
	}
	return nil
}

// onlyTests tells whether something is used by tests and nothing else.
func onlyTests(configurations string) bool {
	for _, c := range strings.Split(configurations, ",") {
		if !strings.Contains(strings.ToLower(c), "test") {
			return false
		}
	}
	return true
}

func readSwift(text []byte, add func(kind, name, version string)) error {
	type pin struct {
		Location      string
		RepositoryURL string
		State         struct{ Version, Revision string }
	}
	var lock struct {
		Pins   []pin
		Object struct{ Pins []pin }
	}
	if err := json.Unmarshal(text, &lock); err != nil {
		return err
	}
	for _, p := range append(lock.Pins, lock.Object.Pins...) {
		_, at, _ := strings.Cut(p.Location+p.RepositoryURL, "://")
		version := p.State.Version
		if version == "" {
			version = p.State.Revision
		}
		add("swift", strings.TrimSuffix(at, ".git"), version)
	}
	return nil
}

func readCargo(text []byte, add func(kind, name, version string)) error {
	var lock struct {
		Package []struct{ Name, Version, Source string }
	}
	if m := bound.TOML(text); m.Depth > maxDepth || m.Values > MaxUsed*20 {
		return errors.New("it is deeper, or has more values, than any lock file")
	}
	if err := toml.Unmarshal(text, &lock); err != nil {
		return err
	}
	for _, p := range lock.Package {
		if p.Source != "" { // else it is a part of the sources
			add("cargo", p.Name, p.Version)
		}
	}
	return nil
}

func readNuGet(text []byte, add func(kind, name, version string)) error {
	var lock struct {
		Dependencies map[string]map[string]struct{ Type, Resolved string }
	}
	if err := json.Unmarshal(text, &lock); err != nil {
		return err
	}
	for _, framework := range lock.Dependencies {
		for name, p := range framework {
			if p.Type != "Project" {
				add("nuget", name, p.Resolved)
			}
		}
	}
	return nil
}
