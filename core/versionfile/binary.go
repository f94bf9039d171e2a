package versionfile

import (
	"encoding/binary"
	"fmt"
	"slices"
)

// bplist is a binary property list (CoreFoundation, CFBinaryPList.c): a header, objects, a table of where each begins,
// and a trailer that tells how wide the table's entries are, how many, which is the root, and where the table is.
type bplist struct {
	raw         []byte
	offsetSize  int
	refSize     int
	count, root int
	table       int
}

const trailerSize = 32

func openBinary(raw []byte) (*bplist, error) {
	if len(raw) < 8+trailerSize {
		return nil, fmt.Errorf("it is cut off")
	}
	tr := raw[len(raw)-trailerSize:]
	b := &bplist{raw: raw, offsetSize: int(tr[6]), refSize: int(tr[7])}
	most := uint64(len(raw))
	word := func(at int) uint64 { return binary.BigEndian.Uint64(tr[at:]) }
	count, root, table := word(8), word(16), word(24)
	if count > most || root >= count || table > most || b.offsetSize < 1 || b.offsetSize > 8 || b.refSize < 1 ||
		b.refSize > 8 || table+count*uint64(b.offsetSize) > most-trailerSize {
		return nil, fmt.Errorf("its trailer is damaged")
	}
	b.count, b.root, b.table = int(count), int(root), int(table)
	return b, nil
}

func number(raw []byte) (n uint64) {
	for _, c := range raw {
		n = n<<8 | uint64(c)
	}
	return n
}

// offset is where an object begins; 0 when it cannot be.
func (b *bplist) offset(object uint64) int {
	if object >= uint64(b.count) {
		return 0
	}
	at := b.table + int(object)*b.offsetSize
	if o := number(b.raw[at : at+b.offsetSize]); o < uint64(b.table) {
		return int(o)
	}
	return 0
}

// object gives an object's kind (the high half of its first byte), how many items it has, and where they begin.
func (b *bplist) object(o uint64) (kind byte, n, at int) {
	at = b.offset(o)
	if at < 8 || at >= b.table {
		return 0, 0, 0
	}
	kind, n = b.raw[at]>>4, int(b.raw[at]&15)
	at++
	if n == 15 && kind != 0 {
		if at >= b.table || b.raw[at]>>4 != 1 {
			return 0, 0, 0
		}
		size := 1 << (b.raw[at] & 15)
		if size > 8 || at+1+size > b.table {
			return 0, 0, 0
		}
		long := number(b.raw[at+1 : at+1+size])
		if long > uint64(len(b.raw)) {
			return 0, 0, 0
		}
		n, at = int(long), at+1+size
	}
	return kind, n, at
}

// maxText is longer than any key or value that matters.
const maxText = 200

// text reads an ASCII text; ok is false for another object.
func (b *bplist) text(o uint64) (s string, start int, ok bool) {
	kind, n, at := b.object(o)
	if kind != 5 || n > maxText || at+n > b.table {
		return "", 0, false
	}
	return string(b.raw[at : at+n]), at, true
}

// entries visits those of the root dictionary, and how many refer to each value.
func (b *bplist) entries(visit func(key string, value uint64)) error {
	kind, n, at := b.object(uint64(b.root))
	if kind != 13 || at+2*n*b.refSize > b.table {
		return fmt.Errorf("it holds no dictionary")
	}
	for i := range n {
		key, _, ok := b.text(number(b.raw[at+i*b.refSize : at+(i+1)*b.refSize]))
		if ok {
			v := at + (n+i)*b.refSize
			visit(key, number(b.raw[v:v+b.refSize]))
		}
	}
	return nil
}

// binaryPlist reads a binary Info.plist.
func (f *finder) binaryPlist(t *text) {
	b, err := openBinary(t.raw)
	values := map[uint64]int{}
	if err == nil {
		err = b.entries(func(_ string, v uint64) { values[v]++ })
	}
	if err != nil {
		f.problem(Problem{File: t.file, Message: "it is a binary property list, and " + err.Error()})
		return
	}
	_ = b.entries(func(key string, v uint64) {
		kind := plistKeys[key]
		value, start, ok := b.text(v)
		if kind == "" || !ok {
			return
		}
		p := Place{File: t.file, Line: 1, Col: 1, Kind: kind, Platform: IOS, Format: "Info.plist, binary", key: key,
			Value: value, start: start, end: start + len(value)}
		switch name, is := buildSetting(value); {
		case is:
			p.ref, p.Computed = "setting "+name, "it stands for what is put in: "+cut(value, 60)
		case values[v] > 1:
			p.Computed = "it shares its bytes with another key; make the file XML, by plutil -convert xml1"
		}
		f.out.Places = append(f.out.Places, p)
	})
}

// editBinary puts other texts in the places of some: the objects behind them and the table move.
func editBinary(raw []byte, changes []Change) ([]byte, error) {
	b, err := openBinary(raw)
	if err != nil {
		return nil, err
	}
	offsets := make([]int, b.count)
	for i := range offsets {
		offsets[i] = b.offset(uint64(i))
	}
	out := slices.Clone(raw[:b.table])
	slices.SortFunc(changes, func(x, y Change) int { return y.Place.start - x.Place.start })
	for _, c := range changes {
		head := c.Place.start - 1
		for !slices.Contains(offsets, head) { // a long text has its length in bytes of its own
			if head--; head < c.Place.start-4 {
				return nil, fmt.Errorf("the value of %s is not where it was", c.Place.key)
			}
		}
		piece := textObject(c.Value)
		old := c.Place.end - head
		out = slices.Concat(out[:head], piece, out[c.Place.end:])
		for i := range offsets {
			if offsets[i] > head {
				offsets[i] += len(piece) - old
			}
		}
	}
	return b.assemble(out, offsets)
}

// textObject writes an ASCII text as an object.
func textObject(s string) []byte {
	if len(s) < 15 {
		return append([]byte{0x50 | byte(len(s))}, s...)
	}
	return append([]byte{0x5F, 0x10, byte(len(s))}, s...)
}

// assemble writes the table and the trailer behind objects.
func (b *bplist) assemble(objects []byte, offsets []int) ([]byte, error) {
	out, table := objects, len(objects)
	for _, o := range offsets {
		if uint64(o)>>(8*b.offsetSize) != 0 {
			return nil, fmt.Errorf("it has no room for a longer value; make it XML, by plutil -convert xml1")
		}
		for i := b.offsetSize - 1; i >= 0; i-- {
			out = append(out, byte(o>>(8*i)))
		}
	}
	tr := slices.Clone(b.raw[len(b.raw)-trailerSize:])
	binary.BigEndian.PutUint64(tr[24:], uint64(table))
	out = append(out, tr...)
	return out, nil
}
