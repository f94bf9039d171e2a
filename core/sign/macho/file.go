// Package macho signs programs of Apple's platforms: the pages of the file, what lies beside it and what it asks for
// are summed in a code directory, which a signature is made over (as the kernel's headers lay it out: mach-o/loader.h,
// mach-o/fat.h, kern/cs_blobs.h). What was signed before is taken away; where there was no signature, room is made.
package macho

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"
	"strings"
)

// What a file begins with.
const (
	magic32  = 0xfeedface
	magic64  = 0xfeedfacf
	magicFat = 0xcafebabe // and, in files with many slices, no other: 64-bit fat files are no apps
)

// The load commands that matter here.
const (
	commandSegment32 = 0x01
	commandSegment64 = 0x19
	commandID        = 0x1b
	commandSignature = 0x1d
)

// typeExecutable is a main program (MH_EXECUTE), which the kernel is told of.
const typeExecutable = 2

// The bounds of a file.
const (
	maxSlices   = 16
	maxCommands = 1 << 20 // bytes
)

var (
	big    = binary.BigEndian
	little = binary.LittleEndian
)

// Error says what is wrong with a program.
type Error struct{ What string }

func (e *Error) Error() string { return "the program cannot be signed: " + e.What }

func wrong(format string, args ...any) error { return &Error{fmt.Sprintf(format, args...)} }

// slice is the code for one kind of processor.
type slice struct {
	at, size int64
	align    uint32 // as a power of two
	cpu, sub uint32
	head     []byte // header and load commands
	wide     bool   // 64 bits
	kind     uint32
	code     int64  // bytes that are signed: up to the signature, or all
	room     int64  // where the first section begins: load commands may go up to there
	sign     int    // where in head the command of the signature stands; -1: nowhere
	linkedit int    // where that of __LINKEDIT stands
	uuid     string // by which its symbols are found
	text     span
	edit     span
}

type span struct{ at, size int64 }

// Program is a file with code for one or more kinds of processors.
type Program struct {
	r      io.ReaderAt
	fat    bool
	slices []*slice
}

// IsProgram tells by its first bytes whether a file is one.
func IsProgram(first []byte) bool {
	if len(first) < 8 {
		return false
	}
	switch little.Uint32(first) {
	case magic32, magic64:
		return true
	}
	return big.Uint32(first) == magicFat && big.Uint32(first[4:]) <= maxSlices // classes of Java begin the same
}

// Open reads where things are. Errors are of type *Error, or the reader's own.
func Open(r io.ReaderAt, size int64) (*Program, error) {
	return open(r, size, func(*slice) error { return nil })
}

// open reads where things are; what is to be done with each slice is done before the next is read.
func open(r io.ReaderAt, size int64, each func(s *slice) error) (*Program, error) {
	first, err := read(r, 0, 8, size)
	if err != nil {
		return nil, err
	}
	p := &Program{r: r}
	if !IsProgram(first) {
		return nil, wrong("it is none of Apple's: it begins with %x", first[:4])
	}
	if big.Uint32(first) != magicFat {
		only := &slice{size: size}
		p.slices = []*slice{only}
		if err := only.open(r); err != nil {
			return nil, err
		}
		return p, each(only)
	}
	p.fat = true
	count := int64(big.Uint32(first[4:]))
	table, err := read(r, 8, count*20, size)
	if err != nil {
		return nil, err
	}
	end := 8 + count*20
	for ; len(table) > 0; table = table[20:] {
		s := &slice{cpu: big.Uint32(table), sub: big.Uint32(table[4:]), at: int64(big.Uint32(table[8:])),
			size: int64(big.Uint32(table[12:])), align: big.Uint32(table[16:])}
		if s.at < end || s.at+s.size > size || s.align > 20 {
			return nil, wrong("its parts for several processors overlap, or are cut off")
		}
		end = s.at + s.size
		if err := s.open(r); err != nil {
			return nil, err
		}
		if err := each(s); err != nil {
			return nil, err
		}
		p.slices = append(p.slices, s)
	}
	if len(p.slices) == 0 {
		return nil, wrong("it holds code for no processor")
	}
	return p, nil
}

