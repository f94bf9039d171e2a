package service

import (
	"context"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/appfile"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/provenance"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/service/ground"
)

const looks = "supersede = \"none\"\n[[job.a.step]]\nscript = \"true\"\n[[job.a.step]]\n" +
	"checklist = { files = [\"*.apk\"] }\n"

// seenAPK is what a sound package says, of so many bytes.
func seenAPK(size int64) api.PackageSeen {
	return api.PackageSeen{File: "out/tide.apk", SHA256: strings.Repeat("ab", 32), Facts: appfile.Facts{Kind: appfile.APK,
		Platform: "android", ID: "net.tide", Version: "1.0", Build: "1", Lowest: "24", Target: "34", Size: size,
		Icons: []appfile.Icon{{}}, Schemes: []string{"v2", "v3"},
		Signers: []appfile.Signer{{Subject: "CN=Tide", Ends: time.Now().AddDate(10, 0, 0)}},
		Parts:   []appfile.Part{{Group: "assets", Path: "assets/a", Packed: size}}}}
}

func TestPackagesAreJudgedAndCompared(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	r.commit(map[string]string{"piston/p.toml": looks, "piston/app.toml": "[app.tide]\nandroid = \"net.tide\"\n"})
	judge := func(seen api.PackageSeen, ends state.State) api.JudgedPackage {
		t.Helper()
		attempt := signing(t, s, "p")
		out, err := s.Packages.Judge(ctx, attempt, api.PackagesSeen{Step: 1, Packages: []api.PackageSeen{seen}})
		require.NoError(t, err)
		require.Len(t, out.Packages, 1)
		assert.Equal(t, len(out.Packages[0].Findings) > 0, out.Failed)
		require.NoError(t, s.Work.FinishAttempt(ctx, attempt, api.Finish{State: ends, At: time.Now().UnixMilli()}))
		return out.Packages[0]
	}
	first := judge(seenAPK(1000), state.Passed)
	assert.Empty(t, first.Findings)
	assert.Zero(t, first.LastRun)
	second := judge(seenAPK(2000), state.Failed)
	require.Len(t, second.Findings, 1)
	assert.Equal(t, "grown", second.Findings[0].Rule)
	third := judge(seenAPK(1100), state.Passed)
	assert.Empty(t, third.Findings)
	assert.EqualValues(t, 1, third.LastRun, "what failed is compared with by nobody")

	d, err := s.Packages.Package(ctx, "app", third.ID)
	require.NoError(t, err)
	require.NotNil(t, d.Since)
	assert.Equal(t, []appfile.Growth{{Group: "assets", Was: 1000, Now: 1100}}, d.Since.Groups)
	assert.Nil(t, d.Released, "none went to people")
	page, err := s.Packages.Packages(ctx, "app", api.PackageFilter{SHA256: "abab", Limit: 2})
	require.NoError(t, err)
	require.Len(t, page.Packages, 2)
	assert.Equal(t, third.ID, page.Packages[0].ID)
	rest, err := s.Packages.Packages(ctx, "app", api.PackageFilter{Before: page.Next, Limit: 2})
	require.NoError(t, err)
	assert.Len(t, rest.Packages, 1)
	addProject(t, s, "tides")
	_, err = s.Packages.Package(ctx, "tides", third.ID)
	assert.ErrorIs(t, err, ground.ErrNotFound)
}

func TestWhatALookSaysIsNotBelievedToBeText(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	r.commit(map[string]string{"piston/p.toml": looks})
	attempt := signing(t, s, "p")
	hostile := seenAPK(1)
	hostile.Facts.Label = "a\x00b\xff" + strings.Repeat("x", 10_000)
	hostile.Facts.Permissions = []appfile.Permission{{Name: "\x00"}}
	hostile.Facts.Entitlements = map[string]any{"\x00": []any{"\x00", map[string]any{"a": "\xff"}}}
	hostile.Facts.Parts[0].Path = "\x00"
	hostile.Facts.Programs = []appfile.Program{{Path: "\x00", Processor: "\x00"}}
	out, err := s.Packages.Judge(ctx, attempt, api.PackagesSeen{Step: 1, Packages: []api.PackageSeen{hostile}})
	require.NoError(t, err)
	d, err := s.Packages.Package(ctx, "app", out.Packages[0].ID)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(d.Facts.Label, "ab?"), "%.20q", d.Facts.Label)
	assert.Less(t, len(d.Facts.Label), 3000)
	for _, change := range []func(p *api.PackageSeen){
		func(p *api.PackageSeen) { p.Facts.ID = "net\x00tide" },
		func(p *api.PackageSeen) { p.Facts.Version = strings.Repeat("1", 300) },
	} {
		bad := seenAPK(1)
		change(&bad)
		_, err := s.Packages.Judge(ctx, attempt, api.PackagesSeen{Step: 1, Packages: []api.PackageSeen{bad}})
		assert.ErrorIs(t, err, ground.ErrInvalid)
	}
	_, err = s.Packages.Judge(ctx, attempt, api.PackagesSeen{Step: 0, Packages: []api.PackageSeen{seenAPK(1)}})
	assert.ErrorIs(t, err, ground.ErrForbidden)
}

