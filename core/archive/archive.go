// Package archive reads ZIP archives as strangers wrote them (PKWARE APPNOTE.TXT 6.3.10) and writes ones whose stored
// entries lie where a device wants them. It refuses what two readers would read differently: two entries of one name,
// entries that overlap, a directory that says other than the entries do.
package archive

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"unicode/utf8"
)

// The methods that are read.
const (
	Stored   = 0
	Deflated = 8
)

// MaxEntries bounds the entries of an archive, and maxDirectory the bytes of its central directory.
const (
	MaxEntries   = 200_000
	maxDirectory = 128 << 20
)

// Entry is a file or, with a name that ends in a slash, a folder of an archive.
type Entry struct {
	Name       string
	Method     uint16
	CRC        uint32 // CRC-32 of the content
	Compressed int64  // bytes as they lie in the archive
	Size       int64  // bytes of the content
	Data       int64  // where its bytes begin
	End        int64  // where what belongs to it ends
	Link       bool   // a symbolic link of Unix: the content is where it leads

	header         int64
	flags, creator uint16
	external       uint32
	stamp          uint32 // time and date of MS-DOS, as they stand in the header
}

// Folder tells whether it is one.
func (e *Entry) Folder() bool { return strings.HasSuffix(e.Name, "/") }

// Executable tells whether it is a program by its permissions.
func (e *Entry) Executable() bool { return e.creator>>8 == unix && e.external>>16&0o111 != 0 }

const (
	unix     = 3          // APPNOTE 4.4.2.2
	typeLink = 0o12 << 12 // inode(7), S_IFLNK
	typeMask = 0o17 << 12
)

// Archive is what stands in an archive.
type Archive struct {
	r         io.ReaderAt
	size      int64
	entries   []*Entry // by their places
	names     map[string]*Entry
	Directory int64 // where the central directory begins
	Finish    int64 // where the end of central directory record begins
}

// Error says what is wrong with an archive, and where.
type Error struct {
	Entry string // "" for the archive as a whole
	What  string
	None  bool // it is no archive at all, nor ever was
}

func (e *Error) Error() string {
	if e.Entry == "" {
		return "the archive is damaged: " + e.What
	}
	return fmt.Sprintf("the archive's entry %.200q is damaged: %s", e.Entry, e.What)
}

func wrong(format string, args ...any) error {
	return &Error{What: fmt.Sprintf(format, args...)}
}

const (
	localMark     = 0x04034b50 // the signatures of APPNOTE 4.3
	centralMark   = 0x02014b50
	endMark       = 0x06054b50
	end64Mark     = 0x06064b50
	locatorMark   = 0x07064b50
	localLength   = 30
	centralLength = 46
	endLength     = 22
	end64Length   = 56
	locatorLength = 20
)

var little = binary.LittleEndian

// Open reads an archive's directory. Errors are of type *Error, or the reader's own.
func Open(r io.ReaderAt, size int64) (*Archive, error) {
	a := &Archive{r: r, size: size, names: map[string]*Entry{}}
	count, length, err := a.findEnd()
	if err != nil {
		return nil, err
	}
	directory, err := a.bytes(a.Directory, length)
	if err != nil {
		return nil, err
	}
	for range count {
		var e *Entry
		if e, directory, err = central(directory); err != nil {
			return nil, err
		}
		if a.names[e.Name] != nil {
			return nil, &Error{Entry: e.Name, What: "there are two of that name, and each reader would take the one it likes"}
		}
		a.names[e.Name] = e
		a.entries = append(a.entries, e)
	}
	if len(directory) > 0 {
		return nil, wrong("its directory holds %d bytes that belong to no entry", len(directory))
	}
	slices.SortStableFunc(a.entries, func(x, y *Entry) int { return int(min(max(x.header-y.header, -1), 1)) })
	end := int64(0)
	for _, e := range a.entries {
		if e.header < end {
			return nil, &Error{Entry: e.Name, What: "it lies within another"}
		}
		if err := a.local(e); err != nil {
			return nil, err
		}
		end = e.End
	}
	return a, nil
}

