// Package chunk cuts what files hold into pieces by their content, so that two files that are alike have most
// pieces in common wherever something was put in or taken out, and names each piece by what it holds.
//
// Cutting is FastCDC with normalised lengths (Xia et al., "FastCDC: a Fast and Efficient Content-Defined Chunking
// Approach for Data Deduplication", USENIX ATC 2016); names are BLAKE3 with 256 bits.
package chunk

import (
	"encoding/hex"

	"github.com/zeebo/blake3"
)

// Lengths of pieces, in bytes. A file up to Whole is one piece: trees of builds are of small files, and one that
// has changed is stored anew and nothing beside it. No piece but a file's last is shorter than Least, none longer
// than Most.
const (
	Whole  = 64 << 10
	Least  = 16 << 10
	Normal = 64 << 10
	Most   = 256 << 10
)

// ID names a piece by its content.
type ID [32]byte

// Sum is the name of a piece.
func Sum(p []byte) ID { return blake3.Sum256(p) }

// String is the whole name, in hexadecimal.
func (id ID) String() string { return hex.EncodeToString(id[:]) }

// Short is enough of a name for a person to tell two apart.
func (id ID) Short() string { return hex.EncodeToString(id[:6]) }

// Before Normal a cut is a quarter as likely as one in Normal bytes would need, after it four times (section 3.3 of
// the paper): lengths gather around Normal. Both look at the upper bits, which the most bytes have had a part in.
const (
	fewer = uint64(1<<18-1) << 46
	more  = uint64(1<<14-1) << 50
)

// Next tells how many bytes of p, from its beginning, are one piece. p holds all that is left of a file, or at least
// Most bytes of it.
func Next(p []byte) int {
	if len(p) <= Least {
		return len(p)
	}
	p = p[:min(len(p), Most)]
	hash := uint64(0)
	i := Least
	for normal := min(len(p), Normal); i < normal; i++ {
		if hash = hash<<1 + gear[p[i]]; hash&fewer == 0 {
			return i + 1
		}
	}
	for ; i < len(p); i++ {
		if hash = hash<<1 + gear[p[i]]; hash&more == 0 {
			return i + 1
		}
	}
	return len(p)
}

// gear are the numbers that bytes stand for in the rolling sum. Any that look random will do; they may never
// change, or nothing that is kept would be found again.
var gear = func() (table [256]uint64) {
	seed := uint64(0x7069_7374_6f6e)
	for i := range table { // SplitMix64 (Steele et al., OOPSLA 2014)
		seed += 0x9e37_79b9_7f4a_7c15
		z := seed
		z = (z ^ z>>30) * 0xbf58_476d_1ce4_e5b9
		z = (z ^ z>>27) * 0x94d0_49bb_1331_11eb
		table[i] = z ^ z>>31
	}
	return table
}()
