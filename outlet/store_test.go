package outlet

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/outletapi"
	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/packaging"
	"gentlepiston.example/piston/standin/shop"
	"gentlepiston.example/piston/standin/shop/shoptest"
)

const samples = "../core/appfile/testdata/"

// opened serves a stand-in of a store, and gives what speaks to it.
func opened(t *testing.T, o shop.Options) (*shop.Shop, *Store, string) {
	t.Helper()
	s, at := shoptest.Serve(t, o)
	st, err := OpenStore(StoreSettings{URL: at, Client: shop.Client, Secret: s.Secret(), Inside: true})
	require.NoError(t, err)
	return s, st, at
}

// offering is an offer of a package as it is found in a file.
func offering(t *testing.T, file, channel string) Offer {
	t.Helper()
	p, sum, err := packaging.Inspect(t.Context(), file, packaging.Looking{Sum: true})
	require.NoError(t, err)
	one := Package{File: filepath.Base(file), Kind: string(p.Kind), Platform: p.Platform, ID: p.ID, Build: p.Build,
		Size: p.Size, SHA256: sum, Target: p.Target, Processors: p.Processors,
		Open: func(_ context.Context, from int64) (io.ReadCloser, error) {
			f, err := os.Open(file)
			if err == nil {
				_, err = f.Seek(from, io.SeekStart)
			}
			return f, err
		}}
	for _, s := range p.Signers {
		one.Signers = append(one.Signers, s.Fingerprints.Hex())
	}
	return Offer{Key: rand.Text(), App: "tide", Name: p.Version, Channel: channel, Share: 100,
		Notes: map[string]string{"en": "Six harbours"}, Packages: []Package{one}}
}

func whats(list []publication.Missing) (all string) {
	for _, m := range list {
		all += m.What + "\n"
	}
	return all
}

// until waits until what was brought is in a state.
func until(t *testing.T, st *Store, ref string, wanted publication.State) (now publication.Stands) {
	t.Helper()
	require.Eventually(t, func() bool {
		var err error
		now, err = st.Stands(t.Context(), ref)
		return err == nil && now.State == wanted
	}, 20*time.Second, 20*time.Millisecond, "it is not %s", wanted)
	return now
}

func TestAStoreWhereAMachineLooks(t *testing.T) {
	_, st, at := opened(t, shop.Options{Processing: 50 * time.Millisecond, Review: 50 * time.Millisecond})
	ctx := t.Context()
	require.NoError(t, st.Try(ctx))
	o := offering(t, samples+"signed.apk", "release")
	o.Share = 10

	// Everything that is missing is told at once, before anything is sent.
	missing, err := st.Missing(ctx, o)
	require.NoError(t, err)
	assert.Contains(t, whats(missing), "there is no entry for")
	assert.Contains(t, whats(missing), "the address of its policy on data, the countries it is for")
	_, err = st.Bring(ctx, o, func(int64) {})
	refusal := (*Refusal)(nil)
	require.ErrorAs(t, err, &refusal, "nor is it taken")
	assert.GreaterOrEqual(t, len(refusal.Reasons), 2)
	shoptest.Enter(t, at, o.Packages[0].ID)
	shoptest.Fill(t, at+"/drafts", "app", o.Packages[0].ID, "channel", "release", "version", "0.9")
	missing, err = st.Missing(ctx, o)
	require.NoError(t, err)
	assert.Contains(t, whats(missing), "a draft of 0.9 that somebody has begun by hand stands in channel release")
	shoptest.Fill(t, at+"/drafts", "app", o.Packages[0].ID, "channel", "release", "version", "")

	var told int64
	ref, err := st.Bring(ctx, o, func(n int64) { told = n })
	require.NoError(t, err)
	assert.Equal(t, o.Size(), told)
	again, err := st.Bring(ctx, o, func(int64) {})
	require.NoError(t, err)
	assert.Equal(t, ref, again, "by the same key it is brought once")
	found, err := st.Sent(ctx, o)
	require.NoError(t, err)
	assert.Equal(t, ref, found)
	assert.Equal(t, 10, until(t, st, ref, publication.Shared).Share)
	require.NoError(t, st.Halt(ctx, ref))
	until(t, st, ref, publication.Halted)
	require.NoError(t, st.Share(ctx, ref, 50))
	require.ErrorAs(t, st.Share(ctx, ref, 20), &refusal, "who has it, has it")
	require.NoError(t, st.Share(ctx, ref, 100))
	until(t, st, ref, publication.Out)
	now, err := st.Now(ctx, o)
	require.NoError(t, err)
	require.Len(t, now.Out, 1)
	assert.Equal(t, o.Name, now.Out[0].Name)
	assert.Equal(t, o.Packages[0].Build, now.Last)

	// The number was taken: a second time it is refused before it is sent.
	second := offering(t, samples+"signed.apk", "early")
	missing, err = st.Missing(ctx, second)
	require.NoError(t, err)
	assert.Contains(t, whats(missing), "was taken before")
	require.NoError(t, st.TakeBack(ctx, ref))
	until(t, st, ref, publication.Withdrawn)
}

