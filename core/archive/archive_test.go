package archive

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/mutate"
)

// made writes an archive as others would.
func made(t *testing.T, files map[string]string) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, name := range []string{"a.txt", "lib/x.so", "z/deep.bin"} {
		if text, there := files[name]; there {
			f, err := w.Create(name)
			require.NoError(t, err)
			_, err = f.Write([]byte(text))
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func opened(b []byte) (*Archive, error) { return Open(bytes.NewReader(b), int64(len(b))) }

var usual = map[string]string{"a.txt": strings.Repeat("tide ", 500), "lib/x.so": "machine", "z/deep.bin": ""}

func TestAnArchiveOfOthersIsReadWhole(t *testing.T) {
	a, err := opened(made(t, usual))
	require.NoError(t, err)
	require.Len(t, a.Entries(), 3)
	for name, text := range usual {
		got, err := a.Read(a.Find(name), 1<<20)
		require.NoError(t, err, name)
		assert.Equal(t, text, string(got))
	}
	_, err = a.Read(a.Find("a.txt"), 10)
	assert.ErrorContains(t, err, "at most 10 are read")
}

func TestOthersReadWhatIsWritten(t *testing.T) {
	a, err := opened(made(t, usual))
	require.NoError(t, err)
	var b bytes.Buffer
	w := NewWriter(&b)
	require.NoError(t, w.Add("stored", []byte{1, 2, 3}, 0o755))
	for _, e := range a.Entries() {
		require.NoError(t, w.Copy(a, e, 16))
	}
	require.NoError(t, w.AddFile("packed", strings.NewReader(strings.Repeat("ab", 1000)), 0o644, true))
	require.NoError(t, w.AddFile("ünpacked", strings.NewReader("x"), 0o100644, true))
	assert.ErrorContains(t, w.Add("stored", nil, 0), "two of that name")
	require.NoError(t, w.Close())

	r, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	want := map[string]string{"stored": "\x01\x02\x03", "packed": strings.Repeat("ab", 1000), "ünpacked": "x",
		"a.txt": usual["a.txt"], "lib/x.so": "machine", "z/deep.bin": ""}
	assert.Len(t, r.File, len(want))
	for _, f := range r.File {
		in, err := f.Open()
		require.NoError(t, err)
		got, err := io.ReadAll(in)
		require.NoError(t, err, f.Name)
		assert.Equal(t, want[f.Name], string(got), f.Name)
	}
	assert.Equal(t, "-rwxr-xr-x", r.File[0].Mode().String())
}

func TestStoredEntriesLieAtMultiples(t *testing.T) {
	for _, align := range []int64{1, 4, 4096, 16 << 10} {
		var in, out bytes.Buffer
		w := NewWriter(&in)
		for i := range 50 {
			require.NoError(t, w.Add(strings.Repeat("n", i+1), []byte(strings.Repeat("\xf3", i%3)), 0o644))
		}
		require.NoError(t, w.Close())
		a, err := opened(in.Bytes())
		require.NoError(t, err)
		again := NewWriter(&out)
		for _, e := range a.Entries() {
			require.NoError(t, again.Copy(a, e, align))
		}
		require.NoError(t, again.Close())
		b, err := opened(out.Bytes())
		require.NoError(t, err)
		for _, e := range b.Entries() {
			assert.Zero(t, e.Data%align, "%d: %s", align, e.Name)
		}
	}
}

func TestMoreEntriesThanSixteenBitsCount(t *testing.T) {
	var b bytes.Buffer
	w := NewWriter(&b)
	const many = 70_000
	for i := range many {
		require.NoError(t, w.Add(fmt.Sprint(i), nil, 0o644))
	}
	require.NoError(t, w.Close())
	a, err := opened(b.Bytes())
	require.NoError(t, err)
	assert.Len(t, a.Entries(), many)
	r, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	assert.Len(t, r.File, many)
}

// lie changes bytes of an archive after the first place where something stands.
func lie(b []byte, mark string, at int, with ...byte) []byte {
	out := bytes.Clone(b)
	copy(out[bytes.LastIndex(out, []byte(mark))+at:], with)
	return out
}

func TestAnArchiveThatLiesIsRefused(t *testing.T) {
	good := made(t, usual)
	central := "PK\x01\x02"
	end := "PK\x05\x06"
	var twice bytes.Buffer
	w := NewWriter(&twice)
	require.NoError(t, w.Add("one", []byte("1"), 0))
	require.NoError(t, w.Add("two", []byte("2"), 0))
	require.NoError(t, w.Close())
	for name, c := range map[string]struct {
		b    []byte
		says string
	}{
		"nothing":             {nil, "no end of central directory"},
		"text":                {[]byte(strings.Repeat("tide", 100)), "no end of central directory"},
		"cut off":             {good[:len(good)-30], "no end of central directory"},
		"begins later":        {good[40:], ""},
		"two of one name":     {bytes.ReplaceAll(twice.Bytes(), []byte("two"), []byte("one")), "two of that name"},
		"leads out":           {bytes.ReplaceAll(good, []byte("a.txt"), []byte("../xt")), "leads out"},
		"absolute":            {bytes.ReplaceAll(good, []byte("a.txt"), []byte("/.txt")), "leads out"},
		"NUL in a name":       {bytes.ReplaceAll(good, []byte("a.txt"), []byte("a\x00txt")), "not for names"},
		"bad UTF-8":           {bytes.ReplaceAll(good, []byte("a.txt"), []byte("a\xfftxt")), "not for names"},
		"other name inside":   {bytes.Replace(good, []byte("a.txt"), []byte("b.txt"), 1), "its own header calls it"},
		"encrypted":           {lie(good, central, 8, 1, 0), "encrypted"},
		"another method":      {lie(good, central, 10, 12, 0), "packed by the method 12"},
		"larger than it is":   {lie(good, central, 24, 0, 0, 0, 0x40), "larger than its bytes can be"},
		"outside":             {lie(good, central, 42, 0xff, 0xff, 0xff, 0x0f), "it ends before byte"},
		"more entries":        {lie(good, end, 10, 9, 0), "fewer entries than it says"},
		"fewer entries":       {lie(good, end, 10, 1, 0), "belong to no entry"},
		"directory elsewhere": {lie(good, end, 16, 0xff, 0xff, 0, 0), "outside of it"},
	} {
		_, err := opened(c.b)
		if assert.Error(t, err, name) && assert.ErrorContains(t, err, c.says, name) {
			var own *Error
			assert.ErrorAs(t, err, &own, name)
		}
	}
}

func TestContentThatIsNotWhatItSaysIsRefused(t *testing.T) {
	for name, c := range map[string]struct {
		at   int // in the last central entry
		with []byte
		says string
	}{
		"shorter":     {24, []byte{0xf0, 0x0a}, "shorter than it says"},
		"longer":      {24, []byte{0x03, 0x00}, "longer than it says"},
		"another sum": {16, []byte{0xee}, "not those it was made of"},
	} {
		b := made(t, map[string]string{"a.txt": usual["a.txt"]})
		a, err := opened(lie(b, "PK\x01\x02", c.at, c.with...))
		require.NoError(t, err, name)
		_, err = io.ReadAll(a.Content(a.Find("a.txt")))
		assert.ErrorContains(t, err, c.says, name)
	}
}

func TestNoMutationDoesHarm(t *testing.T) {
	good := made(t, usual)
	read := func(b []byte) {
		a, err := opened(b)
		if err != nil {
			return
		}
		for _, e := range a.Entries() {
			content := a.Content(e)
			n, _ := io.Copy(io.Discard, content)
			content.Close()
			assert.LessOrEqual(t, n, e.Size+32<<10)
		}
	}
	mutate.Each(t, good, func(r *rand.Rand) int { return r.IntN(len(good)) }, read)
	for n := range good {
		read(good[:n])
	}
}
