// Package mask hides secret values in a stream of bytes.
//
// A value is found raw and as Base64 (both alphabets, every alignment), hexadecimal, percent-encoded and
// JSON-escaped text; of a value with several lines each line counts by itself. Matches are found across any
// boundary between two writes. Values shorter than MinLength are not hidden: they would eat ordinary text.
package mask

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"sort"
	"strings"
)

// MinLength is the fewest bytes a value or one of its lines must have to be hidden.
const MinLength = 4

// Hidden stands where a value stood.
const Hidden = "‹hidden›"

// Masker knows what to hide. It is immutable and safe for concurrent use.
type Masker struct {
	begins   [1 << 16 / 64]uint64 // a bit for each pair of bytes that a pattern begins with
	patterns map[[2]byte][][]byte // by that pair, longest first
	longest  int
}

// New makes a masker for values.
func New(values ...string) *Masker {
	set := map[string]bool{}
	for _, v := range values {
		whole := strings.TrimSpace(v)
		encodings(whole, set)
		for _, line := range strings.Split(v, "\n") {
			if line = strings.TrimSpace(line); line != whole {
				encodings(line, set)
			}
		}
	}
	m := &Masker{patterns: map[[2]byte][][]byte{}}
	for p := range set {
		k := [2]byte{p[0], p[1]}
		m.patterns[k] = append(m.patterns[k], []byte(p))
		m.begins[pair(p[0], p[1])/64] |= 1 << (pair(p[0], p[1]) % 64)
		m.longest = max(m.longest, len(p))
	}
	for _, list := range m.patterns {
		sort.Slice(list, func(i, j int) bool { return len(list[i]) > len(list[j]) })
	}
	return m
}

func encodings(v string, set map[string]bool) {
	if len(v) < MinLength {
		return
	}
	add := func(s string) {
		if len(s) >= MinLength && !strings.Contains(s, "\n") {
			set[s] = true
		}
	}
	add(v)
	add(hex.EncodeToString([]byte(v)))
	add(strings.ToUpper(hex.EncodeToString([]byte(v))))
	add(url.QueryEscape(v))
	add(url.PathEscape(v))
	for _, escapeHTML := range []bool{true, false} {
		add(quoted(v, escapeHTML))
	}
	for _, alphabet := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
		for shift := range 3 {
			add(aligned(alphabet, v, shift))
		}
	}
}

// quoted is v as the inside of a JSON string (RFC 8259, section 7), with or without <, > and & escaped too.
func quoted(v string, escapeHTML bool) string {
	var b strings.Builder
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(escapeHTML)
	if enc.Encode(v) != nil {
		return ""
	}
	return strings.TrimSuffix(strings.TrimPrefix(b.String(), `"`), "\"\n")
}

// aligned gives the part of the Base64 text that depends on v alone when v begins shift bytes into a group of
// three (RFC 4648, section 4): the characters that share bits with neighbours are cut off.
func aligned(alphabet *base64.Encoding, v string, shift int) string {
	text := alphabet.EncodeToString(append(make([]byte, shift), v...))
	from := []int{0, 2, 3}[shift]
	to := len(text)
	if (shift+len(v))%3 != 0 {
		to--
	}
	if from >= to {
		return ""
	}
	return text[from:to]
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

// Writer hides values in what is written to it and passes the rest on. Not safe for concurrent use.
type Writer struct {
	m    *Masker
	out  func([]byte)
	held []byte
}

// Writer makes a stream masker. out must not keep the slice it is given.
func (m *Masker) Writer(out func([]byte)) *Writer { return &Writer{m: m, out: out} }

// Write never fails. Up to the longest pattern's length is held back until more comes or Flush is called; a line
// break releases what stands before it, because no pattern holds one.
func (w *Writer) Write(p []byte) (int, error) {
	if w.m.longest == 0 {
		w.out(p)
		return len(p), nil
	}
	text := p
	if len(w.held) > 0 {
		text = append(w.held, p...)
	}
	sure := len(text) - w.m.longest + 1
	if nl := bytes.LastIndexByte(text, '\n'); nl+1 > sure {
		sure = nl + 1
	}
	rest := w.scan(text, max(sure, 0))
	w.held = append([]byte(nil), rest...)
	return len(p), nil
}

// Flush releases what is held back.
func (w *Writer) Flush() {
	rest := w.scan(w.held, len(w.held))
	if len(rest) > 0 {
		w.out(rest)
	}
	w.held = nil
}

// scan passes on text, masked, for every match that begins before limit, and returns what it did not decide.
func (w *Writer) scan(text []byte, limit int) (rest []byte) {
	from, i := 0, 0
	for i < limit {
		if n := w.m.matchAt(text[i:]); n > 0 {
			if i > from {
				w.out(text[from:i])
			}
			w.out([]byte(Hidden))
			i += n
			from = i
			continue
		}
		i++
	}
	if i > from {
		w.out(text[from:i])
	}
	return text[i:]
}

func pair(a, b byte) uint { return uint(a)<<8 | uint(b) }

func (m *Masker) matchAt(text []byte) int {
	if len(text) < 2 {
		return 0
	}
	if p := pair(text[0], text[1]); m.begins[p/64]&(1<<(p%64)) == 0 {
		return 0
	}
	for _, p := range m.patterns[[2]byte{text[0], text[1]}] {
		if bytes.HasPrefix(text, p) {
			return len(p)
		}
	}
	return 0
}
