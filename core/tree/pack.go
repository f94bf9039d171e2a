package tree

import (
	"bytes"
	"encoding/binary"
	"fmt"

	"github.com/klauspost/compress/zstd"

	"gentlepiston.example/piston/core/chunk"
)

// Pieces are stored together in packs: blocks of some neighbouring pieces, each a Zstandard frame (RFC 8878), then the
// list of the blocks and their pieces, itself such a frame, its length (four bytes, big-endian) and a word. A pack says
// by itself what is in it.

const packWord = "piston pack 1\n"

// BlockSize is from how many bytes on a block is full. Larger ones are smaller when packed, and more is read for one
// piece of them.
const BlockSize = 256 << 10

// Bounds of what is read, in bytes.
const (
	MaxBlock = BlockSize + chunk.Most
	MaxPack  = 64 << 20
)

// Packed is a block of a pack and the pieces in it.
type Packed struct {
	Block
	Pieces []PackedPiece
}

// PackedPiece is a piece of a block; it begins where the one before it ends.
type PackedPiece struct {
	ID  chunk.ID
	Len uint32
}

// Packer makes one pack at a time.
type Packer struct {
	out    []byte
	block  []byte
	pieces []PackedPiece
	blocks []Packed
}

// Add puts a piece into the pack.
func (p *Packer) Add(id chunk.ID, piece []byte) {
	p.block = append(p.block, piece...)
	p.pieces = append(p.pieces, PackedPiece{id, uint32(len(piece))})
	if len(p.block) >= BlockSize {
		p.endBlock()
	}
}

func (p *Packer) endBlock() {
	if len(p.pieces) == 0 {
		return
	}
	start := len(p.out)
	p.out = packer().EncodeAll(p.block, p.out)
	p.blocks = append(p.blocks, Packed{Block{uint32(start), uint32(len(p.out) - start), uint32(len(p.block))}, p.pieces})
	p.block, p.pieces = p.block[:0], nil
}

// End gives the whole pack, and what is in it; nothing when nothing was added. The pack is good until the next piece is
// added, to a new one.
func (p *Packer) End() ([]byte, []Packed) {
	p.endBlock()
	if len(p.blocks) == 0 {
		return nil, nil
	}
	defer func() { p.out, p.blocks = p.out[:0], nil }()
	var list bytes.Buffer
	w := &writer{Buffer: &list}
	w.uint(uint64(len(p.blocks)))
	for _, b := range p.blocks {
		w.uint(uint64(b.Packed))
		w.uint(uint64(len(b.Pieces)))
		for _, piece := range b.Pieces {
			w.uint(uint64(piece.Len))
			w.Write(piece.ID[:])
		}
	}
	n := len(p.out)
	p.out = packer().EncodeAll(list.Bytes(), p.out)
	p.out = binary.BigEndian.AppendUint32(p.out, uint32(len(p.out)-n))
	return append(p.out, packWord...), p.blocks
}

// TailLen is how many of a pack's last bytes tell how long its list is.
const TailLen = 4 + len(packWord)

// ListLen reads how many bytes before a pack's tail are its list.
func ListLen(tail []byte) (int64, error) {
	if len(tail) != TailLen || string(tail[4:]) != packWord {
		return 0, fmt.Errorf("%w: a pack's end", ErrDamaged)
	}
	return int64(binary.BigEndian.Uint32(tail)), nil
}

// Listed reads a pack's list; room is how many bytes its blocks have in all.
func Listed(list []byte, room int64) (blocks []Packed, err error) {
	text, err := unpack(list)
	if err != nil {
		return nil, err
	}
	r := &reader{rest: text}
	blocks = make([]Packed, r.count(2))
	start := uint64(0)
	for i := range blocks {
		packed := r.uint()
		pieces := make([]PackedPiece, r.count(33))
		raw := uint64(0)
		for k := range pieces {
			n := r.uint()
			copy(pieces[k].ID[:], r.bytes(uint64(len(pieces[k].ID))))
			if n == 0 || n > chunk.Most {
				r.bad = true
			}
			pieces[k].Len, raw = uint32(n), raw+n
		}
		if r.bad || packed > MaxBlock || raw > MaxBlock || start+packed > uint64(room) {
			return nil, fmt.Errorf("%w: a pack's list", ErrDamaged)
		}
		blocks[i] = Packed{Block{uint32(start), uint32(packed), uint32(raw)}, pieces}
		start += packed
	}
	if r.bad || len(r.rest) > 0 || start != uint64(room) {
		return nil, fmt.Errorf("%w: a pack's list", ErrDamaged)
	}
	return blocks, nil
}

// Unpacker unpacks blocks. One is of use to one goroutine at a time; close it.
type Unpacker struct{ d *zstd.Decoder }

// NewUnpacker makes one.
func NewUnpacker() (*Unpacker, error) {
	d, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(MaxBlock), zstd.WithDecoderConcurrency(1),
		zstd.WithDecoderLowmem(true))
	return &Unpacker{d}, err
}

// Close lets go of what it needs.
func (u *Unpacker) Close() { u.d.Close() }

// Block unpacks one into room, which it may enlarge. Whether the pieces are right their names tell.
func (u *Unpacker) Block(packed, room []byte) ([]byte, error) {
	out, err := u.d.DecodeAll(packed, room[:0])
	if err != nil {
		return out, fmt.Errorf("%w: a block: %w", ErrDamaged, err)
	}
	return out, nil
}
