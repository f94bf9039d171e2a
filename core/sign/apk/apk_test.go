package apk

import (
	"bytes"
	"context"
	"crypto"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"io"
	mathrand "math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/archive"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/mutate"
	"gentlepiston.example/piston/core/sign"
)

func signer(t *testing.T) sign.Signer {
	s, err := identity.Make(identity.RSA3072, "Tidewick", 30, time.Unix(1_700_000_000, 0))
	require.NoError(t, err)
	return s
}

// unsigned is a package with something packed, something stored, and a library.
func unsigned(t *testing.T, large int) *archive.Archive {
	var b bytes.Buffer
	w := archive.NewWriter(&b)
	r := mathrand.New(mathrand.NewPCG(1, 2))
	noise := make([]byte, large)
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	require.NoError(t, w.Add("AndroidManifest.xml", []byte("manifest "+strings.Repeat("x", 200)), 0o644))
	require.NoError(t, w.Add("lib/arm64-v8a/libtide.so", noise, 0o644))
	require.NoError(t, w.Add("resources.arsc", noise[:97], 0o644))
	require.NoError(t, w.Add("META-INF/OLD.SF", []byte("of before"), 0o644))
	require.NoError(t, w.Add("META-INF/services/tide", []byte("stays"), 0o644))
	require.NoError(t, w.Close())
	a, err := archive.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	return a
}

func signed(t *testing.T, a *archive.Archive, s sign.Signer, o Options) ([]byte, Result) {
	f, err := os.Create(filepath.Join(t.TempDir(), "out.apk"))
	require.NoError(t, err)
	defer f.Close()
	r, err := Sign(context.Background(), a, f, s, o)
	require.NoError(t, err)
	b, err := os.ReadFile(f.Name())
	require.NoError(t, err)
	assert.EqualValues(t, len(b), r.Size)
	return b, r
}

// frames takes apart what has lengths before it; it is written apart from the code that it checks.
func frames(t *testing.T, b []byte) (list [][]byte) {
	for len(b) > 0 {
		var one []byte
		one, b = frame(t, b)
		list = append(list, one)
	}
	return list
}

// frame cuts the first of them off.
func frame(t *testing.T, b []byte) (one, rest []byte) {
	require.GreaterOrEqual(t, len(b), 4)
	n := binary.LittleEndian.Uint32(b)
	require.LessOrEqual(t, int(n), len(b)-4)
	return b[4 : 4+n], b[4+n:]
}

// verify checks a scheme as a device would: the signature over the signed data, the digest in it over the file.
func verify(t *testing.T, file []byte, id uint32) *x509.Certificate {
	end := len(file) - 22
	directory := int(binary.LittleEndian.Uint32(file[end+16:]))
	size := int(binary.LittleEndian.Uint64(file[directory-24:]))
	start := directory - size - 8
	require.Equal(t, "APK Sig Block 42", string(file[directory-16:directory]))
	require.Zero(t, (size+8)%4096)
	require.EqualValues(t, size, binary.LittleEndian.Uint64(file[start:]))
	var value []byte
	for b := file[start+8 : directory-24]; len(b) > 0; {
		n := binary.LittleEndian.Uint64(b)
		if binary.LittleEndian.Uint32(b[8:]) == id {
			value = b[12 : 8+n]
		}
		b = b[8+n:]
	}
	require.NotNil(t, value, "no block %x", id)
	signers := frames(t, frames(t, value)[0])
	require.Len(t, signers, 1)
	data, _ := frame(t, signers[0])
	rest := signers[0][4+len(data):]
	if id == 0xf05368c0 {
		assert.EqualValues(t, 28, binary.LittleEndian.Uint32(rest))
		rest = rest[8:]
	}
	tail := frames(t, rest)
	signature := frames(t, tail[0])[0]
	require.EqualValues(t, 0x0103, binary.LittleEndian.Uint32(signature))
	public, err := x509.ParsePKIXPublicKey(tail[1])
	require.NoError(t, err)
	sum := sha256.Sum256(data)
	require.NoError(t, rsa.VerifyPKCS1v15(public.(*rsa.PublicKey), crypto.SHA256, sum[:], frames(t, signature[4:])[0]))

	digests, after := frame(t, data)
	certificates, _ := frame(t, after)
	said := frames(t, frames(t, digests)[0][4:])[0]
	foot := bytes.Clone(file[end:])
	binary.LittleEndian.PutUint32(foot[16:], uint32(start))
	assert.Equal(t, wholeDigest(file[:start], file[directory:end], foot), said)
	c, err := x509.ParseCertificate(frames(t, certificates)[0])
	require.NoError(t, err)
	assert.True(t, c.PublicKey.(*rsa.PublicKey).Equal(public))
	return c
}

func wholeDigest(sections ...[]byte) []byte {
	var sums []byte
	count := uint32(0)
	for _, s := range sections {
		for len(s) > 0 {
			n := min(len(s), 1<<20)
			sum := sha256.Sum256(append(binary.LittleEndian.AppendUint32([]byte{0xa5}, uint32(n)), s[:n]...))
			sums, count, s = append(sums, sum[:]...), count+1, s[n:]
		}
	}
	sum := sha256.Sum256(append(binary.LittleEndian.AppendUint32([]byte{0x5a}, count), sums...))
	return sum[:]
}

