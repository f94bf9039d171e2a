package service

import (
	"bytes"
	"context"
	"crypto"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/json"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
)

const signs = "supersede = \"none\"\n[[job.a.step]]\nscript = \"true\"\n[[job.a.step]]\n" +
	"sign = { files = [\"*.apk\"], into = \"out\" }\n"

// signing starts a run of a pipeline, and gives its running attempt.
func signing(t *testing.T, s *Service, pipeline string) record.AttemptID {
	t.Helper()
	_, err := s.Intake.StartRun(asItself(t), "app", "ada", api.StartRun{Pipeline: pipeline})
	require.NoError(t, err)
	w, _ := claim(t, s)
	require.NotNil(t, w)
	return w.Attempt
}

func madeKey(t *testing.T, s *Service, name, platform string, in *api.IdentitySettings) api.Identity {
	t.Helper()
	i, err := s.Identities.SetIdentity(asItself(t), "app", "ada", name, api.NewIdentity{Platform: platform, Settings: in,
		Make: &api.MakeKey{Algorithm: identity.RSA3072, Name: "Tidewick " + name, Years: 30}})
	require.NoError(t, err)
	return i
}

func asking(platform, app string) api.IdentityRequest {
	return api.IdentityRequest{Step: 1, Platform: platform, App: app}
}

func toSign(i api.Identity, app string) api.SignatureRequest {
	sum := sha256.Sum256([]byte(app))
	return api.SignatureRequest{IdentityRequest: asking(i.Platform, app), Identity: i.Name, Revision: i.Revision,
		File: app + ".apk", Hash: "sha256", Digest: sum[:]}
}

func TestASignatureIsGivenToAStepThatSigns(t *testing.T) {
	s, r := openWithRepository(t)
	r.commit(map[string]string{"piston/p.toml": signs})
	attempt := signing(t, s, "p")
	i := madeKey(t, s, "play", "android", nil)
	by, err := s.Identities.IdentityFor(asItself(t), attempt, asking("android", "net.tide"))
	require.NoError(t, err)
	assert.Equal(t, "play", by.Name)
	made, err := s.Identities.Sign(asItself(t), attempt, toSign(i, "net.tide"))
	require.NoError(t, err)
	chain, err := identity.ReadCertificates([]byte(by.Certificates))
	require.NoError(t, err)
	sum := sha256.Sum256([]byte("net.tide"))
	assert.NoError(t, rsa.VerifyPKCS1v15(chain[0].PublicKey.(*rsa.PublicKey), crypto.SHA256, sum[:], made.Signature))

	page, err := s.Identities.Signatures(asItself(t), "app", api.SignatureFilter{Limit: 10})
	require.NoError(t, err)
	require.Len(t, page.Signatures, 1)
	g := page.Signatures[0]
	assert.Equal(t, []any{"play", 1, i.Fingerprints.SHA256, "net.tide", "net.tide.apk", record.RunNumber(1), "p", "main"},
		[]any{g.Identity, g.Revision, g.Fingerprint, g.App, g.File, g.Run, g.Pipeline, g.Branch})
}

