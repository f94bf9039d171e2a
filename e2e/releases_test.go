package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// out is a pipeline that signs, judges, asks, releases and publishes.
const out = `
version.file = "VERSION"
[trigger.push]
[[job.main.step]]
sign = { files = ["*.apk"], into = "out" }
[[job.main.step]]
checklist = { files = ["out/*"] }
[job.main.keep.packages]
files = ["out/*"]
[job.go]
after = ["main"]
ask = { who = ["keeper"], count = %d, question = "Publish ${PISTON_VERSION_NAME}?", within = "3d" }
[job.out]
after = ["go"]
[[job.out.step]]
release = {}
[[job.out.step]]
publish = { to = "depot", channel = "early" }
`

const tideApp = "[app.tide]\nandroid = \"net.tidewick.tide\"\n"

// person adds a keeper, and gives a client that comes as them.
func (s *server) person(t *testing.T, project, name string) *client.Client {
	t.Helper()
	made, err := s.cl.AddPerson(t.Context(), api.NewPerson{Name: name})
	require.NoError(t, err)
	require.NoError(t, s.cl.Grant(t.Context(), api.Grant{Project: project, Person: name, Role: access.Keeper}))
	issued, err := s.cl.SignIn(t.Context(), api.Credentials{Name: name, Password: made.Password}, "test")
	require.NoError(t, err)
	return client.New(s.cl.Address, issued.Secret)
}

// sums are the hashes of all files below a folder, by their paths.
func sums(t *testing.T, dir string) map[string]string {
	t.Helper()
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		sum := sha256.Sum256(text)
		name, _ := filepath.Rel(dir, path)
		all[name] = hex.EncodeToString(sum[:])
		return err
	}))
	return all
}

func TestAReleaseGoesOutOnceTwoHaveAgreed(t *testing.T) {
	t.Parallel()
	s := serve(t)
	r := s.project(t, "goes", map[string]string{"tide.apk": apkOf(t, "", 60_000), "VERSION": "1.2\n", "piston/app.toml": tideApp,
		"piston/trunk.toml": fmt.Sprintf(out, 2)})
	text, code := s.piston(t, "", "identity", "make", "goes", "play", "--platform", "android", "--key", "p256")
	require.Zero(t, code, text)
	text, code = s.piston(t, "", "outlet", "set", "goes", "depot")
	require.Zero(t, code, text)
	ben := s.person(t, "goes", "ben")
	r.push()
	d := r.await(1, time.Minute, func(d api.RunDetail) bool { return d.State == state.Waiting || d.State.Over() })
	require.Equal(t, state.Waiting, d.State, d.Reason)

	text, code = s.piston(t, "", "gates", "--mine")
	require.Zero(t, code, text)
	assert.Contains(t, text, "Publish 1.2?")
	text, code = s.piston(t, "", "answer", "goes", "1", "maybe")
	assert.Equal(t, 2, code, text)
	text, code = s.piston(t, "", "answer", "goes", "1", "yes", "--comment", "looks well")
	require.Zero(t, code, text)
	assert.Contains(t, text, "1 of 2 said yes")
	_, code = s.piston(t, "", "answer", "goes", "1", "yes")
	assert.Equal(t, 3, code, "one is not two")

	// It waits through a crash of the server, and of the machine's runner.
	_ = s.cmd.Process.Kill()
	_ = s.cmd.Wait()
	s.start(t)
	d = r.run(1, false)
	assert.Equal(t, state.Waiting, d.State)
	_, err := ben.Answer(t.Context(), "goes", d.Jobs[1].Gate.ID, api.GateAnswer{Yes: true})
	require.NoError(t, err)
	d = r.passes(1)
	assert.Equal(t, "the service", d.Jobs[2].Runner)

	dir := filepath.Join(s.home, "outlets", "goes", "depot", "early", "tide")
	text, code = s.piston(t, "", "release", "show", "goes", "1.2", "--json")
	require.Zero(t, code, text)
	one, err := s.cl.Release(t.Context(), "goes", api.ReleasePath{App: "tide", Name: "1.2"})
	require.NoError(t, err)
	assert.Equal(t, one.Contents[0].SHA256, sums(t, dir)["1.2/tide.apk"])
	text, code = s.piston(t, "", "publication", "list", "goes")
	require.Zero(t, code, text)
	assert.Contains(t, text, "out, 100 %")

	// The next version of the same name is refused before anything is sent.
	r.commit("Change it", map[string]string{"tide.apk": apkOf(t, "", 60_001)})
	r.push()
	d = r.await(2, time.Minute, func(d api.RunDetail) bool { return d.State == state.Waiting || d.State.Over() })
	require.Equal(t, state.Waiting, d.State, d.Reason)
	for _, cl := range []*client.Client{s.cl, ben} {
		_, err = cl.Answer(t.Context(), "goes", d.Jobs[1].Gate.ID, api.GateAnswer{Yes: true})
		require.NoError(t, err)
	}
	d = r.run(2, true)
	assert.Equal(t, state.Failed, d.State)
	assert.Contains(t, d.Failure.Reason, "is released already, of run 1")

	// A mistake in the outlet's name stops the pipeline when it is planned.
	r.commit("Elsewhere", map[string]string{"piston/trunk.toml": strings.Replace(fmt.Sprintf(out, 1), "depot", "depto", 1)})
	r.push()
	d = r.run(3, true)
	assert.Equal(t, state.Failed, d.State)
	assert.Contains(t, d.Reason, `no outlet "depto"`)
}

