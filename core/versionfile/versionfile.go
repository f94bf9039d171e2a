// Package versionfile finds where version names and build numbers stand in an app's own files, and writes others in
// their places. It promises to change the bytes of the number and no others: comments, spacing, quotes, line ends, byte
// order marks and encodings stay. A place whose value is computed is told as such, with what it depends on, and never
// written. It knows nothing of pipelines, and reads any bytes: what cannot be read is a problem with a position.
package versionfile

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
)

// Kind is what stands in a place.
type Kind string

// The kinds.
const (
	Name  Kind = "name"  // of the version, for people: versionName, CFBundleShortVersionString
	Build Kind = "build" // the number that rises: versionCode, CFBundleVersion
	ID    Kind = "id"    // of the app: applicationId, CFBundleIdentifier; it is read, and never written
)

// Platform is what an app is for; Both is a place that all platforms are built from.
type Platform string

// The platforms.
const (
	Android Platform = "android"
	IOS     Platform = "ios"
	Both    Platform = ""
)

// Place is where a version name or build number stands.
type Place struct {
	File     string   `json:"file"`
	Line     int      `json:"line"` // from 1
	Col      int      `json:"col"`  // from 1, in characters
	Kind     Kind     `json:"kind"`
	Platform Platform `json:"platform,omitempty"`
	// The flavour or build kind, or target and configuration, that it is for; "" for the app as a whole.
	Of    string `json:"of,omitempty"`
	Value string `json:"value,omitempty"`
	// What the file is, such as Gradle.
	Format string `json:"format"`
	// Why it is not written, and what it depends on; "" for a place that can be.
	Computed string `json:"computed,omitempty"`
	// The variable of the environment that it is taken from.
	Variable string `json:"variable,omitempty"`

	start, end int    // of the value, in the file's decoded text
	key        string // as what it is written there
	ref        string // what its value is taken from, to be found in other places
	follows    bool   // it counts only where it agrees with the others, such as package.json
	original   string // the line, for an excerpt
}

// Excerpt is the line that it stands on.
func (p Place) Excerpt() string { return p.original }

// Literal tells that the value stands there, and can be written.
func (p Place) Literal() bool { return p.Computed == "" }

// LeftFor is why it was not written: it is computed, or one flavour's own.
func (p Place) LeftFor() string {
	if p.Literal() {
		return "it says its own"
	}
	return p.Computed
}

// Problem is something about a file that keeps it from being read.
type Problem struct {
	File    string `json:"file"`
	Line    int    `json:"line,omitempty"` // from 1; 0 when it is about the whole file
	Col     int    `json:"col,omitempty"`
	Message string `json:"message"`
}

func (p Problem) Error() string {
	if p.Line > 0 {
		return fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Col, p.Message)
	}
	return p.File + ": " + p.Message
}

// Tree is the files of a repository.
type Tree struct {
	Paths []string // below its top, with slashes
	// Read reads a file, up to MaxFile and a byte more.
	Read func(name string) ([]byte, error)
	// Link tells that a path is a symbolic link, which is not followed; nil where there are none.
	Link func(name string) bool
}

// MaxFile is the most bytes of a file that is read.
const MaxFile = 16 << 20

// MaxBytes is the most that is read of a repository.
const MaxBytes = 256 << 20

// MaxFiles is the most files of a repository that are read.
const MaxFiles = 2000

// Pattern is a place that no reader would find.
type Pattern struct {
	File     string
	Form     string // a regular expression with one group
	Kind     Kind
	Platform Platform
}

// Found is what a repository holds.
type Found struct {
	Places   []Place // in the order of files and lines
	Problems []Problem
}

// Find reads a repository. below limits it to folders or files; none is all of it.
func Find(t Tree, below []string, patterns []Pattern) Found {
	f := &finder{tree: t, defined: map[string][]Place{}, texts: map[string]*text{}}
	f.readAll(below)
	f.resolve()
	for _, p := range patterns {
		f.pattern(p)
	}
	slices.SortStableFunc(f.out.Places, func(a, b Place) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.start, b.start), cmp.Compare(a.Platform, b.Platform))
	})
	f.out.Places = slices.CompactFunc(f.out.Places, func(a, b Place) bool {
		return a.File == b.File && a.start == b.start && a.end == b.end && a.Kind == b.Kind && a.Of == b.Of
	})
	f.leaveOut()
	return f.out
}

