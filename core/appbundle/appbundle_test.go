package appbundle

import (
	"bytes"
	"io"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/archive"
	"gentlepiston.example/piston/core/mutate/zipped"
)

func open(t *testing.T, b []byte) *archive.Archive {
	a, err := archive.Open(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	return a
}

func sample(t *testing.T) []byte {
	b, err := os.ReadFile("../appfile/testdata/tidewick.aab")
	require.NoError(t, err)
	return b
}

// moduleOf takes the base of a bundle out, as a build leaves it.
func moduleOf(t *testing.T, bundle []byte) []byte {
	b, err := Open(open(t, bundle))
	require.NoError(t, err)
	var out bytes.Buffer
	w := archive.NewWriter(&out)
	for _, place := range b.modules[0].places() {
		require.NoError(t, copied(w, b.modules[0], place, place))
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func TestABundleIsWhatItWasMadeOf(t *testing.T) {
	module := moduleOf(t, sample(t))
	var made bytes.Buffer
	about, err := Assemble(&made, []Source{{"base.zip", open(t, module)}}, Options{})
	require.NoError(t, err)
	assert.Equal(t, []string{Base}, about.Modules)
	assert.Equal(t, "net.tidewick.almanac", about.ID)
	again := open(t, moduleOf(t, made.Bytes()))
	for _, e := range open(t, module).Entries() {
		was, err := open(t, module).Read(e, 1<<20)
		require.NoError(t, err)
		require.NotNil(t, again.Find(e.Name), e.Name)
		now, err := again.Read(again.Find(e.Name), 1<<20)
		require.NoError(t, err)
		assert.Equal(t, was, now, e.Name)
	}
	// path = "lib/arm64-v8a", targeting { abi { alias: ARM64_V8A } }
	targets, err := again.Read(again.Find("native.pb"), 1<<10)
	require.NoError(t, err)
	assert.Contains(t, string(targets), "\x0a\x15\x0a\x0dlib/arm64-v8a\x12\x04\x0a\x02\x08\x03")
}

func TestAModuleInCapitalsIsOne(t *testing.T) {
	a := open(t, sample(t))
	var out bytes.Buffer
	w := archive.NewWriter(&out)
	for _, e := range a.Entries() {
		require.NoError(t, w.Copy(a, e, 1))
	}
	for _, place := range []string{"manifest/AndroidManifest.xml", "assets/north"} {
		text, err := a.Read(a.Find("base/manifest/AndroidManifest.xml"), 1<<20)
		require.NoError(t, err)
		require.NoError(t, w.Add("CHARTS/"+place, text, 0))
	}
	require.NoError(t, w.Add("META-INF/MANIFEST.MF", []byte("signed"), 0))
	require.NoError(t, w.Close())
	b, err := Open(open(t, out.Bytes()))
	require.NoError(t, err)
	require.Len(t, b.modules, 2)
	assert.Equal(t, "CHARTS", b.modules[1].name)
}

func TestTwoEntriesOfOnePlace(t *testing.T) {
	var out bytes.Buffer
	w := archive.NewWriter(&out)
	require.NoError(t, w.Add("classes.dex", []byte("a"), 0))
	require.NoError(t, w.Add("dex/classes.dex", []byte("b"), 0))
	require.NoError(t, w.Close())
	_, err := Assemble(io.Discard, []Source{{"base.zip", open(t, out.Bytes())}}, Options{})
	assert.ErrorContains(t, err, "base.zip: classes.dex and dex/classes.dex have one place")
}

func TestNoModuleDoesHarm(t *testing.T) {
	made := 0
	zipped.Each(t, moduleOf(t, sample(t)), func(b []byte) {
		a, err := archive.Open(bytes.NewReader(b), int64(len(b)))
		require.NoError(t, err)
		var out bytes.Buffer
		if _, err := Assemble(&out, []Source{{"base.zip", a}}, Options{}); err != nil {
			return
		}
		bundle, err := Open(open(t, out.Bytes()))
		if err == nil && bundle.Resources(io.Discard) == nil {
			made++
		}
	})
	assert.Greater(t, made, 100)
}
