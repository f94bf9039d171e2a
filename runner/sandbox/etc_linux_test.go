package sandbox

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestACopyOfEtcServesTrialsForAWhile(t *testing.T) {
	m := &Machine{place: t.TempDir()}
	require.NoError(t, m.RefreshEtc())
	mark := filepath.Join(m.etcFolder(), "mark")
	require.NoError(t, os.WriteFile(mark, nil, 0o644))
	require.NoError(t, m.RefreshEtc())
	assert.FileExists(t, mark, "it is not made anew each time")
	old := time.Now().Add(-2 * etcFor)
	require.NoError(t, os.Chtimes(m.etcFolder(), old, old))
	require.NoError(t, m.RefreshEtc())
	assert.NoFileExists(t, mark, "but when it is old")
}