func TestAPackageIsLookedInto(t *testing.T) {
	_, st, at := opened(t, shop.Options{})
	o := offering(t, samples+"signed.apk", "release")
	shoptest.Enter(t, at, o.Packages[0].ID)
	// What is claimed is not what is in it.
	o.Packages[0].Build, o.Name = "999", "9.9"
	ref, err := st.Bring(t.Context(), o, func(int64) {})
	require.NoError(t, err)
	stands := until(t, st, ref, publication.Refused)
	require.Len(t, stands.Reasons, 1)
	assert.Contains(t, stands.Reasons[0], "says that it is net.tidewick.almanac")

	// And what arrives is not what was sent.
	o = offering(t, samples+"signed.apk", "release")
	o.Packages[0].Open = func(context.Context, int64) (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(strings.Repeat("x", int(o.Packages[0].Size)))), nil
	}
	ref, err = st.Bring(t.Context(), o, func(int64) {})
	require.NoError(t, err)
	assert.Contains(t, until(t, st, ref, publication.Refused).Reasons[0], "is no package")
}

func TestAStoreWherePeopleLook(t *testing.T) {
	_, st, at := opened(t, shop.Options{People: true})
	o := offering(t, samples+"Tidewick.ipa", "release")
	shoptest.Fill(t, at+"/entries", "app", o.Packages[0].ID, "support", "help@tidewick.example", "category", "the sea",
		"pictures", "3")
	o.Hold = true
	ref, err := st.Bring(t.Context(), o, func(int64) {})
	require.NoError(t, err)
	p, _, err := packaging.Inspect(t.Context(), samples+"Tidewick.ipa", packaging.Looking{})
	require.NoError(t, err)
	if !p.Declared {
		require.Eventually(t, func() bool {
			now, err := st.Stands(t.Context(), ref)
			return err == nil && len(now.Asks) == 1 && strings.HasPrefix(now.Asks[0], "Does it use encryption of its own? "+at)
		}, 10*time.Second, 20*time.Millisecond)
		shoptest.Fill(t, at+"/answers", "offer", ref, "encryption", "no")
	}
	until(t, st, ref, publication.InReview)
	shoptest.Fill(t, at+"/reviews", "offer", ref, "word", "refuse", "reasons", "The harbour is empty\nA button does nothing")
	assert.Equal(t, []string{"The harbour is empty", "A button does nothing"},
		until(t, st, ref, publication.Refused).Reasons)
	// The same number is refused from now on, the same version is not.
	o.Key = rand.Text()
	missing, err := st.Missing(t.Context(), o)
	require.NoError(t, err)
	require.Len(t, missing, 1)
	assert.Contains(t, missing[0].What, "is used already")
}

func TestAClientThatSigns(t *testing.T) {
	s, _, at := opened(t, shop.Options{})
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	public, err := x509.MarshalPKIXPublicKey(&key.PublicKey)
	require.NoError(t, err)
	secret := string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}))
	require.NoError(t, CheckSecret(secret))
	assert.Error(t, CheckSecret("-----BEGIN NONSENSE"))
	assert.Error(t, CheckSecret("two\nlines"))
	st, err := OpenStore(StoreSettings{URL: at, Client: shop.Client, Secret: secret, Inside: true})
	require.NoError(t, err)
	assert.ErrorContains(t, st.Try(t.Context()), "is the client's secret still right?", "nobody knows that key")
	require.NoError(t, s.Allow(string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public}))))
	st, err = OpenStore(StoreSettings{URL: at, Client: shop.Client, Secret: secret, Inside: true})
	require.NoError(t, err)
	assert.NoError(t, st.Try(t.Context()))
	st, err = OpenStore(StoreSettings{URL: at, Client: "another", Secret: secret, Inside: true})
	require.NoError(t, err)
	assert.Error(t, st.Try(t.Context()))
}

