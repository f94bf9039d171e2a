// Package check finds the mistakes in a repository's pipelines that a machine can see before a minute of building is
// spent: files that are not there, folders misspelt, secrets nobody has set, keys in the repository, and the like.
//
// It reads what it is given and runs nothing. It promises no false error where a step might have made what is
// missing: then it warns, or says nothing. A pipeline may allow findings by their code.
package check

import (
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
}

// Repository is a tree of tracked files, of a commit or of a work tree.
type Repository struct {
	Entries  []Entry
	Read     func(name string) ([]byte, error) // nil without an error when there is no such file; long files may come cut off
	OnDisk   func(name string) bool            // whether a file is there that may not be tracked; nil where there is no disk
	Branches []string                          // nil when they are not known
}

// Service is what a service knows that a repository does not.
type Service struct {
	Project   string
	Secrets   []Secret
	Runners   []schedule.Runner
	LastBuild int64     // from the ledger
	Now       time.Time // zero where nothing is to be said of what expires
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

// All lists every finding.
func (r Result) All() []definition.Finding {
	var all []definition.Finding
	for _, f := range r.Files {
		all = append(all, f.Findings...)
	}
	return append(all, r.Findings...)
}

// Tree is a repository made ready for questions.
type Tree struct {
	*Repository
	files   map[string]Entry
	folders map[string]bool
	bases   map[string][]string // base name -> paths
	texts   map[string][]byte
}

// NewTree indexes a repository.
func NewTree(r *Repository) *Tree {
	t := &Tree{Repository: r, files: map[string]Entry{}, folders: map[string]bool{".": true}, bases: map[string][]string{}, texts: map[string][]byte{}}
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
	if !ok {
		text, _ = t.Read(name)
		t.texts[name] = text
	}
	return string(text)
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
	for _, name := range sortedKeys(names) {
		text, err := r.Read(name)
		if err != nil || text == nil {
			out.Findings = append(out.Findings, whole("unreadable-file", name, "the file cannot be read", "Is it a link, or in Git only?"))
			continue
		}
		out.Files = append(out.Files, One(t, s, name, text))
	}
	links(out.Files)
	for i := range out.Files {
		out.Files[i].Findings = tidy(out.Files[i].Findings)
	}
	out.Findings = tidy(append(out.Findings, tracked(t)...))
	return out
}

// One checks the text of one pipeline file against a tree.
func One(t *Tree, s *Service, name string, text []byte) File {
	f := File{Name: strings.TrimSuffix(path.Base(name), ".toml"), Path: name}
	f.Pipeline, f.Findings = definition.Parse(name, text, t.part)
	if f.Pipeline != nil {
		c := &checker{tree: t, service: s, p: f.Pipeline}
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
}

func (c *checker) add(code, message, fix string, at definition.Place) {
	c.keep(c.p.Finding(code, severities[code], message, fix, at))
}

func (c *checker) keep(f definition.Finding) {
	if !c.p.Allows(f.Code) {
		c.found = append(c.found, f)
	}
}

func (c *checker) pipeline() {
	for i, code := range c.p.Allow {
		if _, known := severities[code]; !known {
			c.add("unknown-code", "there is no finding of the code "+code+" that could be allowed", "See docs/reference/findings.md for the codes.",
				definition.Place{Keys: []string{"allow", itoa(i)}})
		}
	}
	c.triggers()
	if v := c.p.Version; v != nil && !c.tree.has(path.Clean(v.File)) {
		c.add("no-file", "the file "+v.File+", which names the version, "+c.missing(path.Clean(v.File)), c.mend(path.Clean(v.File)), definition.Place{Keys: []string{"version", "file"}})
	}
	if c.service != nil && len(c.service.Runners) == 0 {
		c.add("nobody-can", "its jobs would wait: no runner has ever asked for work", "Start one by piston runner.", definition.Place{Keys: []string{"job"}})
	}
	for _, name := range c.p.JobNames() {
		c.job(c.p.Job[name])
	}
	c.app()
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
	return slices.CompactFunc(found, func(a, b definition.Finding) bool { return a == b })
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}
