package outlet

import (
	"net/http/httptest"
	"testing"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/publication"
)

// bucketOf is a bucket in memory, below a prefix.
func bucketOf(t *testing.T) *Bucket {
	t.Helper()
	memory := s3mem.New()
	require.NoError(t, memory.CreateBucket("tides"))
	server := httptest.NewServer(gofakes3.New(memory).Server())
	t.Cleanup(server.Close)
	b, err := OpenBucket(t.Context(), BucketSettings{URL: server.URL + "/tides/apps", Region: "us-east-1", Client: "key",
		Secret: "secret", Inside: true})
	require.NoError(t, err)
	t.Cleanup(func() { _ = b.Close() })
	return b
}

func TestABucketGetsAVersionOnce(t *testing.T) {
	b, ctx := bucketOf(t), t.Context()
	require.NoError(t, b.Try(ctx))
	first := offered("1.4.0", map[string]string{"tide.apk": "four", "tide.aab": "bundle"})
	now, err := b.Now(ctx, first)
	require.NoError(t, err)
	assert.Empty(t, now.Out)
	missing, err := b.Missing(ctx, first)
	require.NoError(t, err)
	assert.Empty(t, missing)
	var told int64
	ref, err := b.Bring(ctx, first, func(n int64) { told = n })
	require.NoError(t, err)
	assert.Equal(t, first.Size(), told)
	text, err := b.bucket.ReadAll(ctx, "harbours/almanac/1.4.0/tide.apk")
	require.NoError(t, err)
	assert.Equal(t, "four", string(text))
	st, err := b.Stands(ctx, ref)
	require.NoError(t, err)
	assert.Equal(t, publication.Out, st.State)
	other := offered("1.4.0", map[string]string{"tide.apk": "five"})
	_, err = b.Bring(ctx, other, func(int64) {})
	refusal := (*Refusal)(nil)
	require.ErrorAs(t, err, &refusal, "what people may have is not written over")

	second := offered("1.5.0", map[string]string{"tide.apk": "six"})
	second.Key = "8"
	next, err := b.Bring(ctx, second, func(int64) {})
	require.NoError(t, err)
	st, err = b.Stands(ctx, ref)
	require.NoError(t, err)
	assert.Equal(t, publication.Halted, st.State, "the new one took its place")
	found, err := b.Sent(ctx, second)
	require.NoError(t, err)
	assert.Equal(t, next, found)
	require.NoError(t, b.TakeBack(ctx, next))
	st, err = b.Stands(ctx, next)
	require.NoError(t, err)
	assert.Equal(t, publication.Withdrawn, st.State)
	left, err := b.bucket.Exists(ctx, "harbours/almanac/1.5.0/tide.apk")
	require.NoError(t, err)
	assert.False(t, left)
	require.NoError(t, b.Share(ctx, ref, 100), "yesterday's again")
	st, err = b.Stands(ctx, ref)
	require.NoError(t, err)
	assert.Equal(t, publication.Out, st.State)
}

func TestWhatIsNotWhatItWasIsNotThereInABucket(t *testing.T) {
	b := bucketOf(t)
	o := offered("1.4.0", map[string]string{"tide.apk": "four"})
	o.Packages[0].SHA256 = offered("1.4.0", map[string]string{"tide.apk": "five"}).Packages[0].SHA256
	_, err := b.Bring(t.Context(), o, func(int64) {})
	away := (*Away)(nil)
	require.ErrorAs(t, err, &away)
	there, err := b.bucket.Exists(t.Context(), "harbours/almanac/1.4.0/release.json")
	require.NoError(t, err)
	assert.False(t, there)
	found, err := b.Sent(t.Context(), o)
	require.NoError(t, err)
	assert.Empty(t, found)
}

func TestAddressesOfBuckets(t *testing.T) {
	host, name, prefix, err := BucketAddress("https://s3.harbour.example/tides/apps/almanac/")
	require.NoError(t, err)
	assert.Equal(t, []string{"https://s3.harbour.example", "tides", "apps/almanac/"}, []string{host.String(), name, prefix})
	for _, at := range []string{"https://s3.harbour.example", "http://s3.harbour.example/tides", "https://h/../x",
		"https://h/tides/a b", "https://h/tides//x"} {
		_, _, _, err := BucketAddress(at)
		assert.Error(t, err, at)
	}
}
