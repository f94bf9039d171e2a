package logline

import (
	"bytes"
	"strings"
	"unicode/utf8"
)

// MaxText is the most bytes of one line's text. A longer line becomes several, each after the first led by Continued.
const MaxText = 32 << 10

// Continued leads a line that goes on from the one before it.
const Continued = "… "

// Splitter cuts a step's output into the texts of lines. Not safe for concurrent use.
//
// A carriage return alone overwrites the line so far, as on a terminal, so that a progress bar is one line.
// Bytes that are no UTF-8 become U+FFFD; NUL becomes U+2400, since PostgreSQL and JSON readers refuse it.
type Splitter struct {
	emit      func(text string)
	held      []byte
	continued bool
}

// NewSplitter makes a splitter that hands each finished line to emit.
func NewSplitter(emit func(text string)) *Splitter { return &Splitter{emit: emit} }

// Write never fails.
func (s *Splitter) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		nl := bytes.IndexByte(p, '\n')
		part := p
		if nl >= 0 {
			part = p[:nl]
		}
		for len(s.held)+len(part) > MaxText {
			room := MaxText - len(s.held)
			s.held = append(s.held, part[:room]...)
			part = part[room:]
			s.cut()
		}
		s.held = append(s.held, part...)
		if nl < 0 {
			return n, nil
		}
		s.end()
		p = p[nl+1:]
	}
	return n, nil
}

// Flush emits an unfinished last line.
func (s *Splitter) Flush() {
	if len(s.held) > 0 {
		s.end()
	}
}

// cut emits a full buffer as one line and keeps an unfinished character at its end for the next.
func (s *Splitter) cut() {
	keep := 0
	for keep < utf8.UTFMax-1 && keep < len(s.held) {
		tail := s.held[len(s.held)-keep-1:]
		if utf8.RuneStart(tail[0]) {
			if !utf8.FullRune(tail) {
				keep++
			} else {
				keep = 0
			}
			break
		}
		keep++
	}
	if keep > 0 && !utf8.RuneStart(s.held[len(s.held)-keep]) {
		keep = 0 // stray continuation bytes, not the start of a character
	}
	rest := append([]byte(nil), s.held[len(s.held)-keep:]...)
	s.put(s.held[:len(s.held)-keep])
	s.held = append(s.held[:0], rest...)
	s.continued = true
}

func (s *Splitter) end() {
	s.put(s.held)
	s.held = s.held[:0]
	s.continued = false
}

func (s *Splitter) put(b []byte) {
	b = bytes.TrimSuffix(b, []byte{'\r'})
	if i := bytes.LastIndexByte(b, '\r'); i >= 0 {
		b = b[i+1:]
	}
	text := strings.ToValidUTF8(string(b), "\uFFFD")
	text = strings.ReplaceAll(text, "\x00", "\u2400")
	if s.continued {
		text = Continued + text
	}
	s.emit(text)
}
