// Package mask hides secret values in a stream of bytes, and finds them in files.
//
// A value is found raw and as Base64 (both alphabets, every alignment, broken into lines or not), hexadecimal,
// percent-encoded, and escaped for JSON, XML and a shell; of a value with several lines each line counts by itself.
// Matches are found across any boundary between two writes, and with colours between their characters. Everything
// that belongs to any match is hidden; what touches becomes one. Values shorter than MinLength are not hidden: they
// would eat ordinary text.
package mask

import (
	"bytes"
	"encoding/binary"
	"io"
	"math/bits"
	"slices"
	"strings"
)

// MinLength is the fewest bytes a value or one of its lines must have to be hidden.
const MinLength = 6

// Hidden stands where a value stood.
const Hidden = "‹hidden›"

// Value is something to hide, and what it is called.
type Value struct {
	Name string
	Text []byte
}

// window is how many bytes are looked at together.
const window = 4

// piece is the most bytes of one pattern. Longer values are looked for in pieces, which touch; so is a part of one.
const piece = 512

// maxStride bounds how far apart the windows are that are looked at.
const maxStride = 8

// Masker knows what to look for. It is immutable and safe for concurrent use.
//
// Of every pattern the windows at its first stride bytes are known. Of a text only every stride-th window is looked
// at: of whatever matches, exactly one of those. A bit of the filter for each known window's hash keeps nearly all
// others from a closer look.
type Masker struct {
	filter  []uint64
	shift   uint
	stride  int
	longest int
	known   map[uint32][]candidate
	names   []string
	joined  *Masker // of a finder: for what may be broken by white space anywhere
}

// candidate is a pattern, and where in it a window stands.
type candidate struct {
	text  []byte
	at    int
	owner int // whose it is, in names
}

// New makes a masker that hides values in logs, each line of them by itself.
func New(values ...Value) *Masker {
	b := newBuilder()
	for _, v := range values {
		owner := b.owner(v.Name)
		add := func(form string) {
			if !strings.Contains(form, "\n") {
				b.add(form, owner)
			}
		}
		whole := bytes.TrimSpace(v.Text)
		hideable(whole, add)
		for line := range bytes.SplitSeq(v.Text, []byte("\n")) {
			if line = bytes.TrimSpace(line); len(line) != len(whole) {
				hideable(line, add)
			}
		}
	}
	return b.masker()
}

func hideable(v []byte, add func(string)) {
	if len(v) >= MinLength {
		forms(v, add)
	}
}

// minKeyLine is the fewest bytes of a line without spaces that is a key and not a piece of ordinary text.
const minKeyLine = 32

// Finder makes a masker that finds values in files: whole ones, and lines that can only be of a key. Line breaks
// are bytes like others.
func Finder(values ...Value) *Masker {
	b := newBuilder()
	for _, v := range values {
		owner := b.owner(v.Name)
		add := func(form string) { b.add(form, owner) }
		whole := bytes.TrimSpace(v.Text)
		hideable(whole, add)
		if len(whole) > maxEscaped {
			continue
		}
		for line := range bytes.SplitSeq(whole, []byte("\n")) {
			if line = bytes.TrimSpace(line); len(line) >= minKeyLine && len(line) != len(whole) &&
				bytes.IndexByte(line, ' ') < 0 {
				forms(line, add)
			}
		}
	}
	m := b.masker()
	m.joined = joinedFinder(values)
	return m
}

// joinedFinder finds, in a text without its white space, what means the same wherever it is broken.
func joinedFinder(values []Value) *Masker {
	b := newBuilder()
	for _, v := range values {
		owner := b.owner(v.Name)
		if whole := bytes.TrimSpace(v.Text); len(whole) >= MinLength {
			joinable(whole, func(form string) { b.add(form, owner) })
		}
	}
	return b.masker()
}

// builder gathers patterns, each once.
type builder struct {
	names  []string
	owners map[string]int // by pattern
	list   []string
}

func newBuilder() *builder { return &builder{owners: map[string]int{}} }

func (b *builder) owner(name string) int {
	b.names = append(b.names, name)
	return len(b.names) - 1
}

// add adds a pattern, in pieces when it is long. The last piece reaches back, so that it is long too.
func (b *builder) add(text string, owner int) {
	for at := 0; ; at += piece {
		part := text[at:min(at+piece, len(text))]
		if len(text)-at < piece && at > 0 {
			part = text[len(text)-piece:]
		}
		if _, have := b.owners[part]; !have && len(part) >= MinLength {
			b.owners[part] = owner
			b.list = append(b.list, part)
		}
		if at+piece >= len(text) {
			return
		}
	}
}

