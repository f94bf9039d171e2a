package apk

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"errors"
	"fmt"

	"gentlepiston.example/piston/core/sign"
)

// A lineage proves that keys followed each other: each certificate is signed by the key of the one before it
// (source.android.com, "APK Signature Scheme v3", "Proof-of-rotation and self-trusted-old-certs structs").
const (
	lineageVersion   = 1
	lineageAttribute = 0x3ba06f8c
	// What a former key still stands for: data of the app, shared user ids, permissions and authenticators; not going
	// back to it.
	formerFlags = 0x17
	maxLineage  = 32
)

// ErrLineage says that a lineage cannot be read, or proves nothing.
var ErrLineage = errors.New("the proof of rotation does not hold")

// link is one certificate of a lineage.
type link struct {
	certificate *x509.Certificate
	data        []byte // the certificate, and by which algorithm the one before has signed this
	by          uint32 // the algorithm by which it signs the next
	signature   []byte // of the one before
}

// Follow adds a certificate to a lineage, signed by the key of the last one in it. An empty lineage begins with that
// of the old key itself.
func Follow(lineage []byte, old sign.Signer, next *x509.Certificate) ([]byte, error) {
	if err := old.Check(); err != nil {
		return nil, err
	}
	var links []link
	if len(lineage) == 0 {
		links = []link{{certificate: old.Leaf(), data: linkData(old.Leaf(), 0)}}
	} else {
		var err error
		if links, err = readLineage(lineage); err != nil {
			return nil, err
		}
	}
	last := &links[len(links)-1]
	if !last.certificate.Equal(old.Leaf()) {
		return nil, fmt.Errorf("%w: its last certificate is not that of the key", ErrLineage)
	}
	if len(links) == maxLineage {
		return nil, fmt.Errorf("%w: it has %d certificates already", ErrLineage, maxLineage)
	}
	last.by = algorithm(old)
	data := linkData(next, last.by)
	signature, err := old.Over(data)
	if err != nil {
		return nil, err
	}
	links = append(links, link{certificate: next, data: data, signature: signature})
	out := number(lineageVersion)
	for _, l := range links {
		node := append(framed(l.data), number(formerFlags)...)
		node = append(append(node, number(l.by)...), framed(l.signature)...)
		out = append(out, framed(node)...)
	}
	return out, nil
}

func linkData(c *x509.Certificate, by uint32) []byte { return append(framed(c.Raw), number(by)...) }

// Lineage reads the certificates of a lineage, the oldest first, and checks that each follows from the one before.
func Lineage(lineage []byte) (list []*x509.Certificate, err error) {
	links, err := readLineage(lineage)
	for _, l := range links {
		list = append(list, l.certificate)
	}
	return list, err
}

func readLineage(b []byte) (links []link, err error) {
	if len(b) < 4 || little.Uint32(b) != lineageVersion {
		return nil, fmt.Errorf("%w: it is of another version", ErrLineage)
	}
	for b = b[4:]; len(b) > 0; {
		var node []byte
		if node, b = cut(b); node == nil || len(links) == maxLineage {
			return nil, fmt.Errorf("%w: it is cut off, or too long", ErrLineage)
		}
		data, rest := cut(node)
		der, algorithms := cut(data)
		if der == nil || len(algorithms) != 4 || len(rest) < 8 {
			return nil, fmt.Errorf("%w: it is cut off", ErrLineage)
		}
		l := link{data: data, by: little.Uint32(rest[4:])}
		l.signature, _ = cut(rest[8:])
		if l.certificate, err = x509.ParseCertificate(der); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrLineage, err)
		}
		if n := len(links); n > 0 {
			before := links[n-1]
			if before.by != little.Uint32(algorithms) || !signedBy(before.certificate, data, l.signature) {
				return nil, fmt.Errorf("%w: certificate %d was not signed by the one before it", ErrLineage, n+1)
			}
		}
		links = append(links, l)
	}
	if len(links) < 2 {
		return nil, fmt.Errorf("%w: it has fewer than two certificates", ErrLineage)
	}
	return links, nil
}

// signedBy tells whether the key of a certificate has signed data.
func signedBy(by *x509.Certificate, data, signature []byte) bool {
	sum := sha256.Sum256(data)
	switch key := by.PublicKey.(type) {
	case *rsa.PublicKey:
		return rsa.VerifyPKCS1v15(key, crypto.SHA256, sum[:], signature) == nil
	case *ecdsa.PublicKey:
		return ecdsa.VerifyASN1(key, sum[:], signature)
	}
	return false
}