// finder looks for places.
type finder struct {
	tree    Tree
	out     Found
	defined map[string][]Place // values that others may refer to, by the name of their kind and their own
	texts   map[string]*text
	read    int
	bytes   int
}

// strange are folders of what others wrote or a build made.
var strange = map[string]bool{"node_modules": true, "Pods": true, "build": true, "out": true, ".gradle": true,
	"DerivedData": true, "Carthage": true, "third_party": true, "vendor": true, ".git": true, "obj": true,
	"ephemeral": true, ".dart_tool": true, ".symlinks": true}

// Skipped tells that a folder is of what others wrote, or what a build made.
func Skipped(base string) bool { return strange[base] }

func (f *finder) readAll(below []string) {
	for _, name := range f.tree.Paths {
		reader := readerOf(name)
		if reader == nil || f.isStrange(name) || !isBelow(name, below) {
			continue
		}
		if f.read == MaxFiles {
			f.problem(Problem{File: name, Message: fmt.Sprintf("more than %d files could hold a version; this and what "+
				"follows was not read: name the app's folders", MaxFiles)})
			return
		}
		f.read++
		if t := f.open(name); t != nil {
			f.readBy(reader, t)
		}
	}
}

// readBy has a reader read a file. Strangers wrote it: should a reader fail at it, that is the file's problem.
func (f *finder) readBy(r reader, t *text) {
	defer func() {
		if failed := recover(); failed != nil {
			f.problem(Problem{File: t.file, Message: fmt.Sprintf("reading it has failed: %v", failed)})
		}
	}()
	r(f, t)
}

func (f *finder) isStrange(name string) bool {
	for dir := range strings.SplitSeq(path.Dir(name), "/") {
		if strange[dir] {
			return true
		}
	}
	return false
}

func isBelow(name string, below []string) bool {
	return len(below) == 0 || slices.ContainsFunc(below, func(dir string) bool {
		dir = path.Clean(dir)
		return dir == "." || name == dir || strings.HasPrefix(name, dir+"/")
	})
}

func (f *finder) problem(p Problem) { f.out.Problems = append(f.out.Problems, p) }

// open reads a file once; nil when it cannot be, which is said.
func (f *finder) open(name string) *text {
	if t, done := f.texts[name]; done {
		return t
	}
	f.texts[name] = nil
	if f.tree.Link != nil && f.tree.Link(name) {
		f.problem(Problem{File: name, Message: "it is a link, which is not followed: name the file it leads to"})
		return nil
	}
	raw, err := f.tree.Read(name)
	switch {
	case err != nil:
		f.problem(Problem{File: name, Message: "it cannot be read: " + err.Error()})
		return nil
	case len(raw) > MaxFile:
		f.problem(Problem{File: name, Message: fmt.Sprintf("it has more than %d MiB", MaxFile>>20)})
		return nil
	}
	if f.bytes += len(raw); f.bytes > MaxBytes {
		f.problem(Problem{File: name, Message: fmt.Sprintf("more than %d MiB of files could hold a version; this was not "+
			"read: name the app's folders", MaxBytes>>20)})
		return nil
	}
	t := decode(name, raw)
	f.texts[name] = t
	return t
}

// add takes in a place of a file, from the bytes that its value takes there.
func (f *finder) add(t *text, p Place, start, end int) {
	if len(f.out.Places) == maxPlaces {
		f.problem(t.problem(start, fmt.Sprintf("there are more than %d places; the rest was not looked at", maxPlaces)))
	}
	if len(f.out.Places) <= maxPlaces {
		f.out.Places = append(f.out.Places, t.fill(p, start, end))
	}
}

// maxPlaces is more than any app has.
const maxPlaces = 2000

// define takes in a value that others may refer to.
func (f *finder) define(t *text, as string, p Place, start, end int) {
	if len(f.defined[as]) < 100 {
		f.defined[as] = append(f.defined[as], t.fill(p, start, end))
	}
}

// leaveOut drops the places that count only where they agree with the others, and do not.
func (f *finder) leaveOut() {
	f.out.Places = slices.DeleteFunc(f.out.Places, func(p Place) bool {
		return p.follows && slices.ContainsFunc(f.out.Places, func(o Place) bool {
			return !o.follows && o.Kind == p.Kind && o.Literal() && o.Of == ""
		}) && !slices.ContainsFunc(f.out.Places, func(o Place) bool {
			return !o.follows && o.Kind == p.Kind && o.Value == p.Value
		})
	})
}
