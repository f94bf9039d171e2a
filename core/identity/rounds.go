package identity

import (
	"encoding/asn1"
	"fmt"
	"math/big"
)

// maxRounds is how often a password may have been stretched (RFC 8018, iteration count). Whoever made the file says how
// often: a number of a thousand millions would keep a processor busy for hours.
const maxRounds = 5_000_000

// The bounds of what is looked for it.
const (
	maxLayers = 24
	maxValues = 50_000
)

// stretched refuses a file that says its password was stretched more often than anybody does: in DER, and in the octet
// strings that hold DER, an integer after a salt.
func stretched(der []byte) error {
	left := maxValues
	return rounds(der, 0, &left)
}

func rounds(der []byte, layer int, left *int) error {
	salt := false
	for len(der) > 0 && layer < maxLayers {
		var v asn1.RawValue
		rest, err := asn1.Unmarshal(der, &v)
		if *left--; err != nil || *left < 0 {
			return nil // it is no DER, or the reader will say what is wrong with it
		}
		der = rest
		if v.Tag == asn1.TagInteger && v.Class == asn1.ClassUniversal && salt &&
			new(big.Int).SetBytes(v.Bytes).Cmp(big.NewInt(maxRounds)) > 0 {
			return fmt.Errorf("the file says that its password was stretched more than %d times: %w", maxRounds, ErrFormat)
		}
		salt = v.Tag == asn1.TagOctetString && v.Class == asn1.ClassUniversal
		if v.IsCompound || salt {
			if err := rounds(v.Bytes, layer+1, left); err != nil {
				return err
			}
		}
	}
	return nil
}
