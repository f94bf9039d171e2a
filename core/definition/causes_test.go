package definition

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCausesAreChecked(t *testing.T) {
	good := "[[cause]]\nname = \"a\"\ntitle = \"b\"\nsays = ['x\\d+']\nexample = [\"x12\"]\n"
	list, found := ParseCauses(CausesPath, []byte(good))
	assert.Empty(t, found)
	assert.Len(t, list, 1)
	for what, text := range map[string]string{
		"no name":                "[[cause]]\ntitle = \"b\"\nsays = [\"x\"]\n",
		"no title":               "[[cause]]\nname = \"a\"\nsays = [\"x\"]\n",
		"no pattern":             "[[cause]]\nname = \"a\"\ntitle = \"b\"\n",
		"twice":                  good + good,
		"looks behind":           "[[cause]]\nname = \"a\"\ntitle = \"b\"\nsays = ['(?<=x)y']\n",
		"refers back":            "[[cause]]\nname = \"a\"\ntitle = \"b\"\nsays = ['(a)\\1']\n",
		"fits everything":        "[[cause]]\nname = \"a\"\ntitle = \"b\"\nsays = ['.*']\n",
		"grows":                  "[[cause]]\nname = \"a\"\ntitle = \"b\"\nsays = ['((a{1,90}){1,90})b']\n",
		"is long":                "[[cause]]\nname = \"a\"\ntitle = \"b\"\nsays = ['" + strings.Repeat("x", 501) + "']\n",
		"example is not known":   "[[cause]]\nname = \"a\"\ntitle = \"b\"\nsays = ['x']\nexample = [\"y\"]\n",
		"a name like a path":     "[[cause]]\nname = \"../a\"\ntitle = \"b\"\nsays = ['x']\n",
		"an unknown key":         good + "wants = 1\n",
		"more than anyone reads": "[[cause]]\nname = \"a\"\ntitle = \"" + strings.Repeat("b", 2001) + "\"\nsays = ['x']\n",
	} {
		list, found := ParseCauses(CausesPath, []byte(text))
		assert.Nil(t, list, what)
		assert.True(t, HasErrors(found), what)
		for _, f := range found {
			assert.NotZero(t, f.Line, "%s has a place", what)
			assert.NotEmpty(t, f.Fix, what)
		}
	}
	assert.False(t, IsPipelineFile(CausesPath))
}
