package e2e

import (
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"debug/macho"
	"encoding/base64"
	endian "encoding/binary"
	"encoding/hex"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"howett.net/plist"
)

// What stands here shares no code with the signer: it checks by programs that are not ours, and by hand.

// verifyAPK has each scheme verified on its own, by the systems that go by it.
func verifyAPK(t *testing.T, apk, fingerprint string) {
	for scheme, span := range map[string][2]string{"v1": {"21", "23"}, "v2": {"24", "27"}, "v3": {"28", "34"}} {
		out := program(t, "apksigner", "verify", "-v", "--print-certs", "--min-sdk-version", span[0], "--max-sdk-version",
			span[1], apk)
		assert.Regexp(t, `Verified using `+scheme+` scheme [^:]*: true`, out)
		assert.Contains(t, out, strings.ToLower(strings.ReplaceAll(fingerprint, ":", "")))
	}
	program(t, "zipalign", "-c", "4", apk)
	program(t, "unzip", "-tq", apk)
}

// checkApp checks each program in an app, and the seals of its folders.
func checkApp(t *testing.T, app string) {
	checkProgram(t, filepath.Join(app, "Tidewick"), filepath.Join(app, "Info.plist"),
		filepath.Join(app, "_CodeSignature/CodeResources"))
	framework := filepath.Join(app, "Frameworks/Tides.framework")
	checkProgram(t, filepath.Join(framework, "Tides"), filepath.Join(framework, "Info.plist"),
		filepath.Join(framework, "_CodeSignature/CodeResources"))
	for _, dir := range []string{framework, app} {
		checkSeal(t, dir)
	}
}

// seal is what another program makes of a seal.
func readSeal(t *testing.T, name string) (out struct {
	Files  map[string][]byte `plist:"files"`
	Files2 map[string]struct {
		Hash2 []byte `plist:"hash2"`
	} `plist:"files2"`
}) {
	text := program(t, "plistutil", "-f", "xml", "-i", name)
	_, err := plist.Unmarshal([]byte(text), &out)
	require.NoError(t, err)
	return out
}

func checkSeal(t *testing.T, dir string) {
	seal := readSeal(t, filepath.Join(dir, "_CodeSignature/CodeResources"))
	info, err := os.ReadFile(filepath.Join(dir, "Info.plist"))
	require.NoError(t, err)
	var about struct{ CFBundleExecutable string }
	_, err = plist.Unmarshal(info, &about)
	require.NoError(t, err)
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		name, _ := filepath.Rel(dir, path)
		if d.IsDir() || name == about.CFBundleExecutable || strings.HasPrefix(name, "_CodeSignature/") {
			return nil
		}
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		short, long := sha1.Sum(b), sha256.Sum256(b)
		assert.Equal(t, short[:], seal.Files[name], name)
		if name != "Info.plist" {
			assert.Equal(t, long[:], seal.Files2[name].Hash2, name)
		}
		return nil
	}))
}

// signatureOf cuts the signature out of a program, by the standard library's reader.
func signatureOf(t *testing.T, b []byte) (signature []byte, at int) {
	f, err := macho.NewFile(bytes.NewReader(b))
	require.NoError(t, err)
	for _, l := range f.Loads {
		raw := l.Raw()
		if f.ByteOrder.Uint32(raw) == 0x1d {
			at = int(f.ByteOrder.Uint32(raw[8:]))
			return b[at : at+int(f.ByteOrder.Uint32(raw[12:]))], at
		}
	}
	require.Fail(t, "the program has no signature")
	return nil, 0
}

func slotOf(signature []byte, slot uint32) []byte {
	for i := range endian.BigEndian.Uint32(signature[8:]) {
		if entry := signature[12+8*i:]; endian.BigEndian.Uint32(entry) == slot {
			at := endian.BigEndian.Uint32(entry[4:])
			return signature[at : at+endian.BigEndian.Uint32(signature[at+4:])]
		}
	}
	return nil
}

// pagesOf are the sums of pages that a code directory has.
func pagesOf(directory []byte) (pages [][]byte, limit int) {
	u32 := func(at int) int { return int(endian.BigEndian.Uint32(directory[at:])) }
	for i := range u32(28) {
		pages = append(pages, directory[u32(16)+32*i:][:32])
	}
	return pages, u32(32)
}

// checkProgram checks a signature as a device does, with openssl for the envelope.
func checkProgram(t *testing.T, name, info, resources string) {
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	signature, at := signatureOf(t, b)
	directory := slotOf(signature, 0)
	pages, limit := pagesOf(directory)
	require.Equal(t, at, limit, "all up to the signature is signed")
	for i, sum := range pages {
		want := sha256.Sum256(b[i*4096 : min((i+1)*4096, limit)])
		require.Equal(t, want[:], sum, "%s, page %d", name, i)
	}
	hashes := int(endian.BigEndian.Uint32(directory[16:]))
	for slot, file := range map[int]string{1: info, 3: resources} {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		want := sha256.Sum256(text)
		assert.Equal(t, want[:], directory[hashes-32*slot:][:32], file)
	}
	dir := t.TempDir()
	cms, content := filepath.Join(dir, "cms"), filepath.Join(dir, "directory")
	require.NoError(t, os.WriteFile(cms, slotOf(signature, 0x10000)[8:], 0o600))
	require.NoError(t, os.WriteFile(content, directory, 0o600))
	program(t, "openssl", "cms", "-verify", "-noverify", "-inform", "der", "-binary", "-in", cms, "-content", content,
		"-out", filepath.Join(dir, "out"))
	parsed := program(t, "openssl", "asn1parse", "-inform", "der", "-in", cms)
	sum := sha256.Sum256(directory)
	assert.Contains(t, parsed, strings.ToUpper(hex.EncodeToString(sum[:])), "the hash stands in the signed attributes")
	list := base64.StdEncoding.EncodeToString(sum[:20])
	assert.Contains(t, strings.Join(strings.Fields(string(slotOf(signature, 0x10000))), ""), list)
}
