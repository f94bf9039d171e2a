package cli

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAnActInWords(t *testing.T) {
	for _, c := range []struct{ before, after, want string }{
		{"", `{"pipeline":"trunk","tag":"","branch":"main","inputs":{},"commit":"` + strings.Repeat("a", 40) + `"}`, "branch main, commit aaaaaaa, pipeline trunk"},
		{`{"reason":"the depot is moved"}`, `{"reason":""}`, "reason the depot is moved → nothing"},
		{`{"at_once":0}`, `{"at_once":4}`, "at_once 0 → at_once 4"},
		{`["a"]`, `["a","b"]`, "a → a, b"},
		{`{"scope":{"tags":["v*"]},"expires":null}`, `{"scope":{}}`, "scope tags v* → nothing"},
		{"", `{"note":"Opens the depot of stations","expires":"2027-02-08T00:00:00Z","scope":{"tags":["v*"]}}`, "scope tags v*, expires 2027-02-08, note Opens the depot of stations"},
		{`{"size":1048576}`, "", "size 1048576 → nothing"},
		{"", "", ""},
	} {
		assert.Equal(t, c.want, changeText([]byte(c.before), []byte(c.after)))
	}
}
