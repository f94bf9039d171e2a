package source

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"encoding/pem"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// landed is a repository with one commit, in a folder of its own.
type landed struct {
	t   *testing.T
	dir string
}

func (l landed) git(args ...string) string {
	l.t.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = l.dir
	cmd.Env = Environment(map[string]string{"user.name": "Ada Quill", "user.email": "ada@tidewick.example"})
	out, err := cmd.CombinedOutput()
	require.NoError(l.t, err, "%s", out)
	return strings.TrimSpace(string(out))
}

func toLandOn(t *testing.T) (landed, Repo, *Landing) {
	t.Helper()
	l := landed{t, t.TempDir()}
	l.git("init", "-q", "-b", "main")
	require.NoError(t, os.WriteFile(filepath.Join(l.dir, "VERSION"), []byte("1.4.0\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(l.dir, "[x]*"), []byte("#!/bin/sh\n"), 0o755))
	require.NoError(t, os.Symlink("VERSION", filepath.Join(l.dir, "link")))
	l.git("add", "-A")
	l.git("commit", "-q", "-m", "First")
	l.git("checkout", "-q", "--detach") // so that main may be pushed to
	r, err := Open(t.Context(), l.dir, "")
	require.NoError(t, err)
	landing, err := r.OpenLanding(t.Context(), t.TempDir(), Remote{Address: l.dir})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, landing.Close()) })
	return l, r, landing
}

var bot = Person{"Piston", "piston@tidewick.invalid"}

func TestALandingIsOneCommitOfSomeFiles(t *testing.T) {
	l, r, landing := toLandOn(t)
	ctx := t.Context()
	head := l.git("rev-parse", "main")
	commit, err := landing.Commit(ctx, head, map[string][]byte{"VERSION": []byte("1.5.0\n"), "[x]*": []byte("#!/bin/sh\n# 2\n")}, bot, "Release 1.5.0\n")
	require.NoError(t, err)
	require.NoError(t, landing.Tag(ctx, "v1.5.0", head, "a try before"))
	require.NoError(t, landing.Tag(ctx, "v1.5.0", commit, "Tidewick 1.5.0"))
	assert.Error(t, exec.Command("git", "-C", l.dir, "cat-file", "-e", commit).Run(), "the repository knows nothing of it yet")
	require.NoError(t, landing.Push(ctx, commit+":refs/heads/main", "refs/tags/v1.5.0:refs/tags/v1.5.0"))
	assert.Equal(t, commit, l.git("rev-parse", "main"))
	assert.Equal(t, commit, l.git("rev-parse", "v1.5.0^{commit}"))
	assert.Equal(t, "Piston <piston@tidewick.invalid>", l.git("log", "-1", "--format=%an <%ae>", "main"))
	assert.Equal(t, "VERSION\n[x]*", l.git("diff", "--name-only", head, commit))
	assert.Contains(t, l.git("ls-tree", commit, "[x]*"), "100755", "modes stay")

	// Who comes too late is told so, and nothing of it is there.
	late, err := r.OpenLanding(ctx, t.TempDir(), Remote{Address: l.dir})
	require.NoError(t, err)
	defer late.Close()
	other, err := late.Commit(ctx, head, map[string][]byte{"VERSION": []byte("9\n")}, bot, "x")
	require.NoError(t, err)
	assert.ErrorIs(t, late.Push(ctx, other+":refs/heads/main"), ErrMoved)
	assert.Equal(t, commit, l.git("rev-parse", "main"))
	for _, name := range []string{"link", "gone", "*"} {
		_, err := late.Commit(ctx, head, map[string][]byte{name: []byte("x")}, bot, "x")
		assert.ErrorContains(t, err, "is no plain file", name)
	}

	who, by, err := r.LastChange(ctx, "refs/heads/main", "VERSION", 1)
	require.NoError(t, err)
	assert.Equal(t, "Piston", who)
	assert.Equal(t, commit, by)
	l.git("checkout", "-q", "main")
	l.git("commit", "-q", "--allow-empty", "-m", "feat: more\n\nand why")
	messages, err := r.SinceTag(ctx, l.git("rev-parse", "main"), Since{})
	require.NoError(t, err)
	assert.Equal(t, []string{"feat: more\n\nand why\n"}, messages)
	messages, err = r.SinceTag(ctx, head, Since{})
	require.NoError(t, err)
	assert.Equal(t, []string{"First\n"}, messages, "without a tag, all")
}

