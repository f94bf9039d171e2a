package macho

import (
	"context"
	"io"

	"gentlepiston.example/piston/core/sign"
)

// About is what a signature says besides the pages of a program.
type About struct {
	Identifier   string         // of the bundle, or the file's name
	Team         string         // of the certificate; "" for none
	Info         []byte         // Info.plist; nil where there is none
	Resources    []byte         // the seal of what lies beside; nil where there is none
	Entitlements map[string]any // what it asks for; nil for libraries
}

// Sign writes a program again with signatures of all its slices. It gives the hash by which the kernel knows each.
func (p *Program) Sign(ctx context.Context, out io.Writer, s sign.Signer, about About) (hashes [][]byte, err error) {
	if err := s.Check(); err != nil {
		return nil, err
	}
	if about.Identifier == "" {
		return nil, wrong("it has no identifier")
	}
	parts, err := about.parts(s.Chain)
	if err != nil {
		return nil, err
	}
	all := make([]*laid, len(p.slices))
	for i, part := range p.slices {
		if all[i], err = part.lay(p.r, about, parts, s); err != nil {
			return nil, err
		}
	}
	w := &counting{w: out}
	if p.fat {
		if _, err := w.Write(fatHead(all)); err != nil {
			return nil, err
		}
	}
	for _, l := range all {
		signature, hash, err := l.signature(ctx, s)
		if err != nil {
			return nil, err
		}
		if err := w.pad(l.begins); err != nil {
			return nil, err
		}
		if _, err := io.Copy(w, io.NewSectionReader(l.content, 0, l.content.size)); err != nil {
			return nil, err
		}
		if _, err := w.Write(signature); err != nil {
			return nil, err
		}
		hashes = append(hashes, hash)
	}
	return hashes, nil
}

// fatHead says where each slice is, and puts it there.
func fatHead(all []*laid) []byte {
	head := big.AppendUint32(nil, magicFat)
	head = big.AppendUint32(head, uint32(len(all)))
	at := int64(8 + 20*len(all))
	for _, l := range all {
		at = up(at, 1<<l.align)
		l.begins = at
		length := l.content.size + l.reserved
		for _, n := range []uint32{l.cpu, l.sub, uint32(at), uint32(length), l.align} {
			head = big.AppendUint32(head, n)
		}
		at += length
	}
	return head
}

func up(n, unit int64) int64 { return (n + unit - 1) / unit * unit }

// counting knows how many bytes it has written.
type counting struct {
	w io.Writer
	n int64
}

func (c *counting) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.n += int64(n)
	return n, err
}

// pad writes zeros up to a place.
func (c *counting) pad(to int64) error {
	_, err := c.Write(make([]byte, max(to-c.n, 0)))
	return err
}

// laid is a slice as it is to be: what is signed, and how much room its signature has.
type laid struct {
	*slice
	about    About
	parts    []part
	content  *patched
	reserved int64
	begins   int64
}

// The sizes that room is made by.
const (
	signatureUnit = 16
	memoryPage    = 16 << 10
	command       = 16
	roomForCMS    = 8 << 10 // besides the certificates
)

// lay makes room for a signature and says so in the load commands, which are part of what is signed.
func (s *slice) lay(r io.ReaderAt, about About, parts []part, by sign.Signer) (*laid, error) {
	head := append([]byte{}, s.head...)
	at := s.sign
	if at < 0 {
		at = len(head)
		if int64(at+command) > s.room {
			return nil, wrong("there is no room for a load command before its first section: link it with -headerpad 0x20")
		}
		head = append(head, make([]byte, command)...)
		little.PutUint32(head[16:], little.Uint32(head[16:])+1)
		little.PutUint32(head[20:], little.Uint32(head[20:])+command)
	}
	code := up(s.code, signatureUnit)
	l := &laid{slice: s, about: about, parts: parts}
	l.reserved = l.needed(code, by)
	little.PutUint32(head[at:], commandSignature)
	little.PutUint32(head[at+4:], command)
	little.PutUint32(head[at+8:], uint32(code))
	little.PutUint32(head[at+12:], uint32(l.reserved))
	length := code + l.reserved - s.edit.at
	if s.wide {
		little.PutUint64(head[s.linkedit+32:], uint64(up(length, memoryPage)))
		little.PutUint64(head[s.linkedit+48:], uint64(length))
	} else {
		little.PutUint32(head[s.linkedit+28:], uint32(up(length, memoryPage)))
		little.PutUint32(head[s.linkedit+36:], uint32(length))
	}
	l.content = &patched{r: io.NewSectionReader(r, s.at, s.code), head: head, size: code}
	return l, nil
}

// patched is a slice with other load commands, and zeros at its end.
type patched struct {
	r    io.ReaderAt
	head []byte
	size int64
}

// ReadAt implements io.ReaderAt.
func (p *patched) ReadAt(b []byte, at int64) (int, error) {
	if at >= p.size {
		return 0, io.EOF
	}
	var short error
	if int64(len(b)) > p.size-at {
		b, short = b[:p.size-at], io.EOF
	}
	n, err := p.r.ReadAt(b, at)
	if err != nil && err != io.EOF {
		return 0, err
	}
	clear(b[n:])
	if at < int64(len(p.head)) {
		copy(b, p.head[at:])
	}
	return len(b), short
}