func TestAPackageIsSignedByEverySchemeThatItsDevicesNeed(t *testing.T) {
	s := signer(t)
	for _, c := range []struct {
		level int
		want  []int
	}{{16, []int{1, 2, 3}}, {21, []int{1, 2, 3}}, {23, []int{1, 2, 3}}, {24, []int{2, 3}}, {30, []int{2, 3}}} {
		file, r := signed(t, unsigned(t, 3<<20), s, Options{MinSDK: c.level, By: "test"})
		assert.Equal(t, c.want, r.Schemes, c.level)
		assert.Equal(t, s.Leaf().Raw, verify(t, file, 0x7109871a).Raw)
		assert.Equal(t, s.Leaf().Raw, verify(t, file, 0xf05368c0).Raw)
		a, err := archive.Open(bytes.NewReader(file), int64(len(file)))
		require.NoError(t, err)
		assert.Nil(t, a.Find("META-INF/OLD.SF"), "what it was signed with before")
		assert.NotNil(t, a.Find("META-INF/services/tide"))
		assert.Equal(t, c.level < 24, a.Find("META-INF/PISTON.SF") != nil)
		assert.Empty(t, Misplaced(a))
		library := a.Find("lib/arm64-v8a/libtide.so")
		assert.Zero(t, library.Data%(16<<10))
		list, err := ReadBlock(a, bytes.NewReader(file))
		require.NoError(t, err)
		require.Len(t, list, 2)
		assert.Equal(t, "v2", list[0].Scheme)
		assert.Equal(t, s.Leaf().Raw, list[1].Certificate.Raw)
	}
}

func TestTheSamePackageGivesTheSameBytes(t *testing.T) {
	s := signer(t)
	o := Options{MinSDK: 21, By: "test", V4: true}
	once, r := signed(t, unsigned(t, 70_000), s, o)
	again, _ := signed(t, unsigned(t, 70_000), s, o)
	assert.True(t, bytes.Equal(once, again))
	a, err := archive.Open(bytes.NewReader(once), int64(len(once)))
	require.NoError(t, err)
	anew, r2 := signed(t, a, s, o)
	assert.Equal(t, r.Beside, r2.Beside)
	assert.True(t, bytes.Equal(once, anew), "signing what is signed makes no difference")
}

func TestAnyByteThatChangesIsSeen(t *testing.T) {
	file, _ := signed(t, unsigned(t, 5000), signer(t), Options{MinSDK: 24, By: "test"})
	end := len(file) - 22
	directory := int(binary.LittleEndian.Uint32(file[end+16:]))
	start := directory - int(binary.LittleEndian.Uint64(file[directory-24:])) - 8
	for _, at := range []int{0, 100, start - 1, directory, end - 1} {
		file[at] ^= 1
		foot := bytes.Clone(file[end:])
		binary.LittleEndian.PutUint32(foot[16:], uint32(start))
		digest := wholeDigest(file[:start], file[directory:end], foot)
		file[at] ^= 1
		assert.False(t, bytes.Contains(file, digest), "byte %d is not signed", at)
	}
}

func TestTheTreeOverAFileIsThatOfAFileSystem(t *testing.T) {
	for _, pages := range []int{1, 2, 128, 129, 300} {
		data := bytes.Repeat([]byte("tide"), pages*1024-3)
		levels, root, err := tree(context.Background(), bytes.NewReader(data), int64(len(data)))
		require.NoError(t, err)
		// By hand: sums of pages, in pages, up to one.
		level, want := append(data, make([]byte, pages*4096-len(data))...), []byte(nil)
		for len(level) > 4096 {
			var above []byte
			for at := 0; at < len(level); at += 4096 {
				sum := sha256.Sum256(level[at : at+4096])
				above = append(above, sum[:]...)
			}
			above = append(above, make([]byte, (4096-len(above)%4096)%4096)...)
			level, want = above, append(bytes.Clone(above), want...)
		}
		sum := sha256.Sum256(level)
		assert.Equal(t, sum[:], root, pages)
		assert.Equal(t, len(want), len(levels), pages)
		assert.True(t, bytes.Equal(want, levels), pages)
	}
}

// failing signs nothing.
type failing struct{ crypto.Signer }

func (failing) Sign(io.Reader, []byte, crypto.SignerOpts) ([]byte, error) { return nil, errGone }

var errGone = errors.New("the service is away")

func TestWhatCannotBeSignedSaysWhy(t *testing.T) {
	s := signer(t)
	other := signer(t)
	f, err := os.Create(filepath.Join(t.TempDir(), "out.apk"))
	require.NoError(t, err)
	defer f.Close()
	a := unsigned(t, 100)
	_, err = Sign(context.Background(), a, f, sign.Signer{Key: s.Key, Chain: other.Chain}, Options{})
	assert.ErrorContains(t, err, "not that of the key")
	_, err = Sign(context.Background(), a, f, sign.Signer{}, Options{})
	assert.ErrorContains(t, err, "no key")
	_, err = Sign(context.Background(), a, f, sign.Signer{Key: failing{s.Key}, Chain: s.Chain}, Options{MinSDK: 24})
	assert.ErrorIs(t, err, errGone)
	stopped, stop := context.WithCancel(context.Background())
	stop()
	_, err = Sign(stopped, a, f, s, Options{MinSDK: 24})
	assert.ErrorIs(t, err, context.Canceled)
}

func TestNoSigningBlockDoesHarm(t *testing.T) {
	file, _ := signed(t, unsigned(t, 500), signer(t), Options{MinSDK: 24, By: "test"})
	directory := int(binary.LittleEndian.Uint32(file[len(file)-6:]))
	read := 0
	mutate.Each(t, file, func(r *mathrand.Rand) int { return directory - 1 - r.IntN(4096) }, func(b []byte) {
		a, err := archive.Open(bytes.NewReader(b), int64(len(b)))
		require.NoError(t, err)
		if _, err := ReadBlock(a, bytes.NewReader(b)); err == nil {
			read++
		}
	})
	assert.NotZero(t, read)
}
