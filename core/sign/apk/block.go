package apk

import (
	"crypto/x509"
	"encoding/binary"

	"gentlepiston.example/piston/core/sign"
)

// The ids of what stands in the signing block, and of attributes (source.android.com, "APK Signature Scheme v2", "v3").
const (
	schemeV2    = 0x7109871a
	schemeV3    = 0xf05368c0
	padding     = 0x42726577
	notStripped = 0xbeeff00d // an attribute of v2: a v3 was here
)

// The algorithms: SHA-256 over pieces of a megabyte, signed by RSASSA-PKCS1-v1_5 or ECDSA.
const (
	rsaSHA256   = 0x0103
	ecdsaSHA256 = 0x0201
)

func algorithm(s sign.Signer) uint32 {
	if s.Elliptic() {
		return ecdsaSHA256
	}
	return rsaSHA256
}

var little = binary.LittleEndian

// framed puts a length before bytes.
func framed(parts ...[]byte) []byte {
	n := 0
	for _, p := range parts {
		n += len(p)
	}
	b := little.AppendUint32(make([]byte, 0, n+4), uint32(n))
	for _, p := range parts {
		b = append(b, p...)
	}
	return b
}

func number(n uint32) []byte { return little.AppendUint32(nil, n) }

// block makes the value of a scheme from the digest of the package: one signer, with v3 for a span of versions of
// Android.
func block(s sign.Signer, digest []byte, scheme, minSDK, maxSDK uint32, attributes []byte) ([]byte, error) {
	public, err := x509.MarshalPKIXPublicKey(s.Key.Public())
	if err != nil {
		return nil, err
	}
	id := number(algorithm(s))
	var chain []byte
	for _, c := range s.Chain {
		chain = append(chain, framed(c.Raw)...)
	}
	span := append(number(minSDK), number(maxSDK)...)
	if scheme == schemeV2 {
		span = nil
	}
	data := append(framed(framed(id, framed(digest))), framed(chain)...)
	data = append(append(data, span...), framed(attributes)...)
	if scheme == schemeV2 {
		data = append(data, number(0)...) // as all writers of v2 end it
	}
	signature, err := s.Over(data)
	if err != nil {
		return nil, err
	}
	signer := append(framed(data), span...)
	signer = append(append(signer, framed(framed(id, framed(signature)))...), framed(public)...)
	return framed(framed(signer)), nil
}

// pair is an id and its value in the signing block.
type pair struct {
	id    uint32
	value []byte
}

// pageSize is what the signing block is a multiple of, so that what follows it lies as a device reads it.
const pageSize = 4096

// magic ends a signing block.
const magic = "APK Sig Block 42"

// signingBlock puts the values of the schemes together.
func signingBlock(pairs []pair) []byte {
	n := 8 + 8 + len(magic)
	for _, p := range pairs {
		n += 12 + len(p.value)
	}
	if rest := n % pageSize; rest != 0 {
		pad := pageSize - rest
		if pad < 12 {
			pad += pageSize
		}
		pairs = append(pairs, pair{padding, make([]byte, pad-12)})
		n += pad
	}
	b := little.AppendUint64(make([]byte, 0, n), uint64(n-8))
	for _, p := range pairs {
		b = little.AppendUint64(b, uint64(4+len(p.value)))
		b = append(little.AppendUint32(b, p.id), p.value...)
	}
	b = little.AppendUint64(b, uint64(n-8))
	return append(b, magic...)
}
