package secrets

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/service/ground"
)

func textSecret(value string) api.NewSecret {
	return api.NewSecret{Kind: api.TextSecret, Value: []byte(value)}
}

func TestSecretsThatAreRefused(t *testing.T) {
	assert.NoError(t, checkSecret("KEY", textSecret("long enough")))
	assert.NoError(t, checkSecret("SERVICES:harbour", textSecret("two\nlines of it")))
	assert.NoError(t, checkSecret("KEY", api.NewSecret{Kind: api.FileSecret, Value: []byte("any \x00 bytes \xff")}))
	for name, c := range map[string]struct {
		name string
		in   api.NewSecret
		says string
	}{
		"a name with =": {"A=B", textSecret("long enough"), "letters, digits"}, "a name of the service's": {"PISTON_RUN", textSecret("long enough"), "PISTON_"},
		"a digit first": {"1A", textSecret("long enough"), "digit"}, "one byte": {"KEY", textSecret("a"), "cannot be hidden"},
		"too short to hide": {"KEY", textSecret("abcde"), "cannot be hidden"}, "blanks only": {"KEY", textSecret("        "), "cannot be hidden"},
		"NUL in a variable": {"KEY", textSecret("ab\x00cdefg"), "set it as a file"}, "no UTF-8": {"KEY", textSecret("ab\xffcdefg"), "set it as a file"},
		"a long variable": {"KEY", textSecret(strings.Repeat("a", 200<<10)), "set it as a file"},
		"ten megabytes":   {"KEY", api.NewSecret{Kind: api.FileSecret, Value: make([]byte, 10<<20)}, "at most 1048576"},
	} {
		err := checkSecret(c.name, c.in)
		assert.ErrorIs(t, err, ground.ErrInvalid, name)
		assert.ErrorContains(t, err, c.says, name)
	}
}
