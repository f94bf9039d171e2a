package check

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatLooksLikeASecret(t *testing.T) {
	const key = "aZ3kQ9x1LmT7vB2nR5yW"
	for text, want := range map[string]bool{
		`password = "` + key + `"`:                   true,
		`  "apiKey": '` + key + `',`:                 true,
		`env["ACCESS_KEY"] = "` + key + `"`:          true,
		`x("` + key + `")`:                           false,
		`token = "` + key:                            false,
		`token = ` + key:                             false,
		`checksum = "` + key + `"`:                   false,
		`token = "` + key[:12] + `"`:                 false,
		`token = "` + strings.Repeat("a1", 10) + `"`: false,
		`'it''s a token: ''' + "password"`:           false,
		"token = \"\n" + key + `"`:                   false,
	} {
		f, found := leaked("app/a.kt", "first\n"+text+"\n")
		assert.Equal(t, want, found, text)
		if found {
			assert.Equal(t, 2, f.Line)
		}
	}
}