func TestSinceWhichTagARelease(t *testing.T) {
	l, r, _ := toLandOn(t)
	l.git("checkout", "-q", "main")
	change := func(message, tag string) (commit string) {
		l.git("commit", "-q", "--allow-empty", "-m", message)
		if tag != "" {
			l.git("tag", tag)
		}
		return l.git("rev-parse", "HEAD")
	}
	change("one", "v1.0.0")
	two := change("two", "v1.1.0-rc.1")
	change("three", "v1.1.0")
	for _, c := range []struct {
		since Since
		want  string
	}{
		{Since{}, ""}, {Since{Not: "v1.1.0"}, "three"}, {Since{Not: "v1.1.0", Final: true}, "three two"},
		{Since{Not: "v1.1.0", Final: true, And: two}, "three"},
	} {
		messages, err := r.SinceTag(t.Context(), "main", c.since)
		require.NoError(t, err)
		assert.Equal(t, c.want, strings.Join(strings.Fields(strings.Join(messages, " ")), " "), "%+v", c.since)
	}
	messages, err := r.SinceTag(t.Context(), "main", Since{Not: "v1.1.0", And: strings.Repeat("7", 40)})
	require.NoError(t, err, "a commit that is gone")
	assert.Equal(t, []string{"three\n"}, messages)
	l.git("tag", "-d", "v1.0.0", "v1.1.0-rc.1", "v1.1.0")
	messages, err = r.SinceTag(t.Context(), "main", Since{And: two})
	require.NoError(t, err)
	assert.Equal(t, []string{"three\n"}, messages, "a release without a tag")
}

func TestWhatTheOtherSideOfALandingSays(t *testing.T) {
	l, _, landing := toLandOn(t)
	hook := filepath.Join(l.dir, ".git", "hooks", "pre-receive")
	require.NoError(t, os.MkdirAll(filepath.Dir(hook), 0o755))
	require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\necho 'main is shut: ask the harbour master'\nexit 1\n"), 0o755))
	head := l.git("rev-parse", "main")
	commit, err := landing.Commit(t.Context(), head, map[string][]byte{"VERSION": []byte("2\n")}, bot, "x")
	require.NoError(t, err)
	var refused *Refused
	require.ErrorAs(t, landing.Push(t.Context(), commit+":refs/heads/main"), &refused)
	assert.Contains(t, refused.Said, "main is shut: ask the harbour master")
	assert.Equal(t, head, l.git("rev-parse", "main"))
}

func TestWhereNothingLands(t *testing.T) {
	l, r, _ := toLandOn(t)
	for _, remote := range []string{"http://tidewick.example/a.git", "http://127.0.0.1.tidewick.example/a.git", "git://tidewick.example/a", "ext::sh -c x", "file:///srv/a", "a"} {
		_, err := r.OpenLanding(t.Context(), t.TempDir(), Remote{Address: remote})
		assert.ErrorContains(t, err, "is neither", remote)
	}
	// A remote that takes the connection and never answers.
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer silent.Close()
	landing, err := r.OpenLanding(t.Context(), t.TempDir(), Remote{Address: "https://" + silent.Addr().String() + "/a.git", Token: "a-token"})
	require.NoError(t, err)
	defer landing.Close()
	commit, err := landing.Commit(t.Context(), l.git("rev-parse", "main"), nil, bot, "x")
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 500*time.Millisecond)
	defer cancel()
	began := time.Now()
	assert.ErrorContains(t, landing.Push(ctx, commit+":refs/heads/main"), "did not take the push in time")
	assert.Less(t, time.Since(began), 20*time.Second)
}

func TestCommitsAreSignedByAnSSHKey(t *testing.T) {
	_, edKey, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	for name, key := range map[string]any{"ed25519": edKey, "rsa": rsaKey} {
		l, _, landing := toLandOn(t)
		block, err := ssh.MarshalPrivateKey(key, "")
		require.NoError(t, err)
		text := pem.EncodeToMemory(block)
		require.NoError(t, landing.SignBy(text))
		commit, err := landing.Commit(t.Context(), l.git("rev-parse", "main"), map[string][]byte{"VERSION": []byte("1.5.0\n")}, bot, "Release\n\nPiston-Run-Of: a/1\n")
		require.NoError(t, err)
		require.NoError(t, landing.Tag(t.Context(), "v1.5.0", commit, "Tidewick 1.5.0\n\n# as it stands\n"))
		require.NoError(t, landing.Push(t.Context(), commit+":refs/heads/main", "refs/tags/v1.5.0:refs/tags/v1.5.0"))
		signer, err := ssh.ParsePrivateKey(text)
		require.NoError(t, err)
		allowed := filepath.Join(t.TempDir(), "allowed")
		require.NoError(t, os.WriteFile(allowed, append([]byte(bot.Email+" "), ssh.MarshalAuthorizedKey(signer.PublicKey())...), 0o600))
		out := l.git("-c", "gpg.ssh.allowedSignersFile="+allowed, "verify-commit", "--verbose", commit)
		assert.Contains(t, out, "Good \"git\" signature for "+bot.Email, name)
		out = l.git("-c", "gpg.ssh.allowedSignersFile="+allowed, "verify-tag", "--verbose", "v1.5.0")
		assert.Contains(t, out, "Good \"git\" signature for "+bot.Email, name)
		assert.Contains(t, out, "\n# as it stands")
		assert.Equal(t, "Release\n\nPiston-Run-Of: a/1", l.git("log", "-1", "--format=%B", commit))
	}
	_, _, landing := toLandOn(t)
	assert.ErrorContains(t, landing.SignBy([]byte("no key")), "no private SSH key")
}