func TestAStatementIsSignedByOneKeyWhoeverMakesIt(t *testing.T) {
	s, r := openWithRepository(t)
	r.commit(map[string]string{"piston/p.toml": looks})
	attempt := signing(t, s, "p")
	var all sync.WaitGroup
	var mu sync.Mutex
	keys := map[string]bool{}
	for range 8 {
		all.Go(func() {
			k, err := s.Packages.PublicKey(asItself(t))
			assert.NoError(t, err)
			mu.Lock()
			defer mu.Unlock()
			keys[k.Key] = true
		})
	}
	all.Wait()
	assert.Len(t, keys, 1)
	out, err := s.Packages.Judge(asItself(t), attempt, api.PackagesSeen{Step: 1, Packages: []api.PackageSeen{seenAPK(7)}})
	require.NoError(t, err)
	open := func() provenance.Statement {
		p, err := s.Packages.Provenance(asItself(t), "app", out.Packages[0].ID)
		require.NoError(t, err)
		assert.True(t, keys[p.Key])
		key, err := provenance.ParseKey([]byte(p.Key))
		require.NoError(t, err)
		statement, err := provenance.Open(context.Background(), []byte(p.Envelope), key)
		require.NoError(t, err)
		return statement
	}
	statement := open()
	assert.NoError(t, statement.Check(strings.Repeat("ab", 32)))
	build, err := statement.Build()
	require.NoError(t, err)
	assert.Equal(t, "app/1", build.RunDetails.Metadata.InvocationID)
	_, err = s.Vault.RotateMaster(asItself(t))
	require.NoError(t, err)
	assert.Equal(t, statement, open(), "the key is the same under another master")
}

func TestAPackageIsComparedWithTheLastThatWentToPeople(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	here := r.commit(map[string]string{"piston/p.toml": strings.Replace(looks, "[[job", "[trigger.tag]\n[[job", 1)})
	judge := func(attempt record.AttemptID, size int64) record.PackageID {
		out, err := s.Packages.Judge(ctx, attempt, api.PackagesSeen{Step: 1, Packages: []api.PackageSeen{seenAPK(size)}})
		require.NoError(t, err)
		require.NoError(t, s.Work.FinishAttempt(ctx, attempt, api.Finish{State: state.Passed, At: time.Now().UnixMilli()}))
		return out.Packages[0].ID
	}
	r.git("tag", "v1")
	s.takeIn(t, "tagged", plan.RefUpdate{Ref: "refs/tags/v1", Before: plan.NoCommit, After: here})
	w, _ := claim(t, s)
	require.NotNil(t, w)
	released := judge(w.Attempt, 1000)
	before := judge(signing(t, s, "p"), 1100)
	d, err := s.Packages.Package(ctx, "app", before)
	require.NoError(t, err)
	require.NotNil(t, d.Since)
	assert.Nil(t, d.Released, "it is the one before")
	last := judge(signing(t, s, "p"), 1300)
	d, err = s.Packages.Package(ctx, "app", last)
	require.NoError(t, err)
	require.NotNil(t, d.Released)
	assert.Equal(t, []record.PackageID{before, released}, []record.PackageID{d.Since.Package.ID, d.Released.Package.ID})
	assert.Equal(t, []appfile.Growth{{Group: "assets", Was: 1000, Now: 1300}}, d.Released.Groups)
}

func TestABillNamesWhatTheLockFilesOfTheCommitDo(t *testing.T) {
	s, r := openWithRepository(t)
	ctx := asItself(t)
	judge := func(build string) record.PackageID {
		attempt := signing(t, s, "p")
		seen := seenAPK(1000)
		seen.Facts.Programs = []appfile.Program{{Path: "lib/x86_64/libtide.so", Kind: "library", BuildID: build}}
		out, err := s.Packages.Judge(ctx, attempt, api.PackagesSeen{Step: 1, Packages: []api.PackageSeen{seen}})
		require.NoError(t, err)
		return out.Packages[0].ID
	}
	r.commit(map[string]string{"piston/p.toml": looks, "app/gradle.lockfile": "tide.example:charts:1.2=release\n",
		"node_modules/a/package-lock.json": "none of ours", "Podfile.lock": "PODS:\n  - Tides (1.4)\n"})
	id := judge("00aa")
	r.commit(map[string]string{"Podfile.lock": "PODS: ["})
	broken := judge("00bb")
	b, err := s.Packages.Bill(ctx, "app", id)
	require.NoError(t, err)
	key, err := provenance.ParseKey([]byte(b.Key))
	require.NoError(t, err)
	statement, err := provenance.Open(ctx, []byte(b.Envelope), key)
	require.NoError(t, err)
	require.NoError(t, statement.Check(strings.Repeat("ab", 32)))
	text, err := statement.Bill()
	require.NoError(t, err)
	for _, what := range []string{"pkg:maven/tide.example/charts@1.2", "pkg:cocoapods/Tides@1.4", "lib/x86_64/libtide.so"} {
		assert.Contains(t, string(text), what, "the commit is that of the run, not the newest")
	}
	_, err = s.Packages.Bill(ctx, "app", broken)
	assert.ErrorContains(t, err, "Podfile.lock cannot be read")
	page, err := s.Packages.Packages(ctx, "app", api.PackageFilter{BuildID: "00aa", Limit: 5})
	require.NoError(t, err)
	require.Len(t, page.Packages, 1)
	assert.Equal(t, id, page.Packages[0].ID, "a crash names the build id")
}