func (b *builder) masker() *Masker {
	m := &Masker{names: b.names, known: map[uint32][]candidate{}}
	if len(b.list) == 0 {
		return m
	}
	shortest := piece
	for _, p := range b.list {
		shortest, m.longest = min(shortest, len(p)), max(m.longest, len(p))
	}
	m.stride = min(shortest-window+1, maxStride)
	// One bit in 64 of the filter is set at most, up to half a mebibyte, which a processor still has close by.
	size := min(max(bits.Len(uint(len(b.list)*m.stride*64)), 14), 22)
	m.filter, m.shift = make([]uint64, 1<<size/64), uint(32-size)
	for _, p := range b.list {
		text := []byte(p)
		for at := range m.stride {
			w := binary.LittleEndian.Uint32(text[at:])
			m.known[w] = append(m.known[w], candidate{text, at, b.owners[p]})
			h := hash(w, m.shift)
			m.filter[h/64] |= 1 << (h % 64)
		}
	}
	return m
}

// hash spreads windows over the filter (Knuth, The Art of Computer Programming 3, 6.4: multiplicative hashing).
func hash(w uint32, shift uint) uint32 { return w * 2654435769 >> (shift & 31) }

// matches calls found for every stretch of text that matches and begins before limit, in order. Those that share a
// window come as one.
func (m *Masker) matches(text []byte, limit int, found func(from, to int, owner int)) {
	last := min(limit+m.stride-1, len(text)-window+1)
	filter, shift := m.filter, m.shift
	for p := 0; p < last; p += m.stride {
		w := binary.LittleEndian.Uint32(text[p:])
		h := hash(w, shift)
		if filter[h/64]&(1<<(h%64)) == 0 {
			continue
		}
		from, to, owner := -1, 0, 0
		for _, c := range m.known[w] {
			begin := p - c.at
			if begin < 0 || begin >= limit || !bytes.HasPrefix(text[begin:], c.text) {
				continue
			}
			if from < 0 || begin < from {
				from, owner = begin, c.owner
			}
			to = max(to, begin+len(c.text))
		}
		if from >= 0 {
			found(from, to, owner)
		}
	}
}

// String hides values in a whole text.
func (m *Masker) String(s string) string {
	if m.longest == 0 {
		return s
	}
	var out bytes.Buffer
	w := m.Writer(func(p []byte) { out.Write(p) })
	_, _ = w.Write([]byte(s))
	w.Flush()
	return out.String()
}

// First tells which value is the first in a text, and where; -1 when none is.
func (m *Masker) First(text []byte) (name string, at int) {
	at = -1
	if m.longest == 0 {
		return "", at
	}
	m.matches(text, len(text), func(from, _, owner int) {
		if at < 0 {
			name, at = m.names[owner], from
		}
	})
	return name, at
}

// Find reads to the end and tells the names of the values that are in it, in the order in which they were given.
func (m *Masker) Find(r io.Reader) (names []string, err error) {
	if m.longest == 0 {
		return nil, nil
	}
	s := m.Search()
	if _, err := io.CopyBuffer(s, struct{ io.Reader }{r}, make([]byte, 256<<10)); err != nil {
		return nil, err
	}
	return s.Names(), nil
}

// Search looks for values in what is written to it.
type Search struct {
	m    *Masker
	hit  []bool
	text []byte // not yet decided

	joined *Search // of the same without white space; nil for none
}

// Search begins a search.
func (m *Masker) Search() *Search {
	s := &Search{m: m, hit: make([]bool, len(m.names))}
	if m.joined != nil {
		s.joined = m.joined.Search()
	}
	return s
}

// Write never fails.
func (s *Search) Write(p []byte) (int, error) {
	if s.m.longest == 0 {
		return len(p), nil
	}
	if s.joined != nil {
		s.joined.writeJoined(p)
	}
	s.text = append(s.text, p...)
	s.look(max(0, len(s.text)-s.m.longest+1))
	return len(p), nil
}

// blank are bytes that mean nothing in what is joined.
var blank = [256]bool{' ': true, '\t': true, '\n': true, '\r': true}

// writeJoined takes a text without its white space.
func (s *Search) writeJoined(p []byte) {
	if s.m.longest == 0 {
		return
	}
	from := 0
	for i, c := range p {
		if blank[c] {
			s.text = append(s.text, p[from:i]...)
			from = i + 1
		}
	}
	s.text = append(s.text, p[from:]...)
	s.look(max(0, len(s.text)-s.m.longest+1))
}

func (s *Search) look(limit int) {
	if limit > 0 {
		s.m.matches(s.text, limit, func(_, _, owner int) { s.hit[owner] = true })
		s.text = s.text[:copy(s.text, s.text[limit:])]
	}
}

// Names ends the search and tells the names of the values that were found, in the order in which they were given.
func (s *Search) Names() (names []string) {
	s.look(len(s.text))
	var also []string
	if s.joined != nil {
		also = s.joined.Names()
	}
	for i, name := range s.m.names {
		if (s.hit[i] || slices.Contains(also, name)) && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}
