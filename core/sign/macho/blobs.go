package macho

import (
	"crypto/sha1"
	"crypto/sha256"
	"crypto/x509"
	"encoding/asn1"
	"fmt"
	"slices"
)

// What the parts of a signature begin with, and by which numbers they are found (kern/cs_blobs.h).
const (
	magicRequirement  = 0xfade0c00
	magicRequirements = 0xfade0c01
	magicDirectory    = 0xfade0c02
	magicSignature    = 0xfade0cc0
	magicEntitlements = 0xfade7171
	magicDER          = 0xfade7172
	magicWrapper      = 0xfade0b01

	slotDirectory    = 0
	slotInfo         = 1
	slotRequirements = 2
	slotResources    = 3
	slotEntitlements = 5
	slotDER          = 7
	slotCMS          = 0x10000
)

// blob puts a magic number and a length before bytes.
func blob(magic uint32, content []byte) []byte {
	b := big.AppendUint32(make([]byte, 0, 8+len(content)), magic)
	b = big.AppendUint32(b, uint32(8+len(content)))
	return append(b, content...)
}

// part is one of a signature.
type part struct {
	slot uint32
	blob []byte
}

// super puts the parts together, with an index.
func super(parts []part) []byte {
	head := big.AppendUint32(nil, uint32(len(parts)))
	at := 12 + 8*len(parts)
	var content []byte
	for _, p := range parts {
		head = big.AppendUint32(head, p.slot)
		head = big.AppendUint32(head, uint32(at+len(content)))
		content = append(content, p.blob...)
	}
	return blob(magicSignature, append(head, content...))
}

// The words of requirements (Security framework, "Code Signing Requirement Language").
const (
	wordIdentifier = 2
	wordHash       = 4
	wordAnd        = 6
	wordField      = 11
	wordExtension  = 14
	wordApple      = 15
	matchExists    = 0
	matchEqual     = 1
)

// appleIntermediate is the extension of certificates from which Apple signs those of developers.
var appleIntermediate = asn1.ObjectIdentifier{1, 2, 840, 113635, 100, 6, 2, 1}

// requirement says what later versions of a program are to be: of the same name, and signed by the same certificate;
// by one of the same name where Apple gave it, so that it may be renewed.
func requirement(identifier string, chain []*x509.Certificate) []byte {
	b := big.AppendUint32(nil, 1) // an expression
	b = big.AppendUint32(b, wordAnd)
	b = text(big.AppendUint32(b, wordIdentifier), []byte(identifier))
	if fromApple(chain) {
		b = big.AppendUint32(b, wordAnd)
		b = big.AppendUint32(b, wordApple)
		b = big.AppendUint32(b, wordAnd)
		b = big.AppendUint32(big.AppendUint32(b, wordField), 0)
		b = text(b, []byte("subject.CN"))
		b = text(big.AppendUint32(b, matchEqual), []byte(chain[0].Subject.CommonName))
		b = big.AppendUint32(big.AppendUint32(b, wordExtension), 1)
		b = big.AppendUint32(text(b, oidContent(appleIntermediate)), matchExists)
	} else {
		sum := sha1.Sum(chain[0].Raw)
		b = text(big.AppendUint32(big.AppendUint32(b, wordHash), 0), sum[:])
	}
	one := blob(magicRequirement, b)
	set := big.AppendUint32(nil, 1)
	set = big.AppendUint32(set, 3) // the designated one
	set = big.AppendUint32(set, 8+4+8)
	return blob(magicRequirements, append(set, one...))
}

func fromApple(chain []*x509.Certificate) bool {
	if len(chain) < 2 {
		return false
	}
	for _, e := range chain[1].Extensions {
		if e.Id.Equal(appleIntermediate) {
			return true
		}
	}
	return false
}

func oidContent(id asn1.ObjectIdentifier) []byte {
	der, _ := asn1.Marshal(id) // a constant
	return der[2:]
}

// text writes bytes after their length, up to a multiple of four.
func text(b, content []byte) []byte {
	b = append(big.AppendUint32(b, uint32(len(content))), content...)
	for len(b)%4 != 0 {
		b = append(b, 0)
	}
	return b
}

// entitlementsDER writes entitlements as the kernel reads them: DER, keys in their order.
func entitlementsDER(values map[string]any) ([]byte, error) {
	dict, err := derOf(values, 0)
	if err != nil {
		return nil, err
	}
	return blob(magicDER, tagged(0x70, append([]byte{2, 1, 1}, dict...))), nil
}

// tagged puts a tag and a length before bytes.
func tagged(tag byte, content []byte) []byte {
	b := []byte{tag}
	switch n := len(content); {
	case n < 0x80:
		b = append(b, byte(n))
	case n < 0x100:
		b = append(b, 0x81, byte(n))
	case n < 0x10000:
		b = append(b, 0x82, byte(n>>8), byte(n))
	default:
		b = append(b, 0x83, byte(n>>16), byte(n>>8), byte(n))
	}
	return append(b, content...)
}

// maxNested bounds how deep entitlements go.
const maxNested = 16

func derOf(v any, depth int) ([]byte, error) {
	if depth > maxNested {
		return nil, wrong("its entitlements are too deep")
	}
	switch v := v.(type) {
	case bool:
		return asn1.Marshal(v)
	case string:
		return tagged(0x0c, []byte(v)), nil
	case uint64:
		return asn1.Marshal(int64(v))
	case int64:
		return asn1.Marshal(v)
	case []any:
		var all []byte
		for _, each := range v {
			der, err := derOf(each, depth+1)
			if err != nil {
				return nil, err
			}
			all = append(all, der...)
		}
		return tagged(0x30, all), nil
	case map[string]any:
		var all []byte
		for _, key := range sortedKeys(v) {
			der, err := derOf(v[key], depth+1)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", key, err)
			}
			all = append(all, tagged(0x30, append(tagged(0x0c, []byte(key)), der...))...)
		}
		return tagged(0xb0, all), nil
	}
	return nil, wrong("its entitlements hold a %T, which none may be", v)
}

func sortedKeys(m map[string]any) []string {
	list := make([]string, 0, len(m))
	for k := range m {
		list = append(list, k)
	}
	slices.Sort(list)
	return list
}

// hashed is the sum that a slot has; of nothing it is zeros.
func hashed(b []byte) []byte {
	if b == nil {
		return make([]byte, sha256.Size)
	}
	sum := sha256.Sum256(b)
	return sum[:]
}
