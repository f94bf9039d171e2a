package reach

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAddressesBySSH(t *testing.T) {
	for address, want := range map[string]Keyed{
		"git@git.tidewick.example:charts.git":               {"git", "git.tidewick.example:22", "charts.git"},
		"Git.Tidewick.example:/srv/charts.git":              {"git", "git.tidewick.example:22", "/srv/charts.git"},
		"ssh://ada@git.tidewick.example:2222/srv/charts":    {"ada", "git.tidewick.example:2222", "/srv/charts"},
		"ssh://git.tidewick.example/~ada/charts.git":        {"git", "git.tidewick.example:22", "~ada/charts.git"},
		"git+ssh://git@[2001:db8::7]/a":                     {"git", "[2001:db8::7]:22", "/a"},
		"ssh://git@git.tidewick.example/a%20chart's place!": {"git", "git.tidewick.example:22", "/a chart's place!"},
	} {
		to, ok := BySSH(address)
		assert.True(t, ok, address)
		assert.Equal(t, want, to, address)
	}
	for _, address := range []string{"", "https://a.example/x", "git://a.example/x", "ssh:///x", "../charts.git", "./a:b", "/srv/a:b",
		"ext::sh -c true", "a b:c", "ssh://a.example:port/x"} {
		_, ok := BySSH(address)
		assert.False(t, ok, address)
	}
}