// Servers and databases are killed while releases are on their way: each gets there once, whole, and nothing else is left there.
func TestKillsOfPublications(t *testing.T) {
	t.Parallel()
	s := serve(t)
	s.cl.Patience = 2 * time.Minute
	size := 30_000_000
	if kills(t) >= 50 {
		size = 200_000_000
	}
	noise := make([]byte, size)
	rand.NewChaCha8([32]byte{54}).Read(noise)
	r := s.project(t, "goes", map[string]string{"tide.apk": apkWith(t, "", noise), "VERSION": "1.2\n", "piston/app.toml": tideApp,
		"piston/trunk.toml": strings.Split(fmt.Sprintf(out, 1), "[job.go]")[0]})
	text, code := s.piston(t, "", "identity", "make", "goes", "play", "--platform", "android", "--key", "p256")
	require.Zero(t, code, text)
	_, err := s.cl.SetOutlet(t.Context(), "goes", "depot", api.NewOutlet{Kind: "folder"})
	require.NoError(t, err)
	r.push()
	r.passes(1)
	made, err := s.cl.MakeRelease(t.Context(), "goes", api.NewRelease{Run: 1})
	require.NoError(t, err)
	at := api.ReleasePath{App: made.App, Name: made.Name}
	seed := uint64(time.Now().UnixNano())
	random := rand.New(rand.NewPCG(seed, 0))
	t.Logf("seed %d, %d bytes", seed, made.Size)
	seen := map[string]int{}
	ids := map[record.PublicationID]bool{}
	n := max(4, kills(t)/2)
	for i := range n {
		channel := fmt.Sprintf("c%d", i)
		p, err := s.cl.Publish(t.Context(), "goes", at, api.NewPublication{Outlet: "depot", Channel: channel})
		require.NoError(t, err)
		ids[p.ID] = true
		if random.IntN(3) == 0 {
			time.Sleep(time.Duration(random.IntN(1800)) * time.Millisecond)
		} else { // in the midst of it
			for end := time.Now().Add(5 * time.Second); time.Now().Before(end); {
				if s.publication(t, "goes", p.ID).State != publication.Prepared {
					break
				}
				time.Sleep(20 * time.Millisecond)
			}
			time.Sleep(time.Duration(random.IntN(1+size/2_000_000)) * time.Millisecond)
		}
		what := "server"
		if random.IntN(3) == 0 {
			what = "database"
			_ = syscall.Kill(s.postgresPid(t), syscall.SIGKILL)
		} else {
			_ = s.cmd.Process.Kill()
			_ = s.cmd.Wait()
			s.start(t)
		}
		seen[what+" "+string(s.publication(t, "goes", p.ID).State)]++ // where it stood then
		require.Eventually(t, func() bool { return s.publication(t, "goes", p.ID).State == publication.Out }, 90*time.Second,
			100*time.Millisecond, "it does not get there")
		files := sums(t, filepath.Join(s.home, "outlets", "goes", "depot", channel))
		assert.Equal(t, made.Contents[0].SHA256, files["tide/1.2/tide.apk"])
		assert.Len(t, files, 3, "the package, and what is said of it twice: %v", files)
	}
	page, err := s.cl.Publications(t.Context(), "goes", api.PublicationFilter{Limit: 200})
	require.NoError(t, err)
	assert.Len(t, page.Publications, len(ids), "each is there once")
	t.Logf("%d kills; they stood at %v", n, seen)
}

// publication finds one of a project.
func (s *server) publication(t *testing.T, project string, id record.PublicationID) api.Publication {
	t.Helper()
	page, err := s.cl.Publications(t.Context(), project, api.PublicationFilter{Limit: 1, Before: id + 1})
	require.NoError(t, err)
	require.Len(t, page.Publications, 1)
	return page.Publications[0]
}