func TestWhatMayNotBeSignedIsRefused(t *testing.T) {
	s, r := openWithRepository(t)
	r.commit(map[string]string{"piston/p.toml": signs, "piston/q.toml": signs,
		"piston/named.toml": "[[job.a.step]]\nscript = \"true\"\n[[job.a.step]]\n" +
			"sign = { files = [\"*\"], into = \"out\", identity = \"other\" }\n"})
	ctx := asItself(t)
	attempt, elsewhere, named := signing(t, s, "p"), signing(t, s, "q"), signing(t, s, "named")
	i := madeKey(t, s, "play", "android", &api.IdentitySettings{Apps: &[]string{"net.tide"},
		Scope: &access.Scope{Pipelines: []string{"p", "named"}}})
	good := toSign(i, "net.tide")
	change := func(do func(in *api.SignatureRequest)) api.SignatureRequest {
		in := good
		do(&in)
		return in
	}
	for says, c := range map[string]struct {
		attempt record.AttemptID
		in      api.SignatureRequest
	}{
		"step 1 of the job signs nothing": {attempt, change(func(in *api.SignatureRequest) { in.Step = 0 })},
		"step 8 of the job signs nothing": {attempt, change(func(in *api.SignatureRequest) { in.Step = 7 })},
		"it is for net.tide only":         {attempt, change(func(in *api.SignatureRequest) { in.App = "net.other" })},
		"it is for android, and this is":  {attempt, change(func(in *api.SignatureRequest) { in.Platform = "ios" })},
		"has a new key":                   {attempt, change(func(in *api.SignatureRequest) { in.Revision = 2 })},
		"digest of 32 bytes":              {attempt, change(func(in *api.SignatureRequest) { in.Hash = "sha1" })},
		"identity none of app":            {attempt, change(func(in *api.SignatureRequest) { in.Identity = "none" })},
		"it is for pipelines p, named":    {elsewhere, good},
		"the step signs with other":       {named, good},
		"attempt 99999":                   {99999, good},
	} {
		_, err := s.Identities.Sign(ctx, c.attempt, c.in)
		assert.ErrorContains(t, err, says)
	}
	_, err := s.Identities.IdentityFor(ctx, named, asking("android", "net.tide"))
	assert.ErrorContains(t, err, "there is no identity other")
	_, err = s.Identities.IdentityFor(ctx, elsewhere, asking("android", "net.tide"))
	assert.ErrorContains(t, err, "no identity may sign net.tide: play: it is for pipelines")
	madeKey(t, s, "second", "android", nil)
	_, err = s.Identities.IdentityFor(ctx, attempt, asking("android", "net.tide"))
	assert.ErrorContains(t, err, "several identities fit net.tide: play, second")

	// Another project's attempt finds nothing of this one's.
	addProject(t, s, "tides")
	_, err = s.Identities.Identity(ctx, "tides", "play")
	assert.ErrorIs(t, err, ground.ErrNotFound)

	require.NoError(t, s.Work.FinishAttempt(ctx, attempt, api.Finish{State: state.Failed, At: time.Now().UnixMilli()}))
	_, err = s.Identities.Sign(ctx, attempt, good)
	assert.ErrorIs(t, err, ground.ErrGone, "an attempt that is over signs nothing more")
	page, err := s.Identities.Signatures(ctx, "app", api.SignatureFilter{Limit: 10})
	require.NoError(t, err)
	assert.Empty(t, page.Signatures)
}

func TestAnAppStaysWithItsCertificateUnlessAKeeperSaysOtherwise(t *testing.T) {
	s, r := openWithRepository(t)
	r.commit(map[string]string{"piston/p.toml": signs})
	ctx := asItself(t)
	attempt := signing(t, s, "p")
	first := madeKey(t, s, "first", "android", nil)
	_, err := s.Identities.Sign(ctx, attempt, toSign(first, "net.tide"))
	require.NoError(t, err)
	second := madeKey(t, s, "second", "android", nil)
	_, err = s.Identities.Sign(ctx, attempt, toSign(second, "net.tide"))
	require.ErrorContains(t, err, "was signed by another certificate until now: SHA-256 "+first.Fingerprints.SHA256)
	assert.ErrorContains(t, err, "piston identity allow app net.tide "+second.Fingerprints.SHA256)
	assert.ErrorContains(t, s.Identities.AllowCertificate(ctx, "app", api.AllowCertificate{Platform: "ios",
		App: "net.tide", Fingerprint: second.Fingerprints.SHA256}), "net.tide")
	require.NoError(t, s.Identities.AllowCertificate(ctx, "app", api.AllowCertificate{Platform: "android", App: "net.tide",
		Fingerprint: second.Fingerprints.SHA256}))
	_, err = s.Identities.Sign(ctx, attempt, toSign(first, "net.tide"))
	require.NoError(t, err, "until the other signs, the one of before may")
	_, err = s.Identities.Sign(ctx, attempt, toSign(second, "net.tide"))
	require.NoError(t, err)
	_, err = s.Identities.Sign(ctx, attempt, toSign(first, "net.tide"))
	assert.ErrorContains(t, err, "another certificate until now")
	list, err := s.Identities.AppCertificates(ctx, "app")
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, second.Fingerprints.SHA256, list[0].Fingerprint)
	assert.Empty(t, list[0].Next)
}

