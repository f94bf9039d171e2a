package archive

import (
	"compress/flate"
	"fmt"
	"hash/crc32"
	"io"
	"math"
)

// Writer writes an archive: entries, whatever is put after them, and the directory. The same calls give the same
// bytes.
type Writer struct {
	// Plain leaves permissions away: packages of Android have none, and who reads them warns of what is not signed.
	Plain bool
	// Timeless leaves the times of entries that are copied away: those say when a build ran, not what it made.
	Timeless bool

	w       io.Writer
	at      int64
	entries []*Entry
	names   map[string]bool
}

// NewWriter writes to a writer.
func NewWriter(w io.Writer) *Writer { return &Writer{w: w, names: map[string]bool{}} }

// At is how many bytes are written.
func (w *Writer) At() int64 { return w.at }

func (w *Writer) write(b []byte) error {
	n, err := w.w.Write(b)
	w.at += int64(n)
	return err
}

// Copy takes an entry over as it is, but for where it lies: a stored one begins at a multiple of align.
func (w *Writer) Copy(a *Archive, e *Entry, align int64) error {
	made := *e
	made.flags &^= sizesLater // both are known here
	if err := w.begin(&made, align); err != nil {
		return err
	}
	n, err := io.Copy(w.w, a.Raw(e))
	w.at += n
	return err
}

// Unpack takes an entry over, stored, so that it can be mapped; it begins at a multiple of align.
func (w *Writer) Unpack(a *Archive, e *Entry, align int64) error {
	made := *e
	made.flags &^= sizesLater
	made.Method, made.Compressed = Stored, e.Size
	if err := w.begin(&made, align); err != nil {
		return err
	}
	content := a.Content(e)
	defer content.Close()
	n, err := io.Copy(w.w, content)
	w.at += n
	return err
}

const (
	sizesLater = 1 << 3  // APPNOTE 4.4.4
	utf8Names  = 1 << 11 // of the same
)

// epoch is the first day that MS-DOS knows: what is made here has no time of its own.
const epoch = 1<<21 | 1<<16

// Add writes a new entry with a content, packed when that makes it smaller. Its permissions are those of Unix.
func (w *Writer) Add(name string, content []byte, mode uint32) error {
	e := &Entry{Name: name, Size: int64(len(content)), CRC: crc32.ChecksumIEEE(content), stamp: epoch,
		creator: unix<<8 | 20, external: mode << 16}
	packed := content
	if len(content) > 0 {
		p := &buffer{}
		f, err := flate.NewWriter(p, flate.BestCompression)
		if err != nil {
			return err
		}
		if _, err = f.Write(content); err == nil {
			err = f.Close()
		}
		if err != nil {
			return err
		}
		if len(p.b) < len(content) {
			e.Method, packed = Deflated, p.b
		}
	}
	e.Compressed = int64(len(packed))
	if err := w.begin(e, 1); err != nil {
		return err
	}
	return w.write(packed)
}

type buffer struct{ b []byte }

func (b *buffer) Write(p []byte) (int, error) {
	b.b = append(b.b, p...)
	return len(p), nil
}

// AddFile writes a new entry that is read twice: for its sum, and for its bytes. It is packed when pack says so.
func (w *Writer) AddFile(name string, content io.ReadSeeker, mode uint32, pack bool) error {
	e := &Entry{Name: name, stamp: epoch, creator: unix<<8 | 20, external: mode << 16}
	sum, packed := crc32.NewIEEE(), &counter{}
	to := io.Writer(packed)
	var f *flate.Writer
	if pack {
		f, _ = flate.NewWriter(packed, flate.DefaultCompression)
		to, e.Method = f, Deflated
	}
	var err error
	if e.Size, err = io.Copy(io.MultiWriter(sum, to), content); err == nil && f != nil {
		err = f.Close()
	}
	if err != nil {
		return err
	}
	if _, err := content.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if e.CRC, e.Compressed = sum.Sum32(), packed.n; e.Compressed > e.Size {
		e.Method, e.Compressed, f = Stored, e.Size, nil
	}
	if err := w.begin(e, 1); err != nil {
		return err
	}
	before := w.at
	out := &through{w}
	if to = out; f != nil {
		f.Reset(out)
		to = f
	}
	if _, err = io.Copy(to, content); err == nil && f != nil {
		err = f.Close()
	}
	if err == nil && w.at-before != e.Compressed {
		err = fmt.Errorf("%s changed while it was packed", name)
	}
	return err
}

type counter struct{ n int64 }

func (c *counter) Write(p []byte) (int, error) {
	c.n += int64(len(p))
	return len(p), nil
}

type through struct{ w *Writer }

func (t *through) Write(p []byte) (int, error) { return len(p), t.w.write(p) }

// alignmentField is the extra field by which Android's tools pad (its id, two bytes of alignment, zeros).
const alignmentField = 0xd935

