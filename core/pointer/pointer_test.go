package pointer

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestParse(t *testing.T) {
	id := strings.Repeat("0a", 32)
	text := "version https://git-lfs.github.com/spec/v1\noid sha256:" + id + "\nsize 12345\n"
	p, ok := Parse(text)
	assert.True(t, ok)
	assert.Equal(t, Pointer{id, 12345}, p)
	for name, bad := range map[string]string{
		"nothing":            "",
		"another text":       "oid sha256:" + id + "\nsize 1\n",
		"no id":              "version https://git-lfs.github.com/spec/v1\nsize 1\n",
		"a short id":         strings.Replace(text, id, id[2:], 1),
		"an id that is none": strings.Replace(text, id, strings.Repeat("zz", 32), 1),
		"capitals":           strings.Replace(text, id, strings.ToUpper(id), 1),
		"a path as an id":    strings.Replace(text, id, "../../../../etc/passwd"+id[22:], 1),
		"another hash":       strings.Replace(text, "sha256", "sha1", 1),
		"a size below zero":  strings.Replace(text, "12345", "-1", 1),
		"a size of words":    strings.Replace(text, "12345", "many", 1),
		"an extension":       strings.Replace(text, "oid", "ext-0-x sha256:"+id+"\noid", 1),
		"too long":           text + strings.Repeat("\n", Max),
	} {
		_, ok := Parse(bad)
		assert.False(t, ok, name)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("version https://git-lfs.github.com/spec/v1\noid sha256:" + strings.Repeat("0a", 32) + "\nsize 12345\n")
	f.Fuzz(func(t *testing.T, text string) {
		p, ok := Parse(text)
		assert.Equal(t, ok, IsID(p.ID))
		assert.GreaterOrEqual(t, p.Size, int64(0))
	})
}
