package quantity

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestBytes(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 999: "999 B", 1000: "1.0 kB", 1_500_000: "1.5 MB", 20e9: "20.00 GB"} {
		assert.Equal(t, want, Bytes(n))
	}
}