// bytes reads a piece of the archive.
func (a *Archive) bytes(at, n int64) ([]byte, error) {
	if at < 0 || n < 0 || at > a.size || n > a.size-at {
		return nil, wrong("it ends before byte %d; was it cut off on its way?", max(at, 0)+max(n, 0))
	}
	b := make([]byte, n)
	if _, err := a.r.ReadAt(b, at); err != nil && err != io.EOF {
		return nil, err
	}
	return b, nil
}

// findEnd finds the end of central directory record, which says how many entries there are and how many bytes tell of
// them.
func (a *Archive) findEnd() (count int, length int64, err error) {
	tail := min(a.size, endLength+math.MaxUint16)
	b, err := a.bytes(a.size-tail, tail)
	if err != nil {
		return 0, 0, err
	}
	at := -1
	for i := len(b) - endLength; i >= 0; i-- {
		comment := int(little.Uint16(b[i+20:]))
		if little.Uint32(b[i:]) == endMark && i+endLength+comment == len(b) {
			at = i
			break
		}
	}
	if at < 0 {
		what := "it has no end of central directory; it is no ZIP archive, or was cut off on its way"
		start, err := a.bytes(0, min(4, a.size))
		return 0, 0, &Error{What: what, None: err == nil && string(start) != "PK\x03\x04"}
	}
	a.Finish = a.size - tail + int64(at)
	end := b[at:]
	many, bytes, directory := uint64(little.Uint16(end[10:])), uint64(little.Uint32(end[12:])),
		uint64(little.Uint32(end[16:]))
	if many == math.MaxUint16 || bytes == math.MaxUint32 || directory == math.MaxUint32 {
		if many, bytes, directory, err = a.end64(many, bytes, directory); err != nil {
			return 0, 0, err
		}
	}
	switch {
	case directory > uint64(a.Finish) || bytes > uint64(a.Finish)-directory:
		return 0, 0, wrong("its end says that the directory lies outside of it")
	case many > MaxEntries || bytes > maxDirectory:
		return 0, 0, wrong("it has %d entries, at most %d are read", many, MaxEntries)
	}
	a.Directory = int64(directory)
	return int(many), int64(bytes), nil
}

// end64 reads the record of large archives (APPNOTE 4.3.14) for what did not fit into the other.
func (a *Archive) end64(many, bytes, directory uint64) (uint64, uint64, uint64, error) {
	locator, err := a.bytes(a.Finish-locatorLength, locatorLength)
	if err != nil || little.Uint32(locator) != locatorMark {
		return many, bytes, directory, nil // the numbers are what they are
	}
	at := little.Uint64(locator[8:])
	if at > uint64(a.Finish) {
		return 0, 0, 0, wrong("its 64-bit end lies outside of it")
	}
	b, err := a.bytes(int64(at), end64Length)
	if err != nil {
		return 0, 0, 0, err
	}
	if little.Uint32(b) != end64Mark {
		return 0, 0, 0, wrong("its 64-bit end is not where it is said to be")
	}
	return little.Uint64(b[32:]), little.Uint64(b[40:]), little.Uint64(b[48:]), nil
}

// central reads one entry of the central directory (APPNOTE 4.3.12) and gives what follows it.
func central(b []byte) (*Entry, []byte, error) {
	if len(b) < centralLength || little.Uint32(b) != centralMark {
		return nil, nil, wrong("its directory has fewer entries than it says")
	}
	name, extra, comment := int(little.Uint16(b[28:])), int(little.Uint16(b[30:])), int(little.Uint16(b[32:]))
	if len(b) < centralLength+name+extra+comment {
		return nil, nil, wrong("its directory is cut off")
	}
	e := &Entry{Name: string(b[centralLength:][:name]), creator: little.Uint16(b[4:]), flags: little.Uint16(b[8:]),
		Method: little.Uint16(b[10:]), stamp: little.Uint32(b[12:]), CRC: little.Uint32(b[16:]),
		Compressed: int64(little.Uint32(b[20:])), Size: int64(little.Uint32(b[24:])),
		external: little.Uint32(b[38:]), header: int64(little.Uint32(b[42:]))}
	e.large(b[centralLength+name:][:extra], &e.Size, &e.Compressed, &e.header)
	e.Link = e.creator>>8 == unix && e.external>>16&typeMask == typeLink
	return e, b[centralLength+name+extra+comment:], e.check()
}

