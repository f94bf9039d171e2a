package appfile

import (
	"bytes"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/archive"
	"gentlepiston.example/piston/core/mutate/zipped"
)

func sample(t *testing.T, name string) []byte {
	b, err := os.ReadFile("testdata/" + name)
	require.NoError(t, err)
	return b
}

func look(b []byte) (Facts, error) {
	p, err := Open(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return Facts{}, err
	}
	return p.Facts, nil
}

func TestAnAPKIsLookedInto(t *testing.T) {
	f, err := look(sample(t, "signed.apk"))
	require.NoError(t, err)
	assert.Equal(t, APK, f.Kind)
	assert.Equal(t, []string{"net.tidewick.almanac", "Tidewick", "1.4.0", "1", "21", "29"},
		[]string{f.ID, f.Label, f.Version, f.Build, f.Lowest, f.Target})
	assert.Equal(t, []Permission{{Name: "android.permission.INTERNET", Means: "use the network"}}, f.Permissions)
	assert.Equal(t, []string{"arm64-v8a", "armeabi-v7a", "x86_64"}, f.Processors)
	assert.Equal(t, []string{"v1", "v2", "v3"}, f.Schemes)
	require.Len(t, f.Signers, 1)
	assert.Equal(t, "CN=Throw-away key of piston sign", f.Signers[0].Subject)
	require.Len(t, f.Programs, 3)
	for _, p := range f.Programs {
		assert.EqualValues(t, 16384, p.Page, p.Path)
	}
	assert.False(t, f.Debuggable || f.TestOnly || f.Cleartext)
	assert.Empty(t, f.Misplaced)
	sum := int64(0)
	for _, p := range f.Parts {
		sum += p.Packed
	}
	assert.Equal(t, f.Size, sum, "every byte is part of something")
}

func TestAnAppBundleIsLookedInto(t *testing.T) {
	f, err := look(sample(t, "tidewick.aab"))
	require.NoError(t, err)
	assert.Equal(t, Bundle, f.Kind)
	assert.Equal(t, []string{"net.tidewick.almanac", "Tidewick", "1.4.1", "7", "21", "29"},
		[]string{f.ID, f.Label, f.Version, f.Build, f.Lowest, f.Target})
	assert.Equal(t, []string{"arm64-v8a"}, f.Processors)
	assert.Empty(t, f.Signers)
}

func TestAnIPAIsLookedInto(t *testing.T) {
	f, err := look(sample(t, "Tidewick.ipa"))
	require.NoError(t, err)
	assert.Equal(t, IPA, f.Kind)
	assert.Equal(t, []string{"net.tidewick.almanac", "Tidewick", "1.4.0", "1", "14.0"},
		[]string{f.ID, f.Label, f.Version, f.Build, f.Lowest})
	assert.Equal(t, []string{"arm64"}, f.Processors)
	require.NotNil(t, f.Profile)
	assert.Equal(t, "TEAMTIDE01", f.Profile.Team)
	assert.Equal(t, "TEAMTIDE01.net.tidewick.almanac", f.Entitlements["application-identifier"])
	require.Len(t, f.Programs, 1)
	assert.Regexp(t, `^[0-9A-F]{8}-([0-9A-F]{4}-){3}[0-9A-F]{12}$`, f.Programs[0].BuildID)
	assert.Equal(t, []string{"seal"}, f.Schemes)
}

func TestWhatHasGrownIsTold(t *testing.T) {
	was := Facts{Parts: []Part{{"native", "lib/a.so", 100, 0}, {"code", "classes.dex", 50, 0}, {"assets", "old", 7, 0}}}
	now := Facts{Parts: []Part{{"native", "lib/a.so", 160, 0}, {"code", "classes.dex", 50, 0}, {"assets", "new", 9, 0}}}
	groups, entries := Compare(was, now, 2)
	assert.Equal(t, []Growth{{"native", "", 100, 160}, {"code", "", 50, 50}, {"assets", "", 7, 9}}, groups)
	assert.Equal(t, []Growth{{"native", "lib/a.so", 100, 160}, {"assets", "new", 0, 9}}, entries)
}

func TestWhatIsNoPackageIsRefused(t *testing.T) {
	var b bytes.Buffer
	w := archive.NewWriter(&b)
	require.NoError(t, w.Add("readme.txt", []byte("tide"), 0))
	require.NoError(t, w.Close())
	_, err := look(b.Bytes())
	var own *Error
	assert.ErrorAs(t, err, &own)
	_, err = look([]byte("tide"))
	var damaged *archive.Error
	assert.ErrorAs(t, err, &damaged)
}

func TestNoPackageDoesHarm(t *testing.T) {
	for _, name := range []string{"signed.apk", "tidewick.aab", "Tidewick.ipa"} {
		read := 0
		zipped.Each(t, sample(t, name), func(b []byte) {
			if _, err := look(b); err == nil {
				read++
			}
		})
		assert.Greater(t, read, 100, name)
	}
}
