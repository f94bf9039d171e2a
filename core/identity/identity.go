// Package identity has signing keys with their certificates: made, taken over from the files in which people keep
// them, and written into one that they can keep. It tells what a wrong password is and what a wrong file.
package identity

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1" // as people compare certificates
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"strings"
	"time"
	"unicode/utf8"

	"software.sslmate.com/src/go-pkcs12"

	"gentlepiston.example/piston/core/sign"
)

// Algorithm is a kind of key.
type Algorithm string

// The kinds of key that are made.
const (
	RSA3072 Algorithm = "rsa-3072"
	RSA4096 Algorithm = "rsa-4096"
	P256    Algorithm = "p256"
)

// DefaultYears is how long a certificate made here is good: apps are updated by the same key for as long as they live,
// and MinYears is the least that no one should be surprised by.
const (
	DefaultYears = 30
	MinYears     = 25
	MaxYears     = 100
)

// Make makes a key and a certificate that it signs itself (X.509, RFC 5280).
func Make(kind Algorithm, name string, years int, now time.Time) (sign.Signer, error) {
	switch {
	case name == "" || utf8.RuneCountInString(name) > 64: // RFC 5280, ub-common-name
		return sign.Signer{}, fmt.Errorf("a certificate's name has 1 to 64 characters, such as \"Tidewick release\"")
	case !utf8.ValidString(name) || strings.ContainsFunc(name, func(r rune) bool { return r < ' ' }):
		return sign.Signer{}, fmt.Errorf("a certificate's name is one line of text")
	case years < 1 || years > MaxYears:
		return sign.Signer{}, fmt.Errorf("a certificate is good for 1 to %d years, not %d", MaxYears, years)
	}
	var key crypto.Signer
	var err error
	switch kind {
	case RSA3072:
		key, err = rsa.GenerateKey(rand.Reader, 3072)
	case RSA4096:
		key, err = rsa.GenerateKey(rand.Reader, 4096)
	case P256:
		key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	default:
		return sign.Signer{}, fmt.Errorf("no key of the kind %.40q is made; there are rsa-4096, rsa-3072 and p256", kind)
	}
	if err != nil {
		return sign.Signer{}, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127)) // RFC 5280, 4.1.2.2
	if err != nil {
		return sign.Signer{}, err
	}
	about := x509.Certificate{SerialNumber: serial.Add(serial, big.NewInt(1)), Subject: pkix.Name{CommonName: name},
		NotBefore: now.Add(-time.Hour).UTC(), NotAfter: now.AddDate(years, 0, 0).UTC(), BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageCodeSigning}}
	der, err := x509.CreateCertificate(rand.Reader, &about, &about, key.Public(), key)
	if err != nil {
		return sign.Signer{}, err
	}
	cert, err := x509.ParseCertificate(der)
	return sign.Signer{Key: key, Chain: []*x509.Certificate{cert}}, err
}

// Marshal writes an identity for its keeping: PEM (RFC 7468), the key first (PKCS #8, RFC 5958).
func Marshal(s sign.Signer) ([]byte, error) {
	key, err := x509.MarshalPKCS8PrivateKey(s.Key)
	if err != nil {
		return nil, err
	}
	out := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})
	return append(out, Certificates(s.Chain)...), nil
}

// Certificates writes certificates as PEM.
func Certificates(chain []*x509.Certificate) (out []byte) {
	for _, c := range chain {
		out = append(out, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})...)
	}
	return out
}

// ReadCertificates reads what Certificates wrote: one at least.
func ReadCertificates(text []byte) (chain []*x509.Certificate, err error) {
	for {
		var block *pem.Block
		if block, text = pem.Decode(text); block == nil {
			break
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, err
		}
		chain = append(chain, c)
	}
	if len(chain) == 0 {
		return nil, fmt.Errorf("there is no certificate")
	}
	return chain, nil
}

// MinPassphrase is how many characters a passphrase has at least that a key leaves under.
const MinPassphrase = 12

// Export writes an identity as PKCS #12 (RFC 7292), encrypted by AES-256 under a passphrase, as keytool and openssl
// read it.
func Export(s sign.Signer, passphrase string) ([]byte, error) {
	if utf8.RuneCountInString(passphrase) < MinPassphrase {
		return nil, fmt.Errorf("a passphrase of fewer than %d characters does not keep a key", MinPassphrase)
	}
	out, err := pkcs12.Modern.Encode(s.Key, s.Leaf(), s.Chain[1:], passphrase)
	if err != nil {
		return nil, fmt.Errorf("writing PKCS #12: %w", err)
	}
	return out, nil
}

// Fingerprints are the sums of a certificate as people compare them: hexadecimal, with colons.
type Fingerprints struct {
	SHA256 string `json:"sha256"`
	SHA1   string `json:"sha1"`
}

// Hex is the SHA-256 without colons, in small letters.
func (f Fingerprints) Hex() string { return strings.ToLower(strings.ReplaceAll(f.SHA256, ":", "")) }

// FingerprintsOf gives those of a certificate.
func FingerprintsOf(c *x509.Certificate) Fingerprints {
	long, short := sha256.Sum256(c.Raw), sha1.Sum(c.Raw)
	return Fingerprints{colons(long[:]), colons(short[:])}
}

func colons(b []byte) string {
	text := strings.ToUpper(hex.EncodeToString(b))
	var out strings.Builder
	for i := 0; i < len(text); i += 2 {
		if i > 0 {
			out.WriteByte(':')
		}
		out.WriteString(text[i : i+2])
	}
	return out.String()
}

// KindOf says what a key is, such as "RSA 4096".
func KindOf(key crypto.PublicKey) string {
	switch k := key.(type) {
	case *rsa.PublicKey:
		return fmt.Sprintf("RSA %d", k.N.BitLen())
	case *ecdsa.PublicKey:
		return k.Curve.Params().Name
	}
	return fmt.Sprintf("%T", key)
}

// The ways in which an import goes wrong.
var (
	ErrPassword    = errors.New("the password does not open the file")
	ErrKeyPassword = errors.New("the password opens the file, but not the key in it: the key has a password of its own")
	ErrFormat      = errors.New("this is no PKCS #12, JKS or PEM file with a key")
	ErrEncryption  = errors.New("the key is encrypted in a way that is not read; export it as PKCS #12")
)

// AliasError says that the file holds several keys, or none of that name.
type AliasError struct {
	Asked string
	Have  []string
}

func (e *AliasError) Error() string {
	if e.Asked == "" {
		return "the file holds several keys; say which: " + strings.Join(e.Have, ", ")
	}
	return fmt.Sprintf("the file holds no key %.60q; it holds %s", e.Asked, strings.Join(e.Have, ", "))
}
