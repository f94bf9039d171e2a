package packaging

import (
	"bytes"
	"context"
	"crypto"
	"crypto/rand"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/core/sign"
	"gentlepiston.example/piston/core/sign/bundle"
)

func signer(t *testing.T) sign.Signer {
	s, err := identity.Make(identity.P256, "Tidewick", 30, time.Now())
	require.NoError(t, err)
	return s
}

const samples = "../core/appfile/testdata/"

func TestAFileThatIsThereIsNotWrittenOver(t *testing.T) {
	target, err := Look(samples + "signed.apk")
	require.NoError(t, err)
	assert.Equal(t, "net.tidewick.almanac", target.ID)
	o := Options{Signer: signer(t), Into: filepath.Join(t.TempDir(), "new", "folder"), By: "test", Beside: true}
	made, err := target.Sign(context.Background(), o)
	require.NoError(t, err)
	require.Len(t, made.Files, 2)
	before, err := os.ReadFile(made.Files[0])
	require.NoError(t, err)
	_, err = target.Sign(context.Background(), o)
	assert.ErrorIs(t, err, os.ErrExist)
	after, err := os.ReadFile(made.Files[0])
	require.NoError(t, err)
	assert.Equal(t, before, after)
}

func TestWhatFailsLeavesNothingBehind(t *testing.T) {
	target, err := Look(samples + "signed.apk")
	require.NoError(t, err)
	stopped, stop := context.WithCancel(context.Background())
	stop()
	dir := t.TempDir()
	_, err = target.Sign(stopped, Options{Signer: signer(t), Into: dir, By: "test"})
	require.ErrorIs(t, err, context.Canceled)
	ios, err := Look(samples + "Tidewick.ipa")
	require.NoError(t, err)
	_, err = ios.Sign(context.Background(), Options{Signer: signer(t), Into: dir, Now: time.Now()})
	assert.ErrorContains(t, err, "provisioning profile")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestAnIPAIsSignedAnew(t *testing.T) {
	s, now := signer(t), time.Now()
	raw, err := profile.StandIn(s, s.Leaf(), "TEAM", "net.tidewick.almanac", now, now.AddDate(1, 0, 0))
	require.NoError(t, err)
	d, err := profile.ReadAll(raw)
	require.NoError(t, err)
	target, err := Look(samples + "Tidewick.ipa")
	require.NoError(t, err)
	made, err := target.Sign(context.Background(), Options{Signer: s, Into: t.TempDir(), Now: now,
		Profiles: []*bundle.Profile{{Details: d, Raw: raw}}})
	require.NoError(t, err)
	again, err := Look(made.Files[0])
	require.NoError(t, err)
	assert.Equal(t, target.ID, again.ID)
	seen, _, err := Inspect(context.Background(), made.Files[0], Looking{})
	require.NoError(t, err)
	assert.Equal(t, identity.FingerprintsOf(s.Leaf()), seen.Signers[0].Fingerprints)
}

// runner answers the questions of the process inside, as a runner does; refuse is what it says no with.
func runner(t *testing.T, w Work, s sign.Signer, refuse string) (said []Question) {
	in, answers := io.Pipe()
	questions, out := io.Pipe()
	ended := make(chan error, 1)
	go func() {
		err := Inside(context.Background(), in, out)
		ended <- errors.Join(err, out.Close())
	}()
	to, from := json.NewEncoder(answers), json.NewDecoder(questions)
	require.NoError(t, to.Encode(w))
	for {
		var q Question
		if err := from.Decode(&q); err != nil {
			break
		}
		said = append(said, q)
		switch {
		case q.Who != nil:
			require.NoError(t, to.Encode(Answer{Certificates: string(identity.Certificates(s.Chain)), Refused: refuse}))
		case q.Sign != nil:
			signature, err := s.Key.Sign(rand.Reader, q.Sign.Digest, crypto.SHA256)
			require.NoError(t, err)
			require.NoError(t, to.Encode(Answer{Signature: signature}))
		}
	}
	require.NoError(t, <-ended)
	return said
}

func TestTheProcessInsideAsksForEachSignature(t *testing.T) {
	apk, err := os.ReadFile(samples + "signed.apk")
	require.NoError(t, err)
	t.Chdir(t.TempDir())
	require.NoError(t, os.WriteFile("tide.apk", apk, 0o600))
	s, err := identity.Make(identity.RSA3072, "Tidewick", 30, time.Now())
	require.NoError(t, err)
	said := runner(t, Work{Files: []string{"*.apk"}, Into: "out", By: "test"}, s, "")
	require.Len(t, said, 6)
	assert.Equal(t, &AskWho{"android", "net.tidewick.almanac"}, said[0].Who)
	for _, q := range said[1:4] {
		require.NotNil(t, q.Sign)
		assert.Equal(t, []any{"tide.apk", "sha256", 32}, []any{q.Sign.File, q.Sign.Hash, len(q.Sign.Digest)})
	}
	assert.Equal(t, []string{"out/tide.apk"}, said[4].Made.Files)
	assert.True(t, said[5].Done)

	said = runner(t, Work{Files: []string{"out/*"}, Look: true}, s, "")
	require.Len(t, said, 2)
	assert.Equal(t, "out/tide.apk", said[0].Seen.File)
	said = runner(t, Work{Files: []string{"*.apk"}, Into: "other"}, s, "it is not for this")
	assert.Contains(t, said[len(said)-1].Failed, "it is not for this")
	_, err = os.Stat("other/tide.apk")
	assert.ErrorIs(t, err, os.ErrNotExist)
	for says, w := range map[string]Work{"nothing matches": {Files: []string{"*.aab"}, Into: "x"},
		"none of the files is a package": {Files: []string{"note"}, Look: true}} {
		require.NoError(t, os.WriteFile("note", []byte("no package"), 0o600))
		said := runner(t, w, s, "")
		assert.Contains(t, said[len(said)-1].Failed, says)
	}
	var out bytes.Buffer
	assert.Error(t, Inside(context.Background(), strings.NewReader("no JSON\n"), &out))
}
