package api

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatFieldsMeanIsTold(t *testing.T) {
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	for _, name := range files {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		if strings.HasSuffix(name, "_test.go") || !strings.Contains(string(text), "`json:\"") {
			continue
		}
		_, err = Source.Open(name)
		assert.NoError(t, err, "the interface's description says nothing of the fields in %s", name)
	}
}
