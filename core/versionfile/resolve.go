package versionfile

import (
	"path"
	"slices"
	"strings"
)

// resolve follows references: a place that only refers to a value that stands elsewhere gives way to that, and says in
// its file's words where from.
func (f *finder) resolve() {
	var kept []Place
	for _, p := range f.out.Places {
		if p.ref == "" {
			kept = append(kept, p)
			continue
		}
		found := f.follow(p)
		if len(found) == 0 {
			kept = append(kept, p)
		}
		for _, d := range found {
			d.Kind, d.Platform = p.Kind, p.Platform
			if d.Of == "" {
				d.Of = p.Of
			}
			kept = append(kept, d)
		}
	}
	f.out.Places = f.withoutCarried(kept)
}

// maxSteps bounds how far a reference is followed.
const maxSteps = 10

// follow finds what a place refers to. A setting that is the version by itself is a place of its own already.
func (f *finder) follow(p Place) []Place {
	for range maxSteps {
		defined := f.nearest(f.defined[p.ref], p.File)
		if len(defined) == 0 {
			return nil
		}
		if next := defined[0].ref; next == "" {
			return defined
		}
		p = defined[0]
	}
	return nil
}

// nearest are the values that a file means by a name: its own, else those nearest above it, else any.
func (f *finder) nearest(defined []Place, file string) []Place {
	for dir := file; dir != "." && dir != "/"; {
		at := slices.DeleteFunc(slices.Clone(defined), func(d Place) bool {
			if dir == file {
				return d.File != file
			}
			return path.Dir(d.File) != dir && path.Dir(d.File) != dir+"/gradle"
		})
		if len(at) > 0 {
			return at
		}
		dir = path.Dir(dir)
	}
	top := slices.DeleteFunc(slices.Clone(defined), func(d Place) bool {
		return path.Dir(d.File) != "." && path.Dir(d.File) != "gradle"
	})
	if len(top) > 0 {
		return top
	}
	return defined
}

// withoutCarried drops places that only carry on what is found elsewhere: an Info.plist that refers to a setting which
// stands in the project, a build script that takes it from the pubspec.
func (f *finder) withoutCarried(list []Place) []Place {
	return slices.DeleteFunc(list, func(p Place) bool {
		if p.Computed == "" {
			return false
		}
		setting := strings.TrimPrefix(p.ref, "setting ")
		return slices.ContainsFunc(list, func(o Place) bool {
			switch {
			case o.Computed != "" || o.Kind != p.Kind:
				return false
			case o.key == setting && setting != p.ref:
				return true
			}
			return o.Format == "pubspec" && strings.Contains(strings.ToLower(p.Computed), "flutter")
		})
	})
}