func TestTwoFirstSignaturesAgreeOnOneCertificate(t *testing.T) {
	s, r := openWithRepository(t)
	r.commit(map[string]string{"piston/p.toml": signs})
	attempts := []record.AttemptID{signing(t, s, "p"), signing(t, s, "p")}
	keys := []api.Identity{madeKey(t, s, "first", "android", nil), madeKey(t, s, "second", "android", nil)}
	var all sync.WaitGroup
	var mu sync.Mutex
	by := map[string]int{}
	for n := range 40 {
		all.Go(func() {
			if _, err := s.Identities.Sign(asItself(t), attempts[n%2], toSign(keys[n%2], "net.tide")); err == nil {
				mu.Lock()
				by[keys[n%2].Name]++
				mu.Unlock()
			}
		})
	}
	all.Wait()
	assert.Len(t, by, 1, "whoever was first, the other is refused: %v", by)
	page, err := s.Identities.Signatures(asItself(t), "app", api.SignatureFilter{Limit: 100})
	require.NoError(t, err)
	assert.Len(t, page.Signatures, 20, "each that was given is written down, and no other")
}

func TestAnIdentitysLife(t *testing.T) {
	s, _ := openWithRepository(t)
	ctx := asItself(t)
	i := madeKey(t, s, "store", "ios", nil)
	assert.Contains(t, i.Warnings[0], "no copy of the key yet")
	assert.ErrorContains(t, s.Identities.DropIdentity(ctx, "app", "store"), "nobody has a copy")
	_, err := s.Identities.ExportIdentity(ctx, "app", "ada", "store", api.IdentityExport{Passphrase: "short"})
	assert.ErrorIs(t, err, ground.ErrInvalid)
	out, err := s.Identities.ExportIdentity(ctx, "app", "ada", "store", api.IdentityExport{Passphrase: "ebb and flood"})
	require.NoError(t, err)
	key, err := identity.Import(identity.File{Data: out.Data, Password: "ebb and flood"})
	require.NoError(t, err)
	assert.Equal(t, i.Fingerprints, identity.FingerprintsOf(key.Leaf()))

	now := time.Now()
	soon, err := profile.StandIn(key, key.Leaf(), "TEAM", "net.tide", now, now.AddDate(0, 0, 10))
	require.NoError(t, err)
	other := madeKey(t, s, "other", "ios", nil)
	_, err = s.Identities.AddProfile(ctx, "app", "other", api.NewProfile{Data: soon})
	assert.ErrorContains(t, err, "other certificates than that of other, SHA-256 "+other.Fingerprints.SHA256)
	_, err = s.Identities.AddProfile(ctx, "app", "store", api.NewProfile{Data: []byte("no profile")})
	assert.ErrorIs(t, err, ground.ErrInvalid)
	i, err = s.Identities.AddProfile(ctx, "app", "store", api.NewProfile{Data: soon})
	require.NoError(t, err)
	assert.Contains(t, i.Warnings[0], `the profile "Stand-in for net.tide" expires on`)
	later, err := profile.StandIn(key, key.Leaf(), "TEAM", "net.tide", now, now.AddDate(1, 0, 0))
	require.NoError(t, err)
	i, err = s.Identities.AddProfile(ctx, "app", "store", api.NewProfile{Data: later})
	require.NoError(t, err)
	assert.Len(t, i.Profiles, 1, "one for the same app gives way")
	assert.Empty(t, i.Warnings)
	assert.Equal(t, "ada", i.ExportedBy)

	// A key that is taken over, a second revision, another platform.
	_, err = s.Identities.SetIdentity(ctx, "app", "ada", "store", api.NewIdentity{Platform: "android",
		Take: &identity.File{Data: out.Data, Password: "ebb and flood"}})
	assert.ErrorIs(t, err, ground.ErrInvalid)
	_, err = s.Identities.SetIdentity(ctx, "app", "ada", "store", api.NewIdentity{Platform: "ios",
		Take: &identity.File{Data: out.Data, Password: "wrong"}})
	assert.ErrorIs(t, err, identity.ErrPassword)
	i, err = s.Identities.SetIdentity(ctx, "app", "ada", "store", api.NewIdentity{Platform: "ios",
		Take: &identity.File{Data: out.Data, Password: "ebb and flood"}})
	require.NoError(t, err)
	assert.Equal(t, 2, i.Revision)
	assert.False(t, i.Made)
	for _, name := range []string{"", "Big", "../x", "a\x00b", "-a"} {
		_, err = s.Identities.SetIdentity(ctx, "app", "ada", name, api.NewIdentity{Platform: "ios",
			Make: &api.MakeKey{Algorithm: identity.P256, Name: "x", Years: 1}})
		assert.ErrorIs(t, err, ground.ErrInvalid, name)
	}
	require.NoError(t, s.Identities.DropIdentity(ctx, "app", "store"))

	page, err := s.Audit(ctx, ground.AuditFilter{Act: "identity", Limit: 50})
	require.NoError(t, err)
	var acts []string
	for _, a := range page.Acts {
		acts = append(acts, a.Act)
	}
	assert.Equal(t, []string{"identity.drop", "identity.set", "identity.profile", "identity.profile", "identity.set",
		"identity.export", "identity.set"}, acts)
	all, err := json.Marshal(page)
	require.NoError(t, err)
	assert.False(t, bytes.Contains(all, []byte("PRIVATE KEY")))
}

