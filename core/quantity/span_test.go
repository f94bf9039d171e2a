package quantity

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestHowLongSomethingTook(t *testing.T) {
	for d, wanted := range map[time.Duration]string{0: "0 ms", 9999 * time.Millisecond: "9999 ms",
		10 * time.Second: "10s", 61250 * time.Millisecond: "1m1.3s"} {
		assert.Equal(t, wanted, Span(d))
	}
}
