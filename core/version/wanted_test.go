package version

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWantedVersions(t *testing.T) {
	cases := []struct {
		wanted, found string
		want          bool
	}{
		{"*", "whatever", true}, {"17", "17.0.2", true}, {"17", "1.7", false}, {"17", "18", false}, {"17", "17", true},
		{">=14", "14.0.6-1", true}, {">=14", "13.9", false}, {">=3.20, <4", "3.25.1", true}, {">=3.20, <4", "4.0", false},
		{"3.20", "3.20.1", true}, {"3.20", "3.21", false}, {"1.8", "1.8.0_292", true}, {">=14", "unknown", false},
		{">=2023", "2023.10.1.5", true}, {"=20", "20.20.2", true}, {"<4", "3.82", true}, {">4.2", "4.3", true},
		{">=1", "99999999999999999999999", false},
	}
	for _, c := range cases {
		w, err := ParseWanted(c.wanted)
		require.NoError(t, err, c.wanted)
		assert.Equal(t, c.want, w.Meets(c.found), "%s for %s", c.found, c.wanted)
	}
	for _, text := range []string{"", "latest", ">=", "17 18", "^3", "1.2.3.4", ">=14; rm", "~> 2", "17,"} {
		_, err := ParseWanted(text)
		assert.Error(t, err, text)
	}
}
