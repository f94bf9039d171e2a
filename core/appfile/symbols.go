package appfile

import (
	"bufio"
	"bytes"
	"io"
	"regexp"
	"slices"

	"gentlepiston.example/piston/core/sign/macho"
)

// Symbols is a file by which a crash of an app is read: of programs of iOS, of native libraries, or the names that a
// shrinker took away.
type Symbols struct {
	Path   string `json:"path"`
	SHA256 string `json:"sha256"`
	Size   int64  `json:"size"`
	Kind   string `json:"kind" enum:"program,library,mapping"`
	// By which programs know it: build ids of ELF, UUIDs of Mach-O, the id of a mapping.
	IDs []string `json:"ids"`
	// What of the package it is for, by its paths; none when it is for another one.
	Of []string `json:"of"`
}

// The kinds of files of symbols.
const (
	ProgramSymbols = "program"
	LibrarySymbols = "library"
	MappingSymbols = "mapping"
)

// mappingID is where a shrinker says which of its runs wrote a mapping.
var mappingID = regexp.MustCompile(`(?m)^# pg_map_id: ([0-9a-f]{7,64})\s*$`)

// ReadSymbols reads by what a file of symbols is known; false when it is none, such as a list that lies beside one.
func ReadSymbols(r io.ReaderAt, size int64) (s Symbols, is bool) {
	s.Size, s.IDs, s.Of = size, []string{}, []string{}
	b := make([]byte, min(size, maxBeginning))
	if _, err := r.ReadAt(b, 0); err != nil && err != io.EOF {
		return s, false
	}
	whole := io.NewSectionReader(r, 0, size)
	switch {
	case len(b) >= 8 && macho.IsProgram(b[:8]):
		about, err := macho.Look(io.NopCloser(bufio.NewReader(whole)), size, false)
		if err != nil {
			return s, false
		}
		s.Kind = ProgramSymbols
		for _, slice := range about.Slices {
			s.IDs = append(s.IDs, slice.UUID)
		}
	case bytes.HasPrefix(b, []byte("\x7fELF")):
		s.Kind = LibrarySymbols
		if id := readELF(b).BuildID; id != "" {
			s.IDs = append(s.IDs, id)
		}
	default:
		m := mappingID.FindSubmatch(b)
		if m == nil {
			return s, false
		}
		s.Kind, s.IDs = MappingSymbols, append(s.IDs, string(m[1]))
	}
	s.IDs = slices.DeleteFunc(s.IDs, func(id string) bool { return id == "" })
	return s, true
}

// Match takes files of symbols, and notes what of the package each is for.
func (f *Facts) Match(list []Symbols) {
	f.Symbols = []Symbols{}
	for _, s := range list {
		s.Of = []string{}
		for _, p := range f.Programs {
			if slices.Contains(s.IDs, p.BuildID) && !slices.Contains(s.Of, p.Path) {
				s.Of = append(s.Of, p.Path)
			}
		}
		if s.Kind == MappingSymbols && f.Mapping != "" && slices.Contains(s.IDs, f.Mapping) {
			for _, c := range f.Code {
				s.Of = append(s.Of, c.Path)
			}
		}
		f.Symbols = append(f.Symbols, s)
	}
}

// Unreadable lists what crashes cannot be read of, since no file of symbols is for it: programs, and code that was
// shrunk.
func (f *Facts) Unreadable() (list []string) {
	known := map[string]bool{}
	for _, s := range f.Symbols {
		for _, of := range s.Of {
			known[of] = true
		}
	}
	for _, p := range f.Programs {
		if !known[p.Path] && !slices.Contains(list, p.Path) {
			list = append(list, p.Path)
		}
	}
	if f.Mapping != "" && len(f.Code) > 0 && !known[f.Code[0].Path] {
		list = append(list, f.Code[0].Path)
	}
	return list
}

// shrunk is what a shrinker leaves in code: which of its runs wrote the mapping.
var shrunk = regexp.MustCompile(`"pg-map-id":"([0-9a-f]{7,64})"`)

// mapping takes note of it.
func (p *Package) mapping(b []byte) {
	if p.Mapping == "" && bytes.Contains(b, []byte(`"pg-map-id"`)) {
		if m := shrunk.FindSubmatch(b); m != nil {
			p.Mapping = string(m[1])
		}
	}
}
