package version

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestName(t *testing.T) {
	for text, want := range map[string]string{"1.4.0\n": "1.4.0", "v2": "2", " 1.2.3-rc.1 \nignored": "1.2.3-rc.1", "1.2.3.4": "1.2.3.4",
		"1.0-" + strings.Repeat("a", 60): "1.0-" + strings.Repeat("a", 60)} {
		got, err := Name(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{"", "\n1.2", "one.two", "1.2; rm -rf /", "1.2.3.4.5", "$(id)", "1.0-" + strings.Repeat("a", 61)} {
		_, err := Name(text)
		assert.ErrorIs(t, err, ErrNoName, text)
	}
}

func TestAWantedVersionHasItsBounds(t *testing.T) {
	long := ">=1" + strings.Repeat(", >=1", 20)
	for text, fits := range map[string]bool{"*": true, " * ": true, "17": true, ">= 3.20, <4": true, "=1.2.3": true, long[:98]: true,
		long + ", >=1": false, "": false, "1.2.3.4": false, "newest": false, ">>1": false, "1 ||2": false} {
		_, err := ParseWanted(text)
		assert.Equal(t, fits, err == nil, "%q: %v", text, err)
	}
}
