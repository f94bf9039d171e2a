package versionfile

import (
	"bytes"
	"cmp"
	"fmt"
	"regexp"
	"slices"
)

// Change is another value for a place.
type Change struct {
	Place Place
	Value string
}

// valueForm is what may be written: nothing that would mean something else in any of the formats.
var valueForm = regexp.MustCompile(`^[0-9A-Za-z][0-9A-Za-z._+-]{0,99}$`)

// Edit puts other values in the places of one file and gives its new content. Nothing is changed but the bytes of the
// values. The file must be as it was when its places were found.
func Edit(file string, raw []byte, changes []Change) ([]byte, error) {
	t := decode(file, raw)
	changes = slices.Clone(changes)
	slices.SortFunc(changes, func(a, b Change) int { return cmp.Compare(a.Place.start, b.Place.start) })
	changes = slices.CompactFunc(changes, func(a, b Change) bool {
		return a.Place.start == b.Place.start && a.Value == b.Value
	})
	last := -1
	for _, c := range changes {
		p := c.Place
		content := t.s
		if t.binary {
			content = string(raw)
		}
		switch {
		case p.File != file:
			return nil, fmt.Errorf("%s is not in %s", p.File, file)
		case !p.Literal():
			return nil, fmt.Errorf("%s:%d cannot be written: %s", p.File, p.Line, p.Computed)
		case !valueForm.MatchString(c.Value):
			return nil, fmt.Errorf("%.40q is no version that could be written", c.Value)
		case p.start < last:
			return nil, fmt.Errorf("%s:%d would be written twice, with different values", p.File, p.Line)
		case p.end > len(content) || content[p.start:p.end] != p.Value:
			return nil, fmt.Errorf("%s:%d does not say %s any more: it was changed meanwhile", p.File, p.Line, p.Value)
		}
		last = p.end
	}
	if t.binary {
		return editBinary(raw, changes)
	}
	var out bytes.Buffer
	done := 0
	for _, c := range changes {
		start, end := t.offset(c.Place.start), t.offset(c.Place.end)
		out.Write(raw[done:start])
		out.Write(t.encode(c.Value))
		done = end
	}
	out.Write(raw[done:])
	return out.Bytes(), nil
}

// ByFile sorts changes by the files they are in.
func ByFile(changes []Change) map[string][]Change {
	files := map[string][]Change{}
	for _, c := range changes {
		files[c.Place.File] = append(files[c.Place.File], c)
	}
	return files
}

// EditAll puts all changes into a tree's files, and gives those with their new content; on an error none.
func EditAll(t Tree, changes []Change) (map[string][]byte, error) {
	out := map[string][]byte{}
	for name, list := range ByFile(changes) {
		raw, err := t.Read(name)
		if err != nil {
			return nil, err
		}
		if out[name], err = Edit(name, raw, list); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// LineAfter is a line as some changes of it will make it.
func LineAfter(changes []Change) string {
	changes = slices.Clone(changes)
	slices.SortFunc(changes, func(a, b Change) int { return cmp.Compare(b.Place.Col, a.Place.Col) })
	line := []rune(changes[0].Place.original)
	for _, c := range changes { // from the right, so that what is to the left stays where it is
		at, end := c.Place.Col-1, c.Place.Col-1+len([]rune(c.Place.Value))
		if end > len(line) {
			return c.Value // of a binary file, or cut off
		}
		line = slices.Concat(line[:at], []rune(c.Value), line[end:])
	}
	return string(line)
}
