package identity

import (
	"bytes"
	"crypto"
	"crypto/sha1"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf16"

	"github.com/pavlo-v-chernykh/keystore-go/v4"
	"software.sslmate.com/src/go-pkcs12"

	"gentlepiston.example/piston/core/sign"
)

// MaxFile is the most bytes of a file that is imported.
const MaxFile = 256 << 10

// File is a file with a key, and what opens it.
type File struct {
	Data        []byte `json:"data"`                   // in Base64 on the way
	Password    string `json:"password,omitempty"`     // of the file
	KeyPassword string `json:"key_password,omitempty"` // of the key, where it has one of its own
	Alias       string `json:"alias,omitempty"`        // which key, where there are several
}

// Import reads an identity from a PKCS #12, JKS or PEM file, whichever it is. The errors are those of this package, or
// say what is wrong with the key.
func Import(f File) (s sign.Signer, err error) {
	if len(f.Data) > MaxFile {
		return s, fmt.Errorf("the file has %d bytes, at most %d are read: %w", len(f.Data), MaxFile, ErrFormat)
	}
	switch {
	case bytes.HasPrefix(f.Data, []byte{0xfe, 0xed, 0xfe, 0xed}):
		s, err = fromJKS(f)
	case bytes.Contains(f.Data, []byte("-----BEGIN ")):
		s, err = fromPEM(f)
	case len(f.Data) > 0 && f.Data[0] == 0x30: // a SEQUENCE of ASN.1
		s, err = fromPKCS12(f)
	default:
		return s, ErrFormat
	}
	if err != nil {
		return sign.Signer{}, err
	}
	s.Chain = ordered(s.Key, s.Chain)
	if len(s.Chain) == 0 {
		return sign.Signer{}, fmt.Errorf("the file holds a key, but not its certificate: %w", ErrFormat)
	}
	return s, s.Check()
}

// Parse reads what Marshal wrote.
func Parse(data []byte) (sign.Signer, error) { return fromPEM(File{Data: data}) }

// ordered puts the key's own certificate first, then who signed it, and so on; others are left out.
func ordered(key crypto.Signer, certs []*x509.Certificate) (chain []*x509.Certificate) {
	type equal interface{ Equal(crypto.PublicKey) bool }
	own, _ := key.Public().(equal)
	for _, c := range certs {
		if own != nil && own.Equal(c.PublicKey) {
			chain = append(chain, c)
			break
		}
	}
	for len(chain) > 0 && len(chain) < len(certs) {
		last := chain[len(chain)-1]
		next := slices.IndexFunc(certs, func(c *x509.Certificate) bool {
			return !slices.Contains(chain, c) && bytes.Equal(c.RawSubject, last.RawIssuer) && last.CheckSignatureFrom(c) == nil
		})
		if next < 0 {
			break
		}
		chain = append(chain, certs[next])
	}
	return chain
}

func fromPKCS12(f File) (s sign.Signer, err error) {
	if err := stretched(f.Data); err != nil {
		return s, err
	}
	key, cert, others, err := pkcs12.DecodeChain(f.Data, f.Password)
	switch {
	case errors.Is(err, pkcs12.ErrIncorrectPassword):
		return s, ErrPassword
	case errors.Is(err, pkcs12.ErrDecryption):
		return s, ErrPassword
	case err != nil:
		return s, fmt.Errorf("%w: %v", ErrFormat, err)
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return s, fmt.Errorf("a key of type %T cannot sign: %w", key, ErrFormat)
	}
	return sign.Signer{Key: signer, Chain: append([]*x509.Certificate{cert}, others...)}, nil
}

func fromJKS(f File) (s sign.Signer, err error) {
	if !opensJKS(f) {
		return s, ErrPassword
	}
	store := keystore.New()
	if err := store.Load(bytes.NewReader(f.Data), []byte(f.Password)); err != nil {
		return s, fmt.Errorf("%w: %v", ErrFormat, err)
	}
	var keys []string
	for _, alias := range store.Aliases() {
		if store.IsPrivateKeyEntry(alias) {
			keys = append(keys, alias)
		}
	}
	alias := strings.ToLower(f.Alias) // as keytool keeps them
	switch {
	case len(keys) == 0:
		return s, fmt.Errorf("the file holds certificates, but no key: %w", ErrFormat)
	case alias == "" && len(keys) == 1:
		alias = keys[0]
	case !slices.Contains(keys, alias):
		return s, &AliasError{f.Alias, keys}
	}
	password := f.KeyPassword
	if password == "" {
		password = f.Password
	}
	entry, err := store.GetPrivateKeyEntry(alias, []byte(password))
	if err != nil {
		return s, ErrKeyPassword
	}
	if s.Key, err = parseKey(entry.PrivateKey); err != nil {
		return s, err
	}
	for _, c := range entry.CertificateChain {
		cert, err := x509.ParseCertificate(c.Content)
		if err != nil {
			return s, fmt.Errorf("a certificate in the file cannot be read: %w", err)
		}
		s.Chain = append(s.Chain, cert)
	}
	return s, nil
}

// opensJKS tells whether the password is that of the file: at its end is a sum over both (the source of OpenJDK,
// JavaKeyStore.getPreKeyedHash).
func opensJKS(f File) bool {
	end := len(f.Data) - sha1.Size
	if end < 0 {
		return true // what is too short is told as such
	}
	h := sha1.New()
	for _, unit := range utf16.Encode([]rune(f.Password)) {
		h.Write([]byte{byte(unit >> 8), byte(unit)})
	}
	h.Write([]byte("Mighty Aphrodite"))
	h.Write(f.Data[:end])
	return bytes.Equal(h.Sum(nil), f.Data[end:])
}

func fromPEM(f File) (s sign.Signer, err error) {
	for rest := f.Data; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		switch {
		case block.Headers["Proc-Type"] != "" || block.Type == "ENCRYPTED PRIVATE KEY":
			return s, ErrEncryption
		case block.Type == "CERTIFICATE":
			cert, err := x509.ParseCertificate(block.Bytes)
			if err != nil {
				return s, fmt.Errorf("a certificate in the file cannot be read: %w", err)
			}
			s.Chain = append(s.Chain, cert)
		case strings.HasSuffix(block.Type, "PRIVATE KEY"):
			if s.Key != nil {
				return s, fmt.Errorf("the file holds two keys: %w", ErrFormat)
			}
			if s.Key, err = parseKey(block.Bytes); err != nil {
				return s, err
			}
		}
	}
	if s.Key == nil {
		return s, ErrFormat
	}
	return s, nil
}

// parseKey reads a key in any of its plain forms.
func parseKey(der []byte) (crypto.Signer, error) {
	if key, err := x509.ParsePKCS8PrivateKey(der); err == nil {
		if signer, ok := key.(crypto.Signer); ok {
			return signer, nil
		}
	}
	if key, err := x509.ParsePKCS1PrivateKey(der); err == nil {
		return key, nil
	}
	if key, err := x509.ParseECPrivateKey(der); err == nil {
		return key, nil
	}
	return nil, fmt.Errorf("the key in the file cannot be read; it is to be RSA or P-256: %w", ErrFormat)
}
