// Package sign has what every kind of signature needs: who signs, without the key being here, and how each algorithm
// is named. The key is a crypto.Signer; whether it is in memory, in a token or on another machine, nothing here knows.
package sign

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"fmt"
)

// Signer is an identity at work: a key, and the certificates that say whose it is, its own first.
type Signer struct {
	Key   crypto.Signer
	Chain []*x509.Certificate
}

// Leaf is the certificate of the key.
func (s Signer) Leaf() *x509.Certificate { return s.Chain[0] }

// Check refuses what no package can be signed with.
func (s Signer) Check() error {
	if s.Key == nil || len(s.Chain) == 0 {
		return fmt.Errorf("there is no key to sign with")
	}
	type equal interface{ Equal(crypto.PublicKey) bool }
	own, ok := s.Key.Public().(equal)
	if !ok || !own.Equal(s.Leaf().PublicKey) {
		return fmt.Errorf("the certificate %q is not that of the key", s.Leaf().Subject)
	}
	switch key := s.Key.Public().(type) {
	case *rsa.PublicKey:
		if bits := key.N.BitLen(); bits < 2048 || bits > 8192 {
			return fmt.Errorf("the key is RSA of %d bits; use 3072 or 4096", bits)
		}
	case *ecdsa.PublicKey:
	default:
		return fmt.Errorf("a key of type %T signs no package; use RSA or P-256", key)
	}
	return nil
}

// Over signs bytes: their SHA-256, by RSASSA-PKCS1-v1_5 (RFC 8017, section 8.2) or ECDSA (FIPS 186-5, section 6).
func (s Signer) Over(data []byte) ([]byte, error) {
	sum := sha256.Sum256(data)
	return s.Key.Sign(rand.Reader, sum[:], crypto.SHA256)
}

// Elliptic tells whether the key is one of ECDSA.
func (s Signer) Elliptic() bool {
	_, is := s.Key.Public().(*ecdsa.PublicKey)
	return is
}
