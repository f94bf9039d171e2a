package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/record"
)

// shop is a stand-in of a store, as a process of its own.
type shop struct {
	args, fault []string
	home, at    string
	secret      string
	cmd         *exec.Cmd
}

// shopOf starts one with a folder of its own.
func shopOf(t *testing.T, args ...string) *shop {
	t.Helper()
	on, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &shop{args: args, home: t.TempDir(), at: on.Addr().String()}
	require.NoError(t, on.Close())
	s.start(t)
	t.Cleanup(s.kill)
	return s
}

func (s *shop) start(t *testing.T) {
	t.Helper()
	s.cmd = exec.Command(binary(), append([]string{"stand-in", "store", "--json", "--home", s.home, "--listen", s.at,
		"--target", "30", "--takes", "apk"}, s.args...)...)
	out, err := s.cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, s.cmd.Start())
	var says struct{ Secret string }
	require.NoError(t, json.NewDecoder(out).Decode(&says))
	s.secret = says.Secret
	if len(s.fault) > 0 {
		s.form(t, "/faults", s.fault...)
	}
}

func (s *shop) kill() {
	_ = s.cmd.Process.Kill()
	_ = s.cmd.Wait()
}

// form fills in a form of its page; one that is being started answers in a moment.
func (s *shop) form(t *testing.T, path string, fields ...string) {
	t.Helper()
	values := url.Values{}
	for i := 0; i < len(fields); i += 2 {
		values.Set(fields[i], fields[i+1])
	}
	require.Eventually(t, func() bool {
		res, err := http.PostForm("http://"+s.at+path, values)
		if err == nil {
			_ = res.Body.Close()
		}
		return err == nil && res.StatusCode == http.StatusOK
	}, 20*time.Second, 50*time.Millisecond)
}

// keptOffer is what a stand-in keeps of an offer.
type keptOffer struct {
	ID       string
	State    string
	Asked    bool
	Answered string
	Uploads  []struct{ URL string }
}

// offers are those that it has, as its folder says.
func (s *shop) offers(t *testing.T) []keptOffer {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(s.home, "shop.json"))
	require.NoError(t, err)
	var kept struct{ Offers []keptOffer }
	require.NoError(t, json.Unmarshal(text, &kept))
	return kept.Offers
}

// Server, store and database are killed while a release is on its way, and the store answers wrongly, late, or half:
// it gets there once, with the right bytes, and what is told of it is never more than is true.
func TestKillsOnTheWayToStores(t *testing.T) {
	for kind, args := range map[string][]string{
		"where a machine looks": {"--processing", "300ms", "--review", "300ms"},
		"where people look":     {"--people", "--processing", "300ms", "--review", "500ms"},
	} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			killsOnTheWay(t, args)
		})
	}
}

func killsOnTheWay(t *testing.T, args []string) {
	s := serve(t)
	s.cl.Patience = 2 * time.Minute
	size := 30_000_000
	if kills(t) >= 50 {
		size = 200_000_000
	}
	noise := make([]byte, size)
	rand.NewChaCha8([32]byte{55}).Read(noise)
	r := s.project(t, "goes", map[string]string{"tide.apk": apkWith(t, "", noise), "VERSION": "1.2\n",
		"piston/app.toml": tideApp, "piston/trunk.toml": strings.Split(fmt.Sprintf(out, 1), "[job.go]")[0]})
	text, code := s.piston(t, "", "identity", "make", "goes", "play", "--platform", "android", "--key", "p256")
	require.Zero(t, code, text)
	r.push()
	r.passes(1)
	made, err := s.cl.MakeRelease(t.Context(), "goes", api.NewRelease{Run: 1})
	require.NoError(t, err)
	path := api.ReleasePath{App: made.App, Name: made.Name}
	seed := uint64(time.Now().UnixNano())
	random := rand.New(rand.NewPCG(seed, 0))
	t.Logf("seed %d, %d bytes", seed, made.Size)
	seen := map[string]int{}
	n := kills(t)
	if n < 50 {
		n = 3 // each costs seconds
	}
	for killed, i := 0, 0; killed < n; i++ {
		sh := shopOf(t, args...)
		sh.form(t, "/entries", "app", "net.tidewick.tide", "policy", "x", "countries", "all", "age", "3", "pictures", "3",
			"support", "x", "new", "Tides", "category", "the sea")
		sh.fault = []string{"errors", "6", "busy", "4", "cut", "20", "late", "2"}
		sh.form(t, "/faults", sh.fault...)
		name := fmt.Sprintf("store-%d", i)
		_, err := s.cl.SetOutlet(t.Context(), "goes", name, api.NewOutlet{Kind: "store", URL: "http://" + sh.at,
			Client: "piston", Secret: sh.secret})
		require.NoError(t, err)
		p, err := s.cl.Publish(t.Context(), "goes", path, api.NewPublication{Outlet: name})
		require.NoError(t, err)
		for range 6 {
			time.Sleep(time.Duration(random.IntN(2500)) * time.Millisecond)
			what := s.killOne(t, sh, random)
			killed++
			now := sh.truth(t, s, p.ID)
			seen[what+" "+string(now)]++ // where it stood then
			if now == publication.Out {
				break
			}
		}
		require.Eventually(t, func() bool { return sh.truth(t, s, p.ID) == publication.Out }, 3*time.Minute,
			300*time.Millisecond, "it does not get there")
		offers := sh.offers(t)
		require.Len(t, offers, 1, "it was offered once")
		require.Len(t, offers[0].Uploads, 1)
		bytes, err := os.ReadFile(filepath.Join(sh.home, "packages", filepath.Base(offers[0].Uploads[0].URL)))
		require.NoError(t, err)
		sum := sha256.Sum256(bytes)
		assert.Equal(t, made.Contents[0].SHA256, hex.EncodeToString(sum[:]))
		sh.kill()
		require.NoError(t, os.RemoveAll(sh.home))
	}
	t.Logf("they were killed when it stood at %v", seen)
}

// killOne kills the server, the store or the database, and starts it again.
func (s *server) killOne(t *testing.T, sh *shop, random *rand.Rand) string {
	t.Helper()
	what := []string{"server", "store", "database"}[random.IntN(3)]
	switch what {
	case "server":
		_ = s.cmd.Process.Kill()
		_ = s.cmd.Wait()
		s.start(t)
	case "store":
		sh.kill()
		sh.start(t)
	case "database":
		_ = syscall.Kill(s.postgresPid(t), syscall.SIGKILL)
	}
	return what
}

// order is that in which a publication goes through its states.
var order = []publication.State{publication.Prepared, publication.Sending, publication.Processing, publication.InReview,
	publication.Accepted, publication.Out}

// truth tells how a publication stands, which must not be further than it is at the store. What the store asks is
// answered.
func (sh *shop) truth(t *testing.T, s *server, id record.PublicationID) publication.State {
	t.Helper()
	told := s.publication(t, "goes", id).State
	offers := sh.offers(t)
	stands := publication.Prepared
	for _, o := range offers {
		stands = publication.State(o.State)
		if o.State == "awaited" {
			stands = publication.Sending
		}
		if o.Asked && o.Answered == "" {
			sh.form(t, "/answers", "offer", o.ID, "encryption", "no")
		}
	}
	assert.Contains(t, order, told)
	if told != publication.Sending { // the store may not have been asked yet
		assert.LessOrEqual(t, slices.Index(order, told), slices.Index(order, stands), "told %s, and it is %s", told, stands)
	}
	return told
}
