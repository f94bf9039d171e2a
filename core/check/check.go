// Package check finds the mistakes in a repository's pipelines that a machine can see before a minute of building is
// spent: files that are not there, folders misspelt, secrets nobody has set, keys in the repository, and the like.
//
// It reads what it is given and runs nothing. It promises no false error where a step might have made what is
// missing: then it warns, or says nothing. A pipeline may allow findings by their code.
package check

import (
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"
	"time"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/schedule"
)

// Entry is a file that Git tracks.
type Entry struct {
	Path       string
	Executable bool
	Submodule  bool
	Link       bool // a symbolic link; its content is where it leads
}

// Repository is a tree of tracked files, of a commit or of a work tree.
type Repository struct {
	Entries []Entry
	Read    func(name string) ([]byte,
		error) // nil without an error when there is no such file; long files may come cut off
	OnDisk   func(name string) bool // whether a file is there that may not be tracked; nil where there is no disk
	Branches []string               // nil when they are not known
	Tags     []string               // those on the commit
	Now      time.Time              // zero where nothing is to be said of what expires
}

// Service is what a service knows that a repository does not.
type Service struct {
	Project   string
	Secrets   []Secret
	Runners   []schedule.Runner
	Outlets   []string  // nil where they are not known
	LastBuild int64     // the project's own count
	Given     []Given   // what its apps were handed out last
	Now       time.Time // zero where nothing is to be said of what expires
}

// Given is what an app was handed out last on a platform.
type Given struct {
	App, Platform, Name string
	Build               int64 // the last number, or the floor when that is higher
}

// File is one pipeline file and what is to be said of it.
type File struct {
	Name     string               // of the pipeline
	Path     string               // in the repository
	Pipeline *definition.Pipeline // nil when a finding is an error of the format
	Findings []definition.Finding // in the order of their places
}

// Result is what a repository comes to.
type Result struct {
	Files    []File
	Findings []definition.Finding // about the repository as a whole
}

// All lists every finding, those of a part that several pipelines use once.
func (r Result) All() (all []definition.Finding) {
	seen := map[definition.Finding]bool{}
	add := func(list []definition.Finding) {
		for _, f := range list {
			if !seen[f] {
				seen[f], all = true, append(all, f)
			}
		}
	}
	for _, f := range r.Files {
		add(f.Findings)
	}
	add(r.Findings)
	return all
}

// Tree is a repository made ready for questions.
type Tree struct {
	*Repository
	files   map[string]Entry
	folders map[string]bool
	bases   map[string][]string // base name -> paths
	texts   map[string][]byte
	made    map[string][]string // targets of makefiles; nil where there may be others
	folded  map[string]string   // paths by themselves in small letters, once they are asked for
	read    int                 // bytes of texts
	cut     bool                // not all that was asked for was read
	// what app.toml and the app's own files say, once it is asked for
	described   *described
	inManifests *manifestReader
	inProfiles  *[]definition.Finding
	builds      map[string]*makeBuilds // by the makefile
	// paths that .gitignore speaks of by their names, once they are asked for; "" for several
	hidden map[string]string
}

// NewTree indexes a repository.
func NewTree(r *Repository) *Tree {
	t := &Tree{Repository: r, files: map[string]Entry{}, folders: map[string]bool{".": true}, bases: map[string][]string{},
		texts: map[string][]byte{},
		made:  map[string][]string{}}
	for _, e := range r.Entries {
		t.files[e.Path] = e
		t.bases[path.Base(e.Path)] = append(t.bases[path.Base(e.Path)], e.Path)
		for dir := path.Dir(e.Path); !t.folders[dir]; dir = path.Dir(dir) {
			t.folders[dir] = true
		}
		if e.Submodule {
			t.folders[e.Path] = true
		}
	}
	return t
}

// has reports whether a path is a tracked file, or one that a submodule may hold.
func (t *Tree) has(name string) bool {
	_, ok := t.files[name]
	return ok || t.inSubmodule(name)
}

func (t *Tree) hasFolder(name string) bool { return t.folders[name] || t.inSubmodule(name) }

func (t *Tree) inSubmodule(name string) bool {
	for ; name != "."; name = path.Dir(name) {
		if e, ok := t.files[name]; ok && e.Submodule {
			return true
		}
	}
	return false
}