// large takes numbers that did not fit from the extra field of large archives (APPNOTE 4.5.3).
func (e *Entry) large(extra []byte, fields ...*int64) {
	for len(extra) >= 4 {
		id, n := little.Uint16(extra), int(little.Uint16(extra[2:]))
		if extra = extra[4:]; n > len(extra) {
			return
		}
		if id == 1 {
			values := extra[:n]
			for _, f := range fields {
				if *f == math.MaxUint32 && len(values) >= 8 {
					*f, values = int64(little.Uint64(values)), values[8:]
				}
			}
		}
		extra = extra[n:]
	}
}

// check refuses an entry that is not read, or that would go where it should not.
func (e *Entry) check() error {
	bad := func(what string) error { return &Error{Entry: e.Name, What: what} }
	switch {
	case e.Name == "":
		return bad("it has no name")
	case !utf8.ValidString(e.Name) || strings.ContainsAny(e.Name, "\x00\\"):
		return bad("its name holds what is not for names")
	case strings.HasPrefix(e.Name, "/") || slices.Contains(strings.Split(e.Name, "/"), ".."):
		return bad("its name leads out of the archive")
	case e.flags&1 != 0:
		return bad("it is encrypted")
	case e.Method != Stored && e.Method != Deflated:
		return bad(fmt.Sprintf("it is packed by the method %d; only stored and deflated ones are read", e.Method))
	case e.Size < 0 || e.Compressed < 0 || e.header < 0:
		return bad("its sizes are beyond any archive")
	case e.Method == Stored && e.Size != e.Compressed:
		return bad("it is stored, and yet of two sizes")
	case e.Size > e.Compressed*1032+1024: // what deflate can do at most, RFC 1951
		return bad("it says it is larger than its bytes can be")
	}
	return nil
}

// local reads the entry's own header, which must say the same as the directory.
func (a *Archive) local(e *Entry) error {
	b, err := a.bytes(e.header, localLength)
	if err != nil {
		return err
	}
	if little.Uint32(b) != localMark {
		return &Error{Entry: e.Name, What: "it is not where the directory says"}
	}
	name, extra := int64(little.Uint16(b[26:])), int64(little.Uint16(b[28:]))
	e.Data = e.header + localLength + name + extra
	if e.Data > a.Directory || e.Compressed > a.Directory-e.Data {
		return &Error{Entry: e.Name, What: "it is longer than the archive"}
	}
	own, err := a.bytes(e.header+localLength, name)
	switch {
	case err != nil:
		return err
	case !bytes.Equal(own, []byte(e.Name)):
		return &Error{Entry: e.Name, What: fmt.Sprintf("its own header calls it %.200q", own)}
	case little.Uint16(b[8:]) != e.Method:
		return &Error{Entry: e.Name, What: "its own header says that it is packed in another way"}
	}
	e.End = e.Data + e.Compressed
	return nil
}

// Entries lists what there is, in the order in which it lies there.
func (a *Archive) Entries() []*Entry { return a.entries }

// Find gives the entry of a name; nil when there is none.
func (a *Archive) Find(name string) *Entry { return a.names[name] }

// EntriesEnd is where the last entry ends. What lies between it and the directory belongs to no entry.
func (a *Archive) EntriesEnd() int64 {
	if len(a.entries) == 0 {
		return 0
	}
	return a.entries[len(a.entries)-1].End
}