func TestAnAddressInsideIsForAnAdministrator(t *testing.T) {
	s, _, at := opened(t, shop.Options{})
	st, err := OpenStore(StoreSettings{URL: at, Client: shop.Client, Secret: s.Secret()})
	require.NoError(t, err)
	assert.ErrorContains(t, st.Try(t.Context()), "what is there is set by an administrator")
	b, err := OpenBucket(t.Context(), BucketSettings{URL: at + "/tides", Region: "x", Client: "x", Secret: "x"})
	require.NoError(t, err)
	assert.ErrorContains(t, b.Try(t.Context()), "what is there is set by an administrator")
	require.NoError(t, b.Close())
}

func TestAddresses(t *testing.T) {
	for _, at := range []string{"http://127.0.0.1:7481", "http://localhost:1/store/", "https://store.example"} {
		_, err := Address(at)
		assert.NoError(t, err, at)
	}
	for _, at := range []string{"http://store.example", "store.example", "https://a:b@store.example", "file:///etc",
		"https://store.example?x=y", "https://", "\x00"} {
		_, err := Address(at)
		assert.Error(t, err, at)
	}
}

func TestWhatAStoreDoesWrong(t *testing.T) {
	s, st, at := opened(t, shop.Options{Processing: time.Hour})
	o := offering(t, samples+"signed.apk", "release")
	shoptest.Enter(t, at, o.Packages[0].ID)
	ref, err := st.Bring(t.Context(), o, func(int64) {})
	require.NoError(t, err)
	elsewhere := 0
	other, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() {
		_ = http.Serve(other, http.HandlerFunc(func(http.ResponseWriter, *http.Request) { elsewhere++ }))
	}()
	defer other.Close()
	for what, c := range map[string]struct {
		fault shop.Faults
		says  string
	}{
		"a state that there is not": {shop.Faults{Lie: "eaten"}, "which the outlet protocol does not know"},
		"nothing but errors":        {shop.Faults{Errors: 100}, "500"},
		"too busy":                  {shop.Faults{Busy: 100}, "429"},
		"cut":                       {shop.Faults{Cut: 100}, "EOF"},
		"sends on":                  {shop.Faults{Moved: "http://" + other.Addr().String()}, "it sends on to http"},
	} {
		t.Run(what, func(t *testing.T) {
			s.Fault(c.fault)
			defer s.Fault(shop.Faults{})
			_, err := st.Stands(t.Context(), ref)
			away := (*Away)(nil)
			require.ErrorAs(t, err, &away)
			assert.ErrorContains(t, err, c.says)
			if c.fault.Busy > 0 {
				assert.Equal(t, time.Second, away.After)
			}
		})
	}
	assert.Zero(t, elsewhere, "nothing is said to where it sends on")
}

func TestAnUploadGoesOnWhereItWas(t *testing.T) {
	s, st, at := opened(t, shop.Options{Processing: time.Hour})
	o := offering(t, samples+"signed.apk", "release")
	shoptest.Enter(t, at, o.Packages[0].ID)
	s.Fault(shop.Faults{Errors: 15, Cut: 30})
	var ref string
	require.Eventually(t, func() bool {
		var err error
		ref, err = st.Bring(t.Context(), o, func(int64) {})
		away := (*Away)(nil)
		if err != nil {
			require.ErrorAs(t, err, &away)
		}
		return err == nil
	}, 30*time.Second, 10*time.Millisecond)
	s.Fault(shop.Faults{})
	until(t, st, ref, publication.Processing)
	var list []string
	files, err := filepath.Glob(filepath.Join(s.Folder, "packages", "*"))
	require.NoError(t, err)
	for _, f := range files {
		if text, err := os.ReadFile(f); err == nil && filepath.Ext(f) == "" {
			sum := sha256.Sum256(text)
			list = append(list, hex.EncodeToString(sum[:]))
		}
	}
	assert.Equal(t, []string{o.Packages[0].SHA256}, list, "once, and the right bytes")
}

func TestPackagesGoToTheOutletOnly(t *testing.T) {
	_, st, _ := opened(t, shop.Options{})
	o := offering(t, samples+"signed.apk", "release")
	err := st.door.upload(t.Context(), "http://127.0.0.1:1/uploads/x", o.Packages[0], func(int64) {})
	assert.ErrorContains(t, err, "wants signed.apk to be sent elsewhere")
}

