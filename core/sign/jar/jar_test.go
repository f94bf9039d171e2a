package jar

import (
	"bytes"
	"context"
	"crypto"
	"crypto/sha256"
	"encoding/base64"
	"strings"
	"testing"
	"time"

	"github.com/smallstep/pkcs7"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/archive"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/sign"
)

func signer(t *testing.T, kind identity.Algorithm) sign.Signer {
	s, err := identity.Make(kind, "Tidewick", 30, time.Unix(1_700_000_000, 0))
	require.NoError(t, err)
	return s
}

func packed(t *testing.T, names ...string) *archive.Archive {
	var b bytes.Buffer
	w := archive.NewWriter(&b)
	for _, name := range names {
		require.NoError(t, w.Add(name, []byte("content of "+name), 0o644))
	}
	require.NoError(t, w.Close())
	a, err := archive.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	return a
}

// sections reads a manifest as the specification says: lines that begin with a space go on with the one before.
func sections(t *testing.T, text []byte) (list []map[string]string) {
	for _, line := range strings.SplitAfter(string(text), "\r\n") {
		assert.LessOrEqual(t, len(line), 72, "%q", line)
	}
	joined := strings.ReplaceAll(string(text), "\r\n ", "")
	for _, section := range strings.Split(strings.TrimSuffix(joined, "\r\n\r\n"), "\r\n\r\n") {
		one := map[string]string{}
		for _, line := range strings.Split(section, "\r\n") {
			key, value, _ := strings.Cut(line, ": ")
			one[key] = value
		}
		list = append(list, one)
	}
	return list
}

func sum(b []byte) string {
	s := sha256.Sum256(b)
	return base64.StdEncoding.EncodeToString(s[:])
}

func TestEachEntryIsInTheManifestAndThatIsSigned(t *testing.T) {
	long := "res/" + strings.Repeat("päckage-", 20) + ".xml"
	a := packed(t, "classes.dex", long, "META-INF/OLD.RSA", "META-INF/MANIFEST.MF", "META-INF/services/x", "dir/")
	for _, kind := range []identity.Algorithm{identity.RSA3072, identity.P256} {
		s := signer(t, kind)
		files, err := Sign(context.Background(), a, s, Options{Hash: crypto.SHA256, Schemes: "2, 3", By: "test"})
		require.NoError(t, err)
		require.Len(t, files, 3)
		manifest, file := sections(t, files[0].Content), sections(t, files[1].Content)
		require.Len(t, manifest, 4, "the head, and three entries")
		require.Len(t, file, 4)
		assert.Equal(t, "2, 3", file[0]["X-Android-APK-Signed"])
		assert.Equal(t, sum(files[0].Content), file[0]["SHA-256-Digest-Manifest"])
		for i, name := range []string{"classes.dex", long, "META-INF/services/x"} {
			assert.Equal(t, name, manifest[i+1]["Name"])
			assert.Equal(t, sum([]byte("content of "+name)), manifest[i+1]["SHA-256-Digest"])
		}
		parts := bytes.SplitAfter(files[0].Content, []byte("\r\n\r\n"))
		assert.Equal(t, sum(parts[2]), file[2]["SHA-256-Digest"], "of a section, with its empty line")

		m, err := pkcs7.Parse(files[2].Content)
		require.NoError(t, err)
		m.Content = files[1].Content
		assert.NoError(t, m.Verify())
		assert.Equal(t, s.Leaf().Raw, m.GetOnlySigner().Raw)
		m.Content = append(bytes.Clone(files[1].Content), ' ')
		assert.Error(t, m.Verify())
	}
}

func TestABundleIsSignedAgainTheSame(t *testing.T) {
	s := signer(t, identity.RSA3072)
	var once, again bytes.Buffer
	require.NoError(t, Bundle(context.Background(), packed(t, "BundleConfig.pb", "base/dex/classes.dex"), &once, s, "test"))
	a, err := archive.Open(bytes.NewReader(once.Bytes()), int64(once.Len()))
	require.NoError(t, err)
	require.NoError(t, Bundle(context.Background(), a, &again, s, "test"))
	assert.Equal(t, once.Bytes(), again.Bytes())
	assert.NotNil(t, a.Find("META-INF/PISTON.RSA"))
}

func TestWhatAManifestCannotSayIsRefused(t *testing.T) {
	_, err := Sign(context.Background(), packed(t, "a\r\nName: b"), signer(t, identity.P256), Options{Hash: crypto.SHA256})
	assert.ErrorContains(t, err, "line break")
	assert.ErrorContains(t, Bundle(context.Background(), packed(t, "a"), &bytes.Buffer{}, sign.Signer{}, ""), "no key")
}
