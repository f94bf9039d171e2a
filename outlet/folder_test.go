package outlet

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/publication"
	"gentlepiston.example/piston/core/version"
)

// offered is an offer of packages by their texts.
func offered(name string, files map[string]string) Offer {
	o := Offer{Key: "7", App: "almanac", Name: name, Channel: "harbours", Share: 100,
		Builds: map[string]version.BuildNumber{"android": 6}, Notes: map[string]string{"en": "Six harbours"}}
	for file, text := range files {
		sum := sha256.Sum256([]byte(text))
		o.Packages = append(o.Packages, Package{File: file, Kind: "apk", Platform: "android", Size: int64(len(text)),
			SHA256: hex.EncodeToString(sum[:]), Open: func(_ context.Context, from int64) (io.ReadCloser, error) {
				return io.NopCloser(bytes.NewReader([]byte(text)[from:])), nil
			}})
	}
	return o
}

func openedFolder(t *testing.T) (*Folder, string) {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "outlet")
	f, err := OpenFolder(dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	return f, dir
}

func TestAFolderGetsAVersionWholeAndOnce(t *testing.T) {
	f, dir := openedFolder(t)
	ctx := t.Context()
	now, err := f.Now(ctx, offered("1.4.0", nil))
	require.NoError(t, err)
	assert.Empty(t, now.Out)
	first := offered("1.4.0", map[string]string{"tide.apk": "four", "tide.aab": "bundle"})
	missing, err := f.Missing(ctx, first)
	require.NoError(t, err)
	assert.Empty(t, missing)
	var told int64
	ref, err := f.Bring(ctx, first, func(n int64) { told = n })
	require.NoError(t, err)
	assert.Equal(t, first.Size(), told)
	text, err := os.ReadFile(filepath.Join(dir, "harbours/almanac/1.4.0/tide.apk"))
	require.NoError(t, err)
	assert.Equal(t, "four", string(text))
	again, err := f.Bring(ctx, first, func(int64) {})
	require.NoError(t, err, "after a crash it is called again")
	assert.Equal(t, ref, again)
	found, err := f.Sent(ctx, first)
	require.NoError(t, err)
	assert.Equal(t, ref, found)
	other := first
	other.Key = "8"
	found, err = f.Sent(ctx, other)
	require.NoError(t, err)
	assert.Empty(t, found, "another has brought it")

	second := offered("1.5.0", map[string]string{"tide.apk": "five"})
	next, err := f.Bring(ctx, second, func(int64) {})
	require.NoError(t, err)
	now, err = f.Now(ctx, offered("1.4.0", nil))
	require.NoError(t, err)
	require.Len(t, now.Out, 1)
	assert.Equal(t, "1.5.0", now.Out[0].Name)
	stands := func(ref string) publication.State {
		s, err := f.Stands(ctx, ref)
		require.NoError(t, err)
		return s.State
	}
	assert.Equal(t, publication.Halted, stands(ref), "who comes now gets the newer one")
	assert.Equal(t, publication.Out, stands(next))

	// Yesterday's again.
	_, err = f.Bring(ctx, first, func(int64) {})
	require.NoError(t, err)
	assert.Equal(t, publication.Out, stands(ref))
	require.NoError(t, f.Halt(ctx, ref))
	require.NoError(t, f.Halt(ctx, ref))
	assert.Equal(t, publication.Halted, stands(ref))
	require.NoError(t, f.Share(ctx, ref, 100))
	assert.Equal(t, publication.Out, stands(ref))
	assert.Error(t, f.Share(ctx, ref, 10))
	require.NoError(t, f.TakeBack(ctx, ref))
	require.NoError(t, f.TakeBack(ctx, ref), "twice is no error")
	assert.Equal(t, publication.Withdrawn, stands(ref))
	assert.NoFileExists(t, filepath.Join(dir, "harbours/almanac/1.4.0/tide.apk"))
	assert.FileExists(t, filepath.Join(dir, "harbours/almanac/1.5.0/tide.apk"))
}