// text reads a tracked file; "" when it cannot be read.
func (t *Tree) text(name string) string {
	if e, ok := t.files[name]; !ok || e.Submodule {
		return ""
	}
	text, ok := t.texts[name]
	if files, bytes := t.bounds(); !ok && (len(t.texts) >= files || t.read > bytes) {
		t.cut = true
		return ""
	}
	if !ok {
		text, _ = t.Read(name)
		t.texts[name] = text
		t.read += len(text)
	}
	return string(text)
}

// bounds are the most files and bytes of a tree that are read, of what somebody pushed less than of what lies on one's
// own disk. A repository names one large content as often as it likes and stays small.
func (t *Tree) bounds() (files, bytes int) {
	if t.OnDisk != nil {
		return 100_000, 512 << 20
	}
	return 20_000, 64 << 20
}

// part reads parts of pipelines.
func (t *Tree) part(name string) ([]byte, error) {
	if _, ok := t.files[name]; !ok && (t.OnDisk == nil || !t.OnDisk(name)) {
		return nil, nil
	}
	return t.Read(name)
}

// All checks every pipeline of a repository, and what concerns the repository as a whole. s may be nil.
func All(r *Repository, s *Service) Result {
	t := NewTree(r)
	var out Result
	names := map[string]bool{}
	for _, e := range r.Entries {
		if definition.IsPipelineFile(e.Path) {
			names[e.Path] = true
		}
	}
	if i := slices.IndexFunc(r.Entries, func(e Entry) bool { return e.Path == definition.Folder }); i >= 0 {
		out.Findings = append(out.Findings,
			whole("no-folder", definition.Folder,
				"it is a link or a file, not a folder: no pipeline in it is read, and no push starts any",
				"Make it a folder of the repository, with the files in it."))
	}
	if t.has(definition.AppsPath) {
		out.Findings = append(out.Findings, t.apps().found...)
	}
	if t.has(definition.CausesPath) {
		_, found := definition.ParseCauses(definition.CausesPath, []byte(t.text(definition.CausesPath)))
		out.Findings = append(out.Findings, found...)
	}
	if len(names) > MaxFiles {
		out.Findings = append(out.Findings, whole("too-many-files", definition.Folder,
			fmt.Sprintf("the folder holds %d pipelines; the first %d by name are read", len(names), MaxFiles), "Take some out."))
	}
	for i, name := range sortedKeys(names) {
		if i == MaxFiles {
			break
		}
		if t.files[name].Link {
			out.Files = append(out.Files,
				File{Name: strings.TrimSuffix(path.Base(name), ".toml"), Path: name, Findings: []definition.Finding{
					whole("unreadable-file", name, "it is a link, not a file: what it leads to is not read",
						"Make it a plain file.")}})
			continue
		}
		text, err := r.Read(name)
		if err != nil || text == nil {
			out.Findings = append(out.Findings,
				whole("unreadable-file", name, "the file cannot be read", "Is it a link, or in Git only?"))
			continue
		}
		out.Files = append(out.Files, One(t, s, name, text))
	}
	links(out.Files)
	apart(out.Files, t)
	out.Findings = append(out.Findings, unusedParts(t, out.Files)...)
	if t.OnDisk != nil {
		unusedSecrets(t, out.Files)
	}
	for i := range out.Files {
		out.Files[i].Findings = tidy(out.Files[i].Findings)
	}
	out.Findings = append(append(out.Findings, tracked(t)...), submodules(t, out.Files)...)
	if t.OnDisk != nil {
		out.Findings = append(append(out.Findings, wholeTree(t)...), missingPurposes(t)...)
	}
	if t.cut {
		out.Findings = append(out.Findings,
			whole("not-checked", definition.Folder, "the pipelines speak of so many and long files that not all were read",
				"Name fewer of them in scripts."))
	}
	// What concerns the whole repository is as it should be when one of its pipelines says so.
	out.Findings = slices.DeleteFunc(out.Findings, func(f definition.Finding) bool {
		return f.Severity == definition.Warning &&
			slices.ContainsFunc(out.Files, func(o File) bool { return o.Pipeline != nil && o.Pipeline.Allows(f.Code) })
	})
	out.Findings = tidy(out.Findings)
	return out
}

