package letter

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestALetterSaysTheSameTwice(t *testing.T) {
	l := New(Content{Subject: "Publish 1.5?", Lines: []string{"tidewick, run 12\nasks you <b>now</b>\x1b[31m\x00"}, Action: "Answer",
		Link: "https://builds.tidewick.example/tidewick/12", Foot: "You are a keeper."})
	assert.Equal(t, "tidewick, run 12\nasks you <b>now</b>[31m\n\nAnswer:\nhttps://builds.tidewick.example/tidewick/12\n\n-- \nYou are a keeper.\n", l.Text)
	assert.Contains(t, l.HTML, "asks you &lt;b&gt;now&lt;/b&gt;")
	assert.Contains(t, l.HTML, `href="https://builds.tidewick.example/tidewick/12"`)
	assert.NotContains(t, l.HTML, "src=", "nothing is fetched")
	assert.NotContains(t, New(Content{Subject: "x"}).HTML, "<a ")
	assert.Contains(t, New(Content{Link: "javascript:alert(1)", Action: "a"}).HTML, "#ZgotmplZ")
}

func TestASubjectIsOneLine(t *testing.T) {
	assert.Equal(t, "Publish Bcc: eve@x.example", New(Content{Subject: "Publish\r\nBcc: eve@x.example"}).Subject)
	assert.Len(t, []rune(New(Content{Subject: strings.Repeat("ä", 500)}).Subject), maxSubject)
}

func TestAddresses(t *testing.T) {
	for _, ok := range []string{"ada@tidewick.example", "a.b+c@x.example", "ä@x.example"} {
		assert.NoError(t, Address(ok), ok)
	}
	for _, bad := range []string{"", "ada", "ada@", "@x", "Ada <ada@x.example>", "ada@x.example\r\nBcc: eve@x.example", "a b@x.example",
		"a\x00@x.example", "a@x.example,b@x.example", strings.Repeat("a", 250) + "@x.example"} {
		assert.Error(t, Address(bad), bad)
	}
}
