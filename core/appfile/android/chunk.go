// Package android reads what packages of Android hold: manifests and resource tables in their binary form (as the
// source of Android lays them out, ResourceTypes.h) and in protocol buffers (aapt2's Resources.proto). Strangers wrote
// them: every count and offset is checked against the bytes that are there, depth and number are bounded.
package android

import (
	"encoding/binary"
	"fmt"
	"unicode/utf16"
)

// The kinds of chunks.
const (
	chunkStrings      = 0x0001
	chunkTable        = 0x0002
	chunkXML          = 0x0003
	chunkStartElement = 0x0102
	chunkEndElement   = 0x0103
	chunkText         = 0x0104
	chunkResourceIDs  = 0x0180
	chunkPackage      = 0x0200
	chunkType         = 0x0201
)

var little = binary.LittleEndian

// FormatError says what cannot be read, and where.
type FormatError struct {
	At   int // byte
	What string
}

func (e *FormatError) Error() string { return fmt.Sprintf("at byte %d: %s", e.At, e.What) }

// piece is some bytes of a file, and where they begin in it.
type piece struct {
	b  []byte
	at int
}

func (p piece) wrong(at int, what string) error { return &FormatError{p.at + at, what} }

func (p piece) u16(at int) (uint16, bool) {
	if at < 0 || at > len(p.b)-2 {
		return 0, false
	}
	return little.Uint16(p.b[at:]), true
}

func (p piece) u32(at int) (uint32, bool) {
	if at < 0 || at > len(p.b)-4 {
		return 0, false
	}
	return little.Uint32(p.b[at:]), true
}

// chunk is a piece that says what it is.
type chunk struct {
	kind   uint16
	header int // bytes of its header
	piece
}

// chunkHeader is what each begins with.
const chunkHeader = 8

// first cuts the chunk off that a piece begins with.
func (p piece) first() (chunk, piece, error) {
	if len(p.b) < chunkHeader {
		return chunk{}, p, p.wrong(0, "a chunk is cut off")
	}
	kind, header, size := little.Uint16(p.b), int(little.Uint16(p.b[2:])), little.Uint32(p.b[4:])
	if header < chunkHeader || uint64(size) < uint64(header) || uint64(size) > uint64(len(p.b)) {
		return chunk{}, p, p.wrong(0, fmt.Sprintf("a chunk says it has %d bytes, %d are there", size, len(p.b)))
	}
	return chunk{kind, header, piece{p.b[:size], p.at}}, piece{p.b[size:], p.at + int(size)}, nil
}

// each does something with the chunks that a piece is made of.
func (p piece) each(do func(c chunk) error) error {
	for rest := p; len(rest.b) > 0; {
		c, after, err := rest.first()
		if err == nil {
			err = do(c)
		}
		if err != nil {
			return err
		}
		rest = after
	}
	return nil
}

// body is what follows a chunk's header.
func (c chunk) body() piece { return piece{c.b[c.header:], c.at + c.header} }

// strings is a pool of texts that the rest speaks of by number.
type texts struct {
	piece
	count   int
	offsets int
	start   int
	utf8    bool
}

// noText is the number of no text.
const noText = 0xffffffff

func readTexts(c chunk) (texts, error) {
	if c.header < 28 {
		return texts{}, c.wrong(0, "a string pool has too short a header")
	}
	count, flags, start := little.Uint32(c.b[8:]), little.Uint32(c.b[16:]), little.Uint32(c.b[20:])
	if uint64(count)*4 > uint64(len(c.b)-c.header) || uint64(start) > uint64(len(c.b)) {
		return texts{}, c.wrong(8, "a string pool says it has more than fits")
	}
	return texts{c.piece, int(count), c.header, int(start), flags&0x100 != 0}, nil
}

// text gives one; "" for one that is not there.
func (t texts) text(n uint32) string {
	if n == noText || uint64(n) >= uint64(t.count) {
		return ""
	}
	at := t.start + int(little.Uint32(t.b[t.offsets+int(n)*4:]))
	if at < t.start || at >= len(t.b) {
		return ""
	}
	if t.utf8 {
		_, at = t.length8(at) // in characters
		var n int
		if n, at = t.length8(at); at < 0 || n > len(t.b)-at {
			return ""
		}
		return string(t.b[at : at+n])
	}
	high, ok := t.u16(at)
	length := int(high)
	if at += 2; high&0x8000 != 0 {
		var low uint16
		low, ok = t.u16(at)
		length, at = int(high&0x7fff)<<16|int(low), at+2
	}
	if !ok || length > (len(t.b)-at)/2 {
		return ""
	}
	units := make([]uint16, length)
	for i := range units {
		units[i] = little.Uint16(t.b[at+2*i:])
	}
	return string(utf16.Decode(units))
}

// length8 reads a length of one or two bytes; the place is -1 when it is cut off.
func (t texts) length8(at int) (n, next int) {
	if at < 0 || at >= len(t.b)-1 {
		return 0, -1
	}
	if t.b[at]&0x80 == 0 {
		return int(t.b[at]), at + 1
	}
	return int(t.b[at]&0x7f)<<8 | int(t.b[at+1]), at + 2
}