// MaxFiles is the most pipelines a repository may have.
const MaxFiles = 200

// One checks the text of one pipeline file against a tree.
func One(t *Tree, s *Service, name string, text []byte) File {
	f := File{Name: strings.TrimSuffix(path.Base(name), ".toml"), Path: name}
	f.Pipeline, f.Findings = definition.Parse(name, text, t.part)
	if f.Pipeline != nil {
		c := &checker{tree: t, service: s, p: f.Pipeline, work: maxWork, readings: map[readingKey]reading{}}
		c.pipeline()
		f.Findings = tidy(append(f.Findings, c.found...))
	}
	return f
}

// checker looks at one pipeline.
type checker struct {
	tree    *Tree
	service *Service
	p       *definition.Pipeline
	found   []definition.Finding

	looked   map[string]bool // files that scripts call, which have been looked into
	builds   map[string]bool // the same, for what they build
	work     int64           // what is left of maxWork
	readings map[readingKey]reading
}

// maxWork bounds the comparing of what steps need with what others mention, in bytes or words looked at: well below a
// second. A pipeline that a person writes takes a thousandth.
const maxWork = 500_000_000

// spend takes from the work that is left, and tells whether there was as much.
func (c *checker) spend(n int) bool {
	c.work -= int64(n)
	return c.work > 0
}

// readingKey is what a script's reading depends on; variants of a job share theirs.
type readingKey struct{ script, shell, dir string }

func (c *checker) read(script, shell, dir string) reading {
	k := readingKey{script, shell, dir}
	r, done := c.readings[k]
	if !done {
		r = read(script, shell, dir)
		c.readings[k] = r
	}
	return r
}

func (c *checker) add(code, message, fix string, at definition.Place) {
	c.keep(c.p.Finding(code, severities[code], message, fix, at))
}

// full tells that there is more to complain of than anybody reads.
func (c *checker) full() bool { return len(c.found) > 2*definition.MaxFindings }

func (c *checker) keep(f definition.Finding) {
	if !c.p.Allows(f.Code) && !c.full() {
		c.found = append(c.found, f)
	}
}

func (c *checker) pipeline() {
	for i, code := range c.p.Allow {
		if _, known := severities[code]; !known {
			c.add("unknown-code", "there is no finding of the code "+code+" that could be allowed",
				"See docs/reference/findings.md for the codes.",
				definition.Place{Keys: []string{"allow", itoa(i)}})
		}
	}
	c.triggers()
	if v := c.p.Version; v != nil && !c.tree.has(path.Clean(v.File)) {
		c.add("no-file", "the file "+v.File+", which names the version, "+c.missing(path.Clean(v.File)),
			c.mend(path.Clean(v.File)), definition.Place{Keys: []string{"version", "file"}})
	}
	if c.service != nil && len(c.service.Runners) == 0 {
		c.add("nobody-can", "its jobs would wait: no runner has ever asked for work", "Start one by piston runner.",
			definition.Place{Keys: []string{"job"}})
	}
	for _, name := range c.p.JobNames() {
		c.job(c.p.Job[name])
	}
	c.sameNames()
	c.proposalSecrets()
	c.unusedInputs()
	c.app()
	if c.work <= 0 {
		c.add("not-checked", "the pipeline is so large that not all of what its scripts need was looked for",
			"Split it, or put scripts into files of the repository.", definition.Place{Keys: []string{"job"}})
	}
}

// whole is a finding about a file, without a place in it.
func whole(code, file, message, fix string) definition.Finding {
	return definition.Finding{Code: code, Severity: severities[code], File: file, Message: message, Fix: fix}
}

// tidy orders findings by place and drops those that are the same: variants of a job share their mistakes.
func tidy(found []definition.Finding) []definition.Finding {
	sort.SliceStable(found, func(i, j int) bool {
		a, b := found[i], found[j]
		if a.File != b.File {
			return a.File < b.File
		}
		return a.Line < b.Line
	})
	return definition.Foremost(slices.CompactFunc(found, func(a, b definition.Finding) bool { return a == b }))
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}
