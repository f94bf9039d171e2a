package quantity

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestBytes(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 999: "999 B", 1000: "1.0 kB", 999_949: "999.9 kB",
		1_000_000: "1.0 MB", 1_500_000: "1.5 MB", 1e9: "1.00 GB", 20e9: "20.00 GB"} {
		assert.Equal(t, want, Bytes(n))
	}
}

func TestParseBytes(t *testing.T) {
	for text, want := range map[string]int64{"0": 0, "512": 512, "20GB": 20e9, "3b": 3, "2TB": 2e12, "1.5 mb": 15e5, "7kB": 7e3} {
		got, err := ParseBytes(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "GB", "-1GB", "5 XB", "1e", "NaN", "2000000TB"} {
		_, err := ParseBytes(text)
		assert.Error(t, err, text)
	}
}
