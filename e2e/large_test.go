package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/state"
)

// keepLarge lays a file beside the repository, as its remote would, and gives its pointer. holds is what it in fact holds.
func (r *repo) keepLarge(text, holds string) (pointer string) {
	r.t.Helper()
	sum := sha256.Sum256([]byte(text))
	id := hex.EncodeToString(sum[:])
	place := filepath.Join(r.bare, "lfs", "objects", id[:2], id[2:4], id)
	require.NoError(r.t, os.MkdirAll(filepath.Dir(place), 0o755))
	require.NoError(r.t, os.WriteFile(place, []byte(holds), 0o644))
	return fmt.Sprintf("version https://git-lfs.github.com/spec/v1\noid sha256:%s\nsize %d\n", id, len(text))
}

func TestLargeFilesAreFilledIn(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "large", map[string]string{"piston/trunk.toml": onPush("cat 'art/a wave.png' art/gone.png notes.txt; git status --short; ls -a art")})
	big := strings.Repeat("the picture of a wave\n", 100_000)
	wave := r.keepLarge(big, big)
	gone := strings.Replace(wave, "sha256:", "sha256:"+strings.Repeat("0", 8), 1)
	gone = gone[:strings.Index(gone, "\nsize")-8] + gone[strings.Index(gone, "\nsize"):]
	r.commit("Add pictures", map[string]string{".gitattributes": "*.png filter=lfs diff=lfs merge=lfs -text\n",
		"art/a wave.png": wave, "art/gone.png": gone, "notes.txt": wave})
	r.push()
	r.passes(1)
	log := r.logText(1, "main")
	assert.Equal(t, 100_000, strings.Count(log, "the picture of a wave"))
	assert.Contains(t, log, "1 of 2 large files stay pointers of Git LFS, since the remote does not serve them: art/gone.png")
	assert.Equal(t, 2, strings.Count(log, "oid sha256:"), "one that is not served, and one that no attribute speaks of")
	assert.NotContains(t, log, " M ", "to git nothing has changed")
	assert.NotContains(t, log, ".piston-", "nothing is left beside them")

	r.commit("Point to what it is not", map[string]string{"art/lie.png": r.keepLarge("a truth, 24 bytes long..", "a lie, of 24 bytes too..")})
	r.push()
	d := r.run(2, true)
	assert.Equal(t, state.Failed, d.State)
	assert.Contains(t, d.Reason, "the large file art/lie.png")
}