// begin writes an entry's own header.
func (w *Writer) begin(e *Entry, align int64) error {
	if w.Plain {
		e.creator, e.external = 0, 0
	}
	if w.Timeless {
		e.stamp = epoch
	}
	if w.names[e.Name] {
		return &Error{Entry: e.Name, What: "there would be two of that name"}
	}
	if len(w.entries) == MaxEntries || len(e.Name) > math.MaxUint16 {
		return &Error{Entry: e.Name, What: "the archive is full"}
	}
	if !ascii(e.Name) {
		e.flags |= utf8Names
	}
	w.names[e.Name] = true
	w.entries = append(w.entries, e)
	e.header = w.at
	var extra []byte
	if e.Size >= math.MaxUint32 || e.Compressed >= math.MaxUint32 {
		extra = little.AppendUint16(extra, 1)
		extra = little.AppendUint16(extra, 16)
		extra = little.AppendUint64(extra, uint64(e.Size))
		extra = little.AppendUint64(extra, uint64(e.Compressed))
	}
	data := w.at + localLength + int64(len(e.Name)+len(extra))
	if e.Method == Stored && align > 1 && data%align != 0 {
		pad := (align - (data+6)%align) % align
		extra = little.AppendUint16(extra, alignmentField)
		extra = little.AppendUint16(extra, uint16(2+pad))
		extra = little.AppendUint16(extra, uint16(align))
		extra = append(extra, make([]byte, pad)...)
	}
	b := little.AppendUint32(nil, localMark)
	b = little.AppendUint16(b, needs(e, false))
	b = e.common(b)
	b = little.AppendUint16(b, uint16(len(e.Name)))
	b = little.AppendUint16(b, uint16(len(extra)))
	b = append(append(b, e.Name...), extra...)
	if err := w.write(b); err != nil {
		return err
	}
	e.Data, e.End = w.at, w.at+e.Compressed
	return nil
}

func ascii(s string) bool {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}

// needs is the version of the format that a reader must know (APPNOTE 4.4.3).
func needs(e *Entry, far bool) uint16 {
	if e.Size >= math.MaxUint32 || e.Compressed >= math.MaxUint32 || far {
		return 45
	}
	return 20
}

// common appends what both headers of an entry say.
func (e *Entry) common(b []byte) []byte {
	b = little.AppendUint16(b, e.flags)
	b = little.AppendUint16(b, e.Method)
	b = little.AppendUint32(b, e.stamp)
	b = little.AppendUint32(b, e.CRC)
	b = little.AppendUint32(b, short(e.Compressed, e))
	return little.AppendUint32(b, short(e.Size, e))
}

// short is a size in the 32 bits it has, or the sign that it stands elsewhere.
func short(n int64, e *Entry) uint32 {
	if e.Size >= math.MaxUint32 || e.Compressed >= math.MaxUint32 {
		return math.MaxUint32
	}
	return uint32(n)
}

// Directory gives the central directory and the end record, for a directory that begins at a place.
func (w *Writer) Directory(at int64) (directory, end []byte) {
	for _, e := range w.entries {
		directory = e.central(directory)
	}
	count, length := len(w.entries), int64(len(directory))
	if count >= math.MaxUint16 || at >= math.MaxUint32 || length >= math.MaxUint32 {
		b := little.AppendUint32(nil, end64Mark)
		b = little.AppendUint64(b, end64Length-12)
		b = little.AppendUint16(b, 45)
		b = little.AppendUint16(b, 45)
		b = little.AppendUint64(b, 0) // both disks
		b = little.AppendUint64(b, uint64(count))
		b = little.AppendUint64(b, uint64(count))
		b = little.AppendUint64(b, uint64(length))
		b = little.AppendUint64(b, uint64(at))
		b = little.AppendUint32(b, locatorMark)
		b = little.AppendUint32(b, 0)
		b = little.AppendUint64(b, uint64(at+length))
		b = little.AppendUint32(b, 1)
		directory = append(directory, b...)
	}
	end = little.AppendUint32(nil, endMark)
	end = little.AppendUint32(end, 0)
	end = little.AppendUint16(end, uint16(min(count, math.MaxUint16)))
	end = little.AppendUint16(end, uint16(min(count, math.MaxUint16)))
	end = little.AppendUint32(end, uint32(min(length, math.MaxUint32)))
	end = little.AppendUint32(end, uint32(min(at, math.MaxUint32)))
	return directory, little.AppendUint16(end, 0)
}

// central appends an entry of the central directory.
func (e *Entry) central(b []byte) []byte {
	far := e.header >= math.MaxUint32
	var large []byte
	if e.Size >= math.MaxUint32 || e.Compressed >= math.MaxUint32 {
		large = little.AppendUint64(little.AppendUint64(large, uint64(e.Size)), uint64(e.Compressed))
	}
	if far {
		large = little.AppendUint64(large, uint64(e.header))
	}
	var extra []byte
	if large != nil {
		extra = little.AppendUint16(extra, 1)
		extra = append(little.AppendUint16(extra, uint16(len(large))), large...)
	}
	b = little.AppendUint32(b, centralMark)
	b = little.AppendUint16(b, e.creator)
	b = little.AppendUint16(b, needs(e, far))
	b = e.common(b)
	b = little.AppendUint16(b, uint16(len(e.Name)))
	b = little.AppendUint16(b, uint16(len(extra)))
	b = little.AppendUint32(b, 0) // no comment; the first disk
	b = little.AppendUint16(b, 0)
	b = little.AppendUint32(b, e.external)
	b = little.AppendUint32(b, uint32(min(e.header, math.MaxUint32)))
	return append(append(b, e.Name...), extra...)
}

// Close writes the directory right after the entries.
func (w *Writer) Close() error {
	directory, end := w.Directory(w.at)
	if err := w.write(directory); err != nil {
		return err
	}
	return w.write(end)
}
