package people

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPasswordHashes(t *testing.T) {
	a, b := hashPassword("same"), hashPassword("same")
	assert.NotEqual(t, a, b, "salted")
	assert.True(t, strings.HasPrefix(a, "$argon2id$v=19$m=19456,t=2,p=1$"), a)
	assert.True(t, passwordFits("same", a))
	assert.False(t, passwordFits("other", a))
	for _, damaged := range []string{"", "$argon2id$", strings.Replace(a, "v=19", "v=1", 1), a[:len(a)-8] + "!!!!!!!!"} {
		assert.False(t, passwordFits("same", damaged), damaged)
	}
}
