package tree

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"sync"

	"github.com/klauspost/compress/zstd"

	"gentlepiston.example/piston/core/chunk"
)

// The written form: a word, the length of the first part, then two parts, each a Zstandard frame (RFC 8878). The
// first is the content, the second where the pieces are. Numbers are as protocol buffers have them (base 128,
// signed ones in zigzag). Of a path stands how many bytes it shares with the one before, and the rest.

// ErrDamaged says that a written tree is not what one looks like.
var ErrDamaged = errors.New("the list of a saved folder is damaged")

const (
	word = "piston tree 1\n"
	// MaxWritten bounds the written form, in bytes; maxPart either part unpacked.
	MaxWritten = 128 << 20
	maxPart    = 256 << 20
)

// What a tree may have, so that to read one takes no more memory than a server has.
const (
	MaxEntries = 2 << 20
	MaxPieces  = 4 << 20
)

var packer = sync.OnceValue(func() *zstd.Encoder {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err != nil {
		panic(err) // the options are right
	}
	return e
})

// Encode writes a tree, and gives its digest, too.
func (t *Tree) Encode() ([]byte, chunk.ID) {
	var content, places bytes.Buffer
	t.writeContent(&content)
	t.writePlaces(&places)
	first := packer().EncodeAll(content.Bytes(), nil)
	out := append([]byte(word), binary.AppendUvarint(nil, uint64(len(first)))...)
	return packer().EncodeAll(places.Bytes(), append(out, first...)), chunk.Sum(content.Bytes())
}

// Decode reads what Encode wrote, checks it, and gives the digest of its content. Its errors are ErrDamaged.
func Decode(written []byte) (*Tree, chunk.ID, error) {
	rest, ok := bytes.CutPrefix(written, []byte(word))
	n, used := binary.Uvarint(rest)
	if !ok || used <= 0 || len(written) > MaxWritten || n > uint64(len(rest)-used) {
		return nil, chunk.ID{}, fmt.Errorf("%w: its beginning", ErrDamaged)
	}
	rest = rest[used:]
	content, err := unpack(rest[:n])
	if err != nil {
		return nil, chunk.ID{}, err
	}
	places, err := unpack(rest[n:])
	if err != nil {
		return nil, chunk.ID{}, err
	}
	t, r := &Tree{}, &reader{rest: content}
	t.readContent(r)
	if r.bad || len(r.rest) > 0 {
		return nil, chunk.ID{}, fmt.Errorf("%w: its content", ErrDamaged)
	}
	if err := t.check(); err != nil {
		return nil, chunk.ID{}, err
	}
	r = &reader{rest: places}
	t.readPlaces(r)
	if r.bad || len(r.rest) > 0 {
		return nil, chunk.ID{}, fmt.Errorf("%w: where its pieces are", ErrDamaged)
	}
	return t, chunk.Sum(content), nil
}

func unpack(part []byte) ([]byte, error) {
	d, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(maxPart), zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	out, err := d.DecodeAll(part, nil)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return out, nil
}

type writer struct {
	*bytes.Buffer
	number [binary.MaxVarintLen64]byte
}

func (w *writer) uint(n uint64) { w.Write(w.number[:binary.PutUvarint(w.number[:], n)]) }
func (w *writer) int(n int64)   { w.Write(w.number[:binary.PutVarint(w.number[:], n)]) }

func (w *writer) text(s string) {
	w.uint(uint64(len(s)))
	w.WriteString(s)
}

func shared(a, b string) int {
	n := 0
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return n
}

func (t *Tree) writeContent(to *bytes.Buffer) {
	w := &writer{Buffer: to}
	w.uint(uint64(len(t.Roots)))
	for _, root := range t.Roots {
		w.text(root)
	}
	w.uint(uint64(len(t.Entries)))
	path, time := "", int64(0)
	for i := range t.Entries {
		e := &t.Entries[i]
		same := shared(path, e.Path)
		w.uint(uint64(same))
		w.text(e.Path[same:])
		w.WriteByte(byte(e.Kind))
		switch e.Kind {
		case Link, Twin:
			w.text(e.Target)
		default:
			w.uint(uint64(e.Mode.Perm()))
			w.int(e.Time - time)
			time = e.Time
		}
		if e.Kind == File {
			w.uint(uint64(len(e.Pieces)))
			for _, p := range e.Pieces {
				hole := uint64(0)
				if p.Hole {
					hole = 1
				}
				w.uint(uint64(p.Len)<<1 | hole)
				if !p.Hole {
					w.Write(p.ID[:])
				}
			}
		}
		path = e.Path
	}
}

// writePlaces writes a table of the blocks, and for each piece which one it is in and where.
func (t *Tree) writePlaces(to *bytes.Buffer) {
	type key struct {
		pack  PackID
		block Block
	}
	var table, pieces bytes.Buffer
	w, v := &writer{Buffer: &table}, &writer{Buffer: &pieces}
	numbers, last := map[key]uint64{}, key{}
	block, next := uint64(0), uint32(0)
	for i := range t.Entries {
		for _, p := range t.Entries[i].Pieces {
			if p.Hole {
				continue
			}
			k := key{p.At.Pack, p.At.Block}
			n, known := numbers[k]
			if !known {
				n = uint64(len(numbers))
				numbers[k] = n
				w.int(int64(k.pack - last.pack))
				w.uint(uint64(k.block.Start))
				w.uint(uint64(k.block.Packed))
				w.uint(uint64(k.block.Raw))
				last = k
			}
			if n != block {
				next = 0
			}
			v.int(int64(n) - int64(block))
			v.int(int64(p.At.From) - int64(next))
			block, next = n, p.At.From+uint32(p.Len)
		}
	}
	all := &writer{Buffer: to}
	all.uint(uint64(len(numbers)))
	to.Write(table.Bytes())
	to.Write(pieces.Bytes())
}

