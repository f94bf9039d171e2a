package apk

import (
	"context"
	"crypto/sha256"
	"crypto/x509"
	"io"

	"gentlepiston.example/piston/core/sign"
)

// tree is the hash tree over a file (Linux, Documentation/filesystems/fsverity.rst, "Merkle tree"): SHA-256 of pages,
// of pages of those, up to one page; the highest level comes first.
func tree(ctx context.Context, r io.ReaderAt, size int64) (levels, root []byte, err error) {
	pages := int((size + pageSize - 1) / pageSize)
	const many = 256 // pages at a time
	level := make([]byte, pages*sha256.Size)
	err = sign.Each(ctx, (pages+many-1)/many, many*pageSize, func(i int, buffer []byte) error {
		at := int64(i) * many * pageSize
		n := min(many*pageSize, size-at)
		if _, err := r.ReadAt(buffer[:n], at); err != nil && err != io.EOF {
			return err
		}
		clear(buffer[n:])
		for p := 0; int64(p)*pageSize < n; p++ {
			sum := sha256.Sum256(buffer[p*pageSize : (p+1)*pageSize])
			copy(level[(i*many+p)*sha256.Size:], sum[:])
		}
		return nil
	})
	if err != nil {
		return nil, nil, err
	}
	for pages > 1 {
		if rest := len(level) % pageSize; rest != 0 {
			level = append(level, make([]byte, pageSize-rest)...)
		}
		levels = append(append([]byte{}, level...), levels...)
		pages = len(level) / pageSize
		above := make([]byte, 0, pages*sha256.Size)
		for p := range pages {
			sum := sha256.Sum256(level[p*pageSize : (p+1)*pageSize])
			above = append(above, sum[:]...)
		}
		level = above
	}
	return levels, level, nil
}

// The numbers of "APK Signature Scheme v4".
const (
	v4Version   = 2
	v4SHA256    = 1
	v4BlockBits = 12
)

// beside makes the file that lies beside a package and lets a device read it before it has all of it ("APK Signature
// Scheme v4"): a hash tree, and a signature over its root and the digest that the other schemes sign.
func beside(ctx context.Context, s sign.Signer, r io.ReaderAt, size int64, digest []byte) ([]byte, error) {
	levels, root, err := tree(ctx, r, size)
	if err != nil {
		return nil, err
	}
	public, err := x509.MarshalPKIXPublicKey(s.Key.Public())
	if err != nil {
		return nil, err
	}
	hashing := append(number(v4SHA256), v4BlockBits)
	hashing = append(append(hashing, framed()...), framed(root)...) // no salt
	about := append(append(framed(digest), framed(s.Leaf().Raw)...), framed()...)
	data := little.AppendUint64(nil, uint64(size))
	data = append(append(data, hashing...), about...)
	data = append(number(uint32(len(data)+4)), data...)
	signature, err := s.Over(data)
	if err != nil {
		return nil, err
	}
	about = append(append(about, framed(public)...), number(algorithm(s))...)
	about = append(about, framed(signature)...)
	b := append(number(v4Version), framed(hashing)...)
	return append(append(b, framed(about)...), framed(levels)...), nil
}