func read(r io.ReaderAt, at, n, size int64) ([]byte, error) {
	if at < 0 || n < 0 || at > size || n > size-at {
		return nil, wrong("it is cut off")
	}
	b := make([]byte, n)
	if _, err := r.ReadAt(b, at); err != nil && err != io.EOF {
		return nil, err
	}
	return b, nil
}

// open reads header and load commands.
func (s *slice) open(r io.ReaderAt) error {
	head, err := read(io.NewSectionReader(r, s.at, s.size), 0, 28, s.size)
	if err != nil {
		return err
	}
	length := int64(28)
	switch little.Uint32(head) {
	case magic64:
		s.wide, length = true, 32
	case magic32:
	default:
		return wrong("a part of it is no program")
	}
	s.kind = little.Uint32(head[12:])
	count, bytes := little.Uint32(head[16:]), int64(little.Uint32(head[20:]))
	if bytes > maxCommands || int64(count)*8 > bytes {
		return wrong("it says it has %d load commands in %d bytes", count, bytes)
	}
	if s.head, err = read(io.NewSectionReader(r, s.at, s.size), 0, length+bytes, s.size); err != nil {
		return err
	}
	s.sign, s.linkedit, s.room, s.code = -1, -1, s.size, s.size
	at := int(length)
	for range count {
		rest := s.head[at:]
		if len(rest) < 8 || int(little.Uint32(rest[4:])) < 8 || int(little.Uint32(rest[4:])) > len(rest) {
			return wrong("its load commands are cut off")
		}
		size := int(little.Uint32(rest[4:]))
		if err := s.command(at, rest[:size]); err != nil {
			return err
		}
		at += size
	}
	switch {
	case s.linkedit < 0:
		return wrong("it has no segment __LINKEDIT, where a signature would be")
	case s.edit.at < 0 || s.edit.size < 0 || s.edit.at+s.edit.size > s.size || s.code < s.edit.at || s.code > s.size:
		return wrong("its last segment or its signature lies outside of it")
	case s.sign < 0:
		s.code = s.edit.at + s.edit.size
	}
	return nil
}

// command takes note of a load command.
func (s *slice) command(at int, c []byte) error {
	switch little.Uint32(c) {
	case commandSignature:
		if len(c) < 16 || s.sign >= 0 {
			return wrong("it has two signatures, or half of one")
		}
		s.sign, s.code = at, int64(little.Uint32(c[8:]))
	case commandID:
		if len(c) >= 24 {
			id := strings.ToUpper(hex.EncodeToString(c[8:24]))
			s.uuid = strings.Join([]string{id[:8], id[8:12], id[12:16], id[16:20], id[20:]}, "-")
		}
	case commandSegment64:
		if len(c) < 72 {
			return wrong("a segment is cut off")
		}
		where := span{int64(little.Uint64(c[40:])), int64(little.Uint64(c[48:]))}
		return s.segment(at, string(c[8:24]), where, c[72:], int(little.Uint32(c[64:])), 80, 48)
	case commandSegment32:
		if len(c) < 56 {
			return wrong("a segment is cut off")
		}
		where := span{int64(little.Uint32(c[32:])), int64(little.Uint32(c[36:]))}
		return s.segment(at, string(c[8:24]), where, c[56:], int(little.Uint32(c[48:])), 68, 40)
	}
	return nil
}

func (s *slice) segment(at int, name string, where span, sections []byte, count, size, offset int) error {
	switch trimmed(name) {
	case "__LINKEDIT":
		s.linkedit, s.edit = at, where
	case "__TEXT":
		s.text = where
	}
	if count < 0 || count > len(sections)/size {
		return wrong("a segment says it has more sections than fit")
	}
	for i := range count {
		begins := int64(little.Uint32(sections[i*size+offset:]))
		if begins > 0 {
			s.room = min(s.room, begins)
		}
	}
	return nil
}

func trimmed(name string) string {
	for i := range len(name) {
		if name[i] == 0 {
			return name[:i]
		}
	}
	return name
}