func TestARotationOfTheMasterEncryptsKeysAnew(t *testing.T) {
	s, r := openWithRepository(t)
	r.commit(map[string]string{"piston/p.toml": signs})
	attempt := signing(t, s, "p")
	i := madeKey(t, s, "play", "android", nil)
	p, err := s.Store.ProjectByName(asItself(t), "app")
	require.NoError(t, err)
	before, err := s.Store.IdentityByName(asItself(t), p.ID, "play")
	require.NoError(t, err)
	out, err := s.Vault.RotateMaster(asItself(t))
	require.NoError(t, err)
	after, err := s.Store.IdentityByName(asItself(t), p.ID, "play")
	require.NoError(t, err)
	assert.Equal(t, out.Recipient, after.SealedTo)
	assert.NotEqual(t, before.Ciphertext, after.Ciphertext)
	_, err = s.Identities.Sign(context.WithoutCancel(asItself(t)), attempt, toSign(i, "net.tide"))
	assert.NoError(t, err)
}

func TestASignatureThatTheDatabaseRefusesIsNotGiven(t *testing.T) {
	s, db := openFailing(t)
	r := addRepository(t, s)
	r.commit(map[string]string{"piston/p.toml": signs, "piston/q.toml": looks,
		"piston/app.toml": "[app.tide]\nandroid = \"net.tide\"\n"})
	_, err := s.Intake.StartRun(asItself(t), "app", "ada", api.StartRun{Pipeline: "p"})
	require.NoError(t, err)
	w, _ := claim(t, s)
	require.NotNil(t, w)
	_, err = s.Intake.StartRun(asItself(t), "app", "ada", api.StartRun{Pipeline: "q"})
	require.NoError(t, err)
	looking, _ := claim(t, s)
	require.NotNil(t, looking)
	key := api.NewIdentity{Platform: "android", Make: &api.MakeKey{Algorithm: identity.P256, Name: "tide", Years: 30}}
	var i api.Identity
	for _, step := range []struct {
		what string
		do   func(ctx context.Context) error
	}{
		{"a key", func(ctx context.Context) error {
			_, err := s.Identities.SetIdentity(ctx, "app", "ada", "play", key)
			return err
		}},
		{"what it is for", func(ctx context.Context) error {
			note := "at the store"
			_, err := s.Identities.ChangeIdentity(ctx, "app", "play", api.IdentitySettings{Note: &note})
			return err
		}},
		{"a copy", func(ctx context.Context) error {
			_, err := s.Identities.ExportIdentity(ctx, "app", "ada", "play", api.IdentityExport{Passphrase: "ebb and flood"})
			return err
		}},
		{"by whom", func(ctx context.Context) error {
			_, err := s.Identities.IdentityFor(ctx, w.Attempt, asking("android", "net.tide"))
			return err
		}},
		{"a signature", func(ctx context.Context) (err error) {
			if i.Name == "" {
				i, err = s.Identities.Identity(asItself(t), "app", "play")
				require.NoError(t, err)
			}
			_, err = s.Identities.Sign(ctx, w.Attempt, toSign(i, "net.tide"))
			return err
		}},
		{"another certificate", func(ctx context.Context) error {
			return s.Identities.AllowCertificate(ctx, "app", api.AllowCertificate{Platform: "android", App: "net.tide",
				Fingerprint: i.Fingerprints.SHA256})
		}},
		{"what is in a package", func(ctx context.Context) error {
			_, err := s.Packages.Judge(ctx, looking.Attempt, api.PackagesSeen{Step: 1,
				Packages: []api.PackageSeen{seenAPK(100)}})
			return err
		}},
		{"the key of statements", func(ctx context.Context) error {
			_, err := s.Packages.PublicKey(ctx)
			return err
		}},
	} {
		eachStatement(t, db, step.what, step.do)
	}
	page, err := s.Identities.Signatures(asItself(t), "app", api.SignatureFilter{Limit: 100})
	require.NoError(t, err)
	assert.NotEmpty(t, page.Signatures)
}

