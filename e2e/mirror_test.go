package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
)

// looksAtItself tells what its repository has of its own, and what it leans on.
const looksAtItself = `
[trigger.push]
[trigger.proposal]
into = ["main"]
[job.main]
%s
[[job.main.step]]
shell = "bash"
script = '''
git fsck --connectivity-only 2>&1 | grep -v notice || true
git status --short
echo "own packs: $(du -ck .git/objects/pack/*.pack 2>/dev/null | tail -1 | cut -f1)"
echo "commits: $(git rev-list --count HEAD)"
cat notes
if test -e .git/objects/info/alternates; then
    lent=.git/objects/$(cat .git/objects/info/alternates)
    echo "lent: $(ls "$lent/pack" | grep -c pack$)"
    touch "$lent/mine" 2>/dev/null && exit 3
    ls "$lent/../large" 2>/dev/null && exit 4
    mv ../lent ../taken 2>/dev/null && exit 5
fi
sha256sum art/*.png 2>/dev/null || true
exit 0
'''
`

// mirrors lists what the server's runner has of repositories.
func (s *server) mirrors(t *testing.T) (all []string) {
	t.Helper()
	place := filepath.Join(s.home, "runner")
	if text, err := os.ReadFile(filepath.Join(place, "work.folder")); err == nil {
		place = strings.TrimSpace(string(text))
	}
	all, err := filepath.Glob(filepath.Join(place, "mirrors", "*"))
	require.NoError(t, err)
	return all
}

func TestOnlyWhatIsNewIsFetched(t *testing.T) {
	t.Parallel()
	for _, history := range []string{"one", "full"} {
		t.Run(history, func(t *testing.T) {
			s := serve(t)
			noise := make([]byte, 3<<20)
			random := rand.NewChaCha8([32]byte{1})
			_, _ = random.Read(noise)
			how := ""
			if history == "full" {
				how = `history = "full"`
			}
			r := s.project(t, "leans", map[string]string{"piston/trunk.toml": fmt.Sprintf(looksAtItself, how),
				"noise": string(noise), "notes": "the first"})
			r.push()
			r.passes(1)
			log := r.logText(1, "main")
			assert.Contains(t, log, "lent: 1", "what the job has fetched is lent to it, too: it is there for the next")
			require.Len(t, s.mirrors(t), 1)

			r.commit("Change a note", map[string]string{"notes": "the second"})
			r.push()
			r.passes(2)
			log = r.logText(2, "main")
			assert.Contains(t, log, "own packs: 4\n", "of what is new")
			assert.Contains(t, log, "the second")
			assert.Contains(t, log, "lent: 2")
			want := "commits: 1\n"
			if history == "full" {
				want = "commits: 2\n"
			}
			assert.Contains(t, log, want)

			_, err := s.cl.StartRun(t.Context(), "leans", api.StartRun{Pipeline: "trunk"})
			require.NoError(t, err)
			r.passes(3)
			assert.NotContains(t, r.logText(3, "main"), "missing")

			// Somebody has had a hand in it: the job sees to it that it has what it needs.
			packs, err := filepath.Glob(filepath.Join(s.mirrors(t)[0], "objects", "pack", "*.pack"))
			require.NoError(t, err)
			for _, pack := range packs {
				text, err := os.ReadFile(pack)
				require.NoError(t, err)
				for i := 12; i < len(text); i += 7 {
					text[i] ^= 0x5a
				}
				require.NoError(t, os.Chmod(pack, 0o600))
				require.NoError(t, os.WriteFile(pack, text, 0o600))
			}
			r.commit("Change it again", map[string]string{"notes": "the third"})
			r.push()
			r.passes(4)
			log = r.logText(4, "main")
			if history == "one" { // of a whole history git itself sees that commits are missing, and fetches them
				assert.Contains(t, log, "the mirror on this machine is given up, and all is fetched")
				assert.NotContains(t, log, "lent:")
			}
			assert.Contains(t, log, "the third")
			r.commit("Change it once more", map[string]string{"notes": "the fourth"})
			r.push()
			r.passes(5)
			assert.NotContains(t, r.logText(5, "main"), "given up")
			assert.Len(t, s.mirrors(t), 1, "the bad one is gone")
		})
	}
}

func TestWhatIsFromOutsideLeansOnNothing(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "lends", map[string]string{"piston/trunk.toml": fmt.Sprintf(looksAtItself, ""), "notes": "ours",
		".gitattributes": "*.png filter=lfs\n"})
	r.commit("Add a picture", map[string]string{"art/wave.png": r.keepLarge("a picture of a wave", "a picture of a wave")})
	r.push()
	r.passes(1)
	sum := sha256.Sum256([]byte("a picture of a wave"))
	assert.Contains(t, r.logText(1, "main"), hex.EncodeToString(sum[:]))

	// What this machine has of large files it does not ask for again.
	require.NoError(t, os.RemoveAll(filepath.Join(r.bare, "lfs")))
	r.commit("Change a note", map[string]string{"notes": "ours, too"})
	r.push()
	r.passes(2)
	assert.Contains(t, r.logText(2, "main"), hex.EncodeToString(sum[:]))

	r.commit("Look around", map[string]string{"notes": "theirs"})
	head := r.git("rev-parse", "HEAD")
	r.git("push", "-q", "origin", "HEAD:refs/outside/7")
	body := api.ProposalEvent{Type: "proposal", Timestamp: time.Now().UTC(),
		Data: api.ProposalData{Proposal: "7", Target: "main", Commit: head, Ref: "refs/outside/7"}}
	key, err := s.cl.HookKey(t.Context(), "lends")
	require.NoError(t, err)
	require.Equal(t, 202, deliver(t, s, key, "proposal-7", time.Now(), []byte(asJSON(body)), false))
	r.passes(3)
	log := r.logText(3, "main")
	assert.Contains(t, log, "theirs")
	assert.NotContains(t, log, "lent:")
	assert.Contains(t, log, "1 of 1 large files stay pointers", "that this machine has it is told to nobody from outside")
}
