package runner

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestACopyOfEtcServesTrialsForAWhile(t *testing.T) {
	c := Config{Name: "here", Home: t.TempDir(), Isolation: Bubblewrap}
	r, err := NewTrial(c)
	require.NoError(t, err)
	mark := filepath.Join(r.etcFolder(), "mark")
	require.NoError(t, os.WriteFile(mark, nil, 0o644))
	_, err = NewTrial(c)
	require.NoError(t, err)
	assert.FileExists(t, mark, "it is not made anew each time")
	old := time.Now().Add(-2 * etcFor)
	require.NoError(t, os.Chtimes(r.etcFolder(), old, old))
	_, err = NewTrial(c)
	require.NoError(t, err)
	assert.NoFileExists(t, mark, "but when it is old")
}