func TestARotatedKeySignsForTheSameApp(t *testing.T) {
	s, r := openWithRepository(t)
	r.commit(map[string]string{"piston/p.toml": signs})
	ctx := asItself(t)
	attempt := signing(t, s, "p")
	first := madeKey(t, s, "play", "android", nil)
	_, err := s.Identities.Sign(ctx, attempt, toSign(first, "net.tide"))
	require.NoError(t, err)
	rotate := func(name, platform string) (api.Identity, error) {
		return s.Identities.SetIdentity(ctx, "app", "ada", name, api.NewIdentity{Platform: platform, Rotate: true,
			Make: &api.MakeKey{Algorithm: identity.P256, Name: "next", Years: 30}})
	}
	second, err := rotate("play", "android")
	require.NoError(t, err)
	assert.Equal(t, []string{first.Fingerprints.SHA256}, second.Follows)
	third, err := rotate("play", "android")
	require.NoError(t, err)
	assert.Equal(t, []string{first.Fingerprints.SHA256, second.Fingerprints.SHA256}, third.Follows)
	_, err = rotate("none", "android")
	assert.ErrorIs(t, err, ground.ErrNotFound)
	_, err = rotate("play", "ios")
	assert.ErrorIs(t, err, ground.ErrInvalid)

	by, err := s.Identities.IdentityFor(ctx, attempt, asking("android", "net.tide"))
	require.NoError(t, err)
	require.NotNil(t, by.Former)
	assert.Equal(t, 1, by.Former.Revision)
	assert.Equal(t, first.Certificates, by.Former.Certificates)
	for revision, given := range map[int]bool{1: true, 2: false, 3: true} {
		in := toSign(third, "net.tide")
		in.Revision = revision
		made, err := s.Identities.Sign(ctx, attempt, in)
		assert.Equal(t, given, err == nil, "revision %d: %v", revision, err)
		assert.Equal(t, given, len(made.Signature) > 0)
	}
	// A key that does not follow is another's, as before.
	other := madeKey(t, s, "play", "android", nil)
	assert.Empty(t, other.Follows)
	_, err = s.Identities.Sign(ctx, attempt, toSign(other, "net.tide"))
	assert.ErrorContains(t, err, "another certificate until now")
}