// reader reads numbers and texts; bad is set once something is not there.
type reader struct {
	rest []byte
	bad  bool
}

func (r *reader) uint() uint64 {
	n, used := binary.Uvarint(r.rest)
	return n * r.take(used)
}

func (r *reader) int() int64 {
	n, used := binary.Varint(r.rest)
	return n * int64(r.take(used))
}

// take passes over what a number needed; 0 when there was none.
func (r *reader) take(used int) uint64 {
	if used <= 0 {
		r.bad, r.rest = true, nil
		return 0
	}
	r.rest = r.rest[used:]
	return 1
}

func (r *reader) bytes(n uint64) []byte {
	if n > uint64(len(r.rest)) {
		r.bad, r.rest = true, nil
		return nil
	}
	p := r.rest[:n]
	r.rest = r.rest[n:]
	return p
}

func (r *reader) text() string { return string(r.bytes(r.uint())) }

// count reads how many there are of something that takes at least so many bytes each.
func (r *reader) count(each int) int {
	n := r.uint()
	if n > uint64(len(r.rest)/each) {
		r.bad, r.rest = true, nil
		return 0
	}
	return int(n)
}

func (r *reader) byte() byte {
	if p := r.bytes(1); p != nil {
		return p[0]
	}
	return 0
}

const maxLen = 1 << 50 // of a piece, or of a hole

func (t *Tree) readContent(r *reader) {
	for range r.count(1) {
		t.Roots = append(t.Roots, r.text())
	}
	entries, pieces := r.count(4), 0
	if entries > MaxEntries {
		r.bad = true
		return
	}
	t.Entries = make([]Entry, 0, entries)
	path, time := "", int64(0)
	for range entries {
		same := r.uint()
		if same > uint64(len(path)) {
			r.bad = true
		}
		if r.bad {
			return
		}
		e := Entry{Path: path[:same] + r.text(), Kind: Kind(r.byte())}
		switch e.Kind {
		case Link, Twin:
			e.Target = r.text()
		default:
			mode := r.uint()
			if mode > uint64(fs.ModePerm) {
				r.bad = true
			}
			time += r.int()
			e.Mode, e.Time = fs.FileMode(mode), time
		}
		if e.Kind == File {
			n := r.count(1)
			if pieces += n; pieces > MaxPieces {
				r.bad = true
				return
			}
			if n > 0 {
				e.Pieces = make([]Piece, n)
			}
			for i := range e.Pieces {
				n := r.uint()
				p := &e.Pieces[i]
				p.Len, p.Hole = int64(n>>1), n&1 == 1
				if !p.Hole {
					copy(p.ID[:], r.bytes(uint64(len(p.ID))))
				}
				if n>>1 == 0 || n>>1 > maxLen || !p.Hole && p.Len > chunk.Most {
					r.bad = true
				}
			}
		}
		path = e.Path
		t.Entries = append(t.Entries, e)
	}
}

func (t *Tree) readPlaces(r *reader) {
	table := make([]Place, r.count(4))
	pack := PackID(0)
	for i := range table {
		pack += PackID(r.int())
		start, packed, raw := r.uint(), r.uint(), r.uint()
		if packed > MaxBlock || raw > MaxBlock || start > MaxPack {
			r.bad = true
		}
		table[i] = Place{Pack: pack, Block: Block{uint32(start), uint32(packed), uint32(raw)}}
	}
	block, next := int64(0), int64(0)
	for i := range t.Entries {
		for k := range t.Entries[i].Pieces {
			p := &t.Entries[i].Pieces[k]
			if p.Hole {
				continue
			}
			step := r.int()
			if step != 0 {
				next = 0
			}
			block += step
			from := next + r.int()
			if r.bad || block < 0 || block >= int64(len(table)) || from < 0 || from+p.Len > int64(table[block].Block.Raw) {
				r.bad = true
				return
			}
			p.At = table[block]
			p.At.From, next = uint32(from), from+p.Len
		}
	}
}

// Places are told in the order in which pieces were asked for, each as its pack, 0 for none, and what follows of a
// place that is one.

// AppendPlaces writes places.
func AppendPlaces(to []byte, places []Place) []byte {
	for _, p := range places {
		if to = binary.AppendUvarint(to, uint64(p.Pack)); p.Pack == 0 {
			continue
		}
		for _, n := range []uint32{p.Block.Start, p.Block.Packed, p.Block.Raw, p.From} {
			to = binary.AppendUvarint(to, uint64(n))
		}
	}
	return to
}

// ReadPlaces reads what AppendPlaces wrote.
func ReadPlaces(text []byte) ([]Place, error) {
	r := &reader{rest: text}
	var list []Place
	for len(r.rest) > 0 {
		p := Place{Pack: PackID(r.uint())}
		if p.Pack != 0 {
			p.Block = Block{uint32(r.uint()), uint32(r.uint()), uint32(r.uint())}
			p.From = uint32(r.uint())
		}
		list = append(list, p)
	}
	if r.bad {
		return nil, fmt.Errorf("%w: places", ErrDamaged)
	}
	return list, nil
}