func TestWhatPeopleMayHaveIsNotWrittenOver(t *testing.T) {
	f, dir := openedFolder(t)
	ctx := t.Context()
	_, err := f.Bring(ctx, offered("1.4.0", map[string]string{"tide.apk": "four"}), func(int64) {})
	require.NoError(t, err)
	other := offered("1.4.0", map[string]string{"tide.apk": "another"})
	missing, err := f.Missing(ctx, other)
	require.NoError(t, err)
	require.Len(t, missing, 1)
	assert.Contains(t, missing[0].What, "holds other packages of 1.4.0")
	_, err = f.Bring(ctx, other, func(int64) {})
	var refused *Refusal
	assert.ErrorAs(t, err, &refused)
	text, err := os.ReadFile(filepath.Join(dir, "harbours/almanac/1.4.0/tide.apk"))
	require.NoError(t, err)
	assert.Equal(t, "four", string(text))
}

func TestAFolderSaysAllThatIsMissingAtOnce(t *testing.T) {
	f, _ := openedFolder(t)
	o := offered("1.4.0", map[string]string{"tide.apk": "x"})
	o.Share = 10
	o.Packages = append(o.Packages, o.Packages[0])
	missing, err := f.Missing(t.Context(), o)
	require.NoError(t, err)
	assert.Len(t, missing, 2)
	for _, change := range []func(o *Offer){
		func(o *Offer) { o.Channel = "../up" },
		func(o *Offer) { o.Channel = "" },
		func(o *Offer) { o.App = "a/b" },
		func(o *Offer) { o.Name = ".." },
		func(o *Offer) { o.Packages[0].File = releaseFile },
		func(o *Offer) { o.Packages[0].File = "a/../../x" },
	} {
		o := offered("1.4.0", map[string]string{"tide.apk": "x"})
		change(&o)
		missing, err := f.Missing(t.Context(), o)
		require.NoError(t, err)
		assert.Len(t, missing, 1, "%+v", o)
	}
}

// What fails on the way leaves nothing that looks like a version.
func TestHalfAVersionIsNone(t *testing.T) {
	f, dir := openedFolder(t)
	for what, change := range map[string]func(p *Package){
		"a file that ends too early": func(p *Package) { p.Size++ },
		"a file that was changed":    func(p *Package) { p.SHA256 = "00" },
		"a file that is gone": func(p *Package) {
			p.Open = func(context.Context, int64) (io.ReadCloser, error) { return nil, fs.ErrNotExist }
		},
		"a disk that fails": func(p *Package) {
			p.Open = func(context.Context, int64) (io.ReadCloser, error) { return io.NopCloser(broken{}), nil }
		},
	} {
		o := offered("1.4.0", map[string]string{"tide.apk": "four", "tide.aab": "bundle"})
		change(&o.Packages[1])
		_, err := f.Bring(t.Context(), o, func(int64) {})
		var away *Away
		assert.ErrorAs(t, err, &away, what)
		left, err := os.ReadDir(filepath.Join(dir, "harbours/almanac"))
		require.NoError(t, err)
		assert.Empty(t, left, what)
	}
	// A server that was killed leaves its part; another begins anew.
	part := filepath.Join(dir, "harbours/almanac/.part-1.4.0-7")
	require.NoError(t, os.MkdirAll(part, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(part, "tide.apk"), []byte("fo"), 0o644))
	_, err := f.Bring(t.Context(), offered("1.4.0", map[string]string{"tide.apk": "four"}), func(int64) {})
	require.NoError(t, err)
	assert.NoDirExists(t, part)
}

type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, errors.New("the disk is gone") }

func TestALinkLeadsOutOfNoFolder(t *testing.T) {
	f, dir := openedFolder(t)
	elsewhere := t.TempDir()
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(dir, "harbours")))
	_, err := f.Bring(t.Context(), offered("1.4.0", map[string]string{"tide.apk": "four"}), func(int64) {})
	assert.Error(t, err)
	left, err := os.ReadDir(elsewhere)
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestNamesOfFolders(t *testing.T) {
	for _, ok := range []string{"a", "a/b", "beta-1", "A.b"} {
		assert.NoError(t, FolderName(ok), ok)
	}
	for _, bad := range []string{"", "/a", "a/", "a//b", "..", "a/../b", ".hidden", "a\x00b", "a b"} {
		assert.Error(t, FolderName(bad), bad)
	}
}
