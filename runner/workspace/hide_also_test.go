package workspace

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/mask"
)

// What comes to a job later is hidden beside what it had and what its steps have declared, and all is wiped together.
func TestWhatComesLaterIsHiddenToo(t *testing.T) {
	file := filepath.Join(t.TempDir(), HideFile)
	first, later := []byte("the-first-secret"), []byte("the-later-secret")
	h := NewHiding()
	require.NoError(t, h.begin([]mask.Value{{Name: "A", Text: first}}, file))
	require.NoError(t, os.WriteFile(file, []byte("declared-by-a-step\n"), 0o600))
	require.True(t, h.Look(func(string, ...any) {}))
	h.Also([]mask.Value{{Name: "B", Text: later}})
	assert.Equal(t, "‹hidden› ‹hidden› ‹hidden›", h.String("the-first-secret the-later-secret declared-by-a-step"))
	assert.False(t, h.nothing())
	h.forget()
	assert.Equal(t, "the-first-secret", h.String("the-first-secret"))
	assert.Equal(t, make([]byte, len(first)), first)
	assert.Equal(t, make([]byte, len(later)), later)
}
