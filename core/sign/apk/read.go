package apk

import (
	"crypto/x509"
	"io"

	"gentlepiston.example/piston/core/archive"
)

// Signed is who signed a package by a scheme that signs it as a whole.
type Signed struct {
	Scheme      string // v2, v3, v3.1
	Certificate *x509.Certificate
}

// schemes are the names of those that stand in the signing block.
var schemes = map[uint32]string{schemeV2: "v2", schemeV3: "v3", 0x1b93ad61: "v3.1"}

// maxBlock bounds the signing block.
const maxBlock = 64 << 20

// ReadBlock reads who signed a package, in its signing block; none when it has none.
func ReadBlock(a *archive.Archive, r io.ReaderAt) (list []Signed, err error) {
	foot := make([]byte, 8+len(magic))
	at := a.Directory - int64(len(foot))
	if at < a.EntriesEnd() {
		return nil, nil
	}
	if _, err := r.ReadAt(foot, at); err != nil && err != io.EOF {
		return nil, err
	}
	size := little.Uint64(foot)
	if string(foot[8:]) != magic {
		return nil, nil
	}
	if size > maxBlock || int64(size) > a.Directory-a.EntriesEnd()-8 || size < uint64(len(foot)) {
		return nil, &archive.Error{What: "its signing block says it is larger than it can be"}
	}
	b := make([]byte, size-uint64(len(foot)))
	if _, err := r.ReadAt(b, a.Directory-int64(size)); err != nil && err != io.EOF {
		return nil, err
	}
	for len(b) >= 12 {
		n := little.Uint64(b)
		if n < 4 || n > uint64(len(b)-8) {
			return nil, &archive.Error{What: "its signing block is cut off"}
		}
		if name := schemes[little.Uint32(b[8:])]; name != "" {
			if c := firstCertificate(b[12 : 8+n]); c != nil {
				list = append(list, Signed{name, c})
			}
		}
		b = b[8+n:]
	}
	return list, nil
}

// firstCertificate is that of the first signer: signers, signer, signed data, digests, certificates.
func firstCertificate(b []byte) *x509.Certificate {
	b = inner(inner(inner(b)))
	_, rest := cut(b)
	certificates, _ := cut(rest)
	der, _ := cut(certificates)
	c, err := x509.ParseCertificate(der)
	if err != nil {
		return nil
	}
	return c
}

// inner is what the first length before bytes spans.
func inner(b []byte) []byte {
	first, _ := cut(b)
	return first
}

// cut gives what the first length spans, and what follows; nothing when it spans more than there is.
func cut(b []byte) (first, rest []byte) {
	if len(b) < 4 || uint64(little.Uint32(b)) > uint64(len(b)-4) {
		return nil, nil
	}
	n := little.Uint32(b)
	return b[4 : 4+n], b[4+n:]
}

// Misplaced lists stored entries that do not lie where a device can map them.
func Misplaced(a *archive.Archive) []string {
	list := []string{}
	for _, e := range a.Entries() {
		if e.Method == archive.Stored && e.Size > 0 && e.Data%alignment(e) != 0 {
			list = append(list, e.Name)
		}
	}
	return list
}
