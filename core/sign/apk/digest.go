package apk

import (
	"context"
	"crypto/sha256"
	"io"

	"gentlepiston.example/piston/core/sign"
)

// chunk is the size of the pieces that are summed by themselves.
const chunk = 1 << 20

// section is a part of a package that is cut into pieces by itself.
type section struct {
	r    io.ReaderAt
	size int64
}

// contentDigest is the digest of "APK Signature Scheme v2", section "Integrity-protected contents": of the digests of
// all pieces of all sections.
func contentDigest(ctx context.Context, sections []section) ([]byte, error) {
	type piece struct {
		section
		at    int64
		index int
	}
	var pieces []piece
	for _, s := range sections {
		for at := int64(0); at < s.size; at += chunk {
			pieces = append(pieces, piece{s, at, len(pieces)})
		}
	}
	sums := make([]byte, len(pieces)*sha256.Size)
	err := sign.Each(ctx, len(pieces), chunk, func(i int, buffer []byte) error {
		p := pieces[i]
		n := min(chunk, p.size-p.at)
		if _, err := p.r.ReadAt(buffer[:n], p.at); err != nil && err != io.EOF {
			return err
		}
		h := sha256.New()
		h.Write(append([]byte{0xa5}, number(uint32(n))...))
		h.Write(buffer[:n])
		h.Sum(sums[i*sha256.Size : i*sha256.Size : (i+1)*sha256.Size])
		return nil
	})
	h := sha256.New()
	h.Write(append([]byte{0x5a}, number(uint32(len(pieces)))...))
	h.Write(sums)
	return h.Sum(nil), err
}