func TestAnOutletIsHeldAgainstTheProtocol(t *testing.T) {
	s, _, at := opened(t, shop.Options{Processing: 50 * time.Millisecond, Review: 50 * time.Millisecond})
	o := offering(t, samples+"signed.apk", "release")
	settings := StoreSettings{URL: at, Client: shop.Client, Secret: s.Secret(), Inside: true}
	check := func() (met bool, failed []string, skipped int) {
		met, err := Check(t.Context(), settings, o, func(c Checked) {
			if c.Why != "" {
				failed = append(failed, c.What+": "+c.Why)
			}
			if c.Skipped {
				skipped++
			}
		})
		require.NoError(t, err)
		return met, failed, skipped
	}
	met, failed, skipped := check()
	assert.False(t, met)
	require.Len(t, failed, 1, "there is no entry yet: %v", failed)
	assert.Contains(t, failed[0], "it would not take the package: there is no entry")
	assert.Equal(t, 1, skipped)
	shoptest.Enter(t, at, o.Packages[0].ID)
	met, failed, _ = check()
	assert.True(t, met, "%v", failed)

	// One that lies is found out.
	o = offering(t, samples+"signed.apk", "early")
	s.Fault(shop.Faults{Lie: "out"})
	met, failed, _ = check()
	assert.False(t, met)
	assert.NotEmpty(t, failed)
	settings.Secret = "wrong"
	s.Fault(shop.Faults{})
	met, failed, _ = check()
	assert.False(t, met)
	assert.Contains(t, failed[0], "the client is let in")
}

// An adapter that answers what nobody expects is shown to do so; what was brought is not lost for that.
func TestAnswersThatNobodyExpects(t *testing.T) {
	for _, status := range []int{400, 404, 409, 410, 422} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch r.URL.Path {
			case outletapi.TokenPath:
				w.Header().Set("Content-Type", "application/json")
				_, _ = io.WriteString(w, `{"access_token":"x","token_type":"Bearer"}`)
			case outletapi.AboutPath:
				_, _ = io.WriteString(w, `{"protocol":1,"name":"odd","takes":["apk"],"channels":["release"]}`)
			default:
				w.WriteHeader(status)
				_, _ = io.WriteString(w, `{"detail":"not like this"}`)
			}
		}))
		st, err := OpenStore(StoreSettings{URL: server.URL, Client: "x", Secret: "x", Inside: true})
		require.NoError(t, err)
		o := offering(t, samples+"signed.apk", "release")
		away, refusal := (*Away)(nil), (*Refusal)(nil)
		missing, err := st.Missing(t.Context(), o)
		if status == 422 {
			require.NoError(t, err)
			assert.Equal(t, "not like this\n", whats(missing))
		} else {
			assert.ErrorAs(t, err, &away, "%d", status)
		}
		_, err = st.Stands(t.Context(), "x")
		assert.ErrorAs(t, err, &away, "%d", status)
		_, err = st.Sent(t.Context(), o)
		assert.ErrorAs(t, err, &away, "%d", status)
		if _, err = st.Now(t.Context(), o); status != 404 {
			assert.ErrorAs(t, err, &away, "%d", status)
		}
		_, err = st.Bring(t.Context(), o, func(int64) {})
		require.ErrorAs(t, err, &refusal, "%d", status)
		assert.Equal(t, []string{"not like this"}, refusal.Reasons)
		server.Close()
	}
}

// Two bring something into a channel at the same moment: one of them does.
func TestTwoBringAtTheSameMoment(t *testing.T) {
	_, st, at := opened(t, shop.Options{Processing: time.Hour})
	o := offering(t, samples+"signed.apk", "release")
	shoptest.Enter(t, at, o.Packages[0].ID)
	const n = 8
	ended := make(chan error, n)
	for range n {
		other := o
		other.Key = rand.Text()
		go func() {
			_, err := st.Bring(t.Context(), other, func(int64) {})
			ended <- err
		}()
	}
	taken := 0
	for range n {
		err := <-ended
		if err == nil {
			taken++
			continue
		}
		refusal := (*Refusal)(nil)
		require.ErrorAs(t, err, &refusal)
		assert.Contains(t, refusal.Error(), "is on its way into channel release")
	}
	assert.Equal(t, 1, taken)
}

// A store whose disk takes nothing more forgets nothing, and takes it once there is room.
func TestAStoreWithoutRoomLosesNothing(t *testing.T) {
	s, st, at := opened(t, shop.Options{})
	o := offering(t, samples+"signed.apk", "release")
	shoptest.Enter(t, at, o.Packages[0].ID)
	full := filepath.Join(s.Folder, "shop.json.new") // what it writes first cannot be written
	require.NoError(t, os.Mkdir(full, 0o700))
	_, err := st.Bring(t.Context(), o, func(int64) {})
	away := (*Away)(nil)
	require.ErrorAs(t, err, &away)
	found, err := st.Sent(t.Context(), o)
	require.NoError(t, err)
	assert.Empty(t, found, "what it could not write it has not taken")
	require.NoError(t, os.Remove(full))
	ref, err := st.Bring(t.Context(), o, func(int64) {})
	require.NoError(t, err)
	until(t, st, ref, publication.Out)
}
