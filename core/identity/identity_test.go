package identity

import (
	"bytes"
	crand "crypto/rand"
	"crypto/x509"
	"encoding/asn1"
	"encoding/pem"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/pavlo-v-chernykh/keystore-go/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/sign"
)

var now = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

func made(t *testing.T) sign.Signer {
	s, err := Make(P256, "Tidewick release", DefaultYears, now)
	require.NoError(t, err)
	return s
}

func TestAnIdentityIsMade(t *testing.T) {
	for kind, want := range map[Algorithm]string{RSA3072: "RSA 3072", P256: "P-256"} {
		s, err := Make(kind, "Tidewick release", 30, now)
		require.NoError(t, err)
		require.NoError(t, s.Check())
		assert.Equal(t, want, KindOf(s.Key.Public()))
		assert.Equal(t, "CN=Tidewick release", s.Leaf().Subject.String())
		assert.Equal(t, 2056, s.Leaf().NotAfter.Year())
		c := s.Leaf()
		assert.NoError(t, c.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate, c.Signature))
	}
	for name, years := range map[string]int{"": 30, strings.Repeat("x", 65): 30, "two\nlines": 30, "ok": 0, "fine": 101} {
		_, err := Make(P256, name, years, now)
		assert.Error(t, err, name)
	}
	_, err := Make("dsa", "x", 1, now)
	assert.ErrorContains(t, err, "rsa-4096, rsa-3072 and p256")
}

func TestWhatIsKeptIsReadAgain(t *testing.T) {
	s := made(t)
	kept, err := Marshal(s)
	require.NoError(t, err)
	again, err := Parse(kept)
	require.NoError(t, err)
	assert.Equal(t, s.Leaf().Raw, again.Leaf().Raw)
	assert.NoError(t, again.Check())
}

func TestAnExportIsOpenedByItsPassphraseOnly(t *testing.T) {
	s := made(t)
	_, err := Export(s, "short")
	assert.ErrorContains(t, err, "12 characters")
	out, err := Export(s, "the ebb and the flood")
	require.NoError(t, err)
	again, err := Import(File{Data: out, Password: "the ebb and the flood"})
	require.NoError(t, err)
	assert.Equal(t, s.Leaf().Raw, again.Leaf().Raw)
	for _, password := range []string{"", "the ebb"} {
		_, err = Import(File{Data: out, Password: password})
		assert.ErrorIs(t, err, ErrPassword)
	}
}

// jks is a file with keys under aliases, each with a password.
func jks(t *testing.T, password string, keys map[string]string) []byte {
	store := keystore.New()
	for alias, own := range keys {
		s := made(t)
		key, err := x509.MarshalPKCS8PrivateKey(s.Key)
		require.NoError(t, err)
		require.NoError(t, store.SetPrivateKeyEntry(alias, keystore.PrivateKeyEntry{CreationTime: now, PrivateKey: key,
			CertificateChain: []keystore.Certificate{{Type: "X509", Content: s.Leaf().Raw}}}, []byte(own)))
	}
	var b bytes.Buffer
	require.NoError(t, store.Store(&b, []byte(password)))
	return b.Bytes()
}

func TestEachWayInWhichAnImportGoesWrongIsTold(t *testing.T) {
	one := jks(t, "store-word", map[string]string{"upload": "key-word"})
	two := jks(t, "store-word", map[string]string{"upload": "store-word", "old": "store-word"})
	s := made(t)
	key, err := x509.MarshalPKCS8PrivateKey(s.Key)
	require.NoError(t, err)
	bare := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})
	locked := pem.EncodeToMemory(&pem.Block{Type: "ENCRYPTED PRIVATE KEY"})
	for name, c := range map[string]struct {
		file File
		want error
	}{
		"password of the file":     {File{Data: one, Password: "wrong"}, ErrPassword},
		"password of the key":      {File{Data: one, Password: "store-word"}, ErrKeyPassword},
		"wrong one of the key":     {File{Data: one, Password: "store-word", KeyPassword: "no"}, ErrKeyPassword},
		"cut off":                  {File{Data: one[:200], Password: "store-word"}, ErrPassword},
		"nothing":                  {File{}, ErrFormat},
		"text":                     {File{Data: []byte("a key, honestly")}, ErrFormat},
		"half a PKCS #12":          {File{Data: []byte{0x30, 0x82, 1, 1, 2}}, ErrFormat},
		"no certificate":           {File{Data: bare}, ErrFormat},
		"another's certificate":    {File{Data: append(bare, Certificates(made(t).Chain)...)}, ErrFormat},
		"two keys":                 {File{Data: append(bare, bare...)}, ErrFormat},
		"a certificate only":       {File{Data: Certificates(s.Chain)}, ErrFormat},
		"encrypted PEM":            {File{Data: locked}, ErrEncryption},
		"larger than a key can be": {File{Data: make([]byte, MaxFile+1)}, ErrFormat},
	} {
		_, err := Import(c.file)
		assert.ErrorIs(t, err, c.want, name)
	}
	_, err = Import(File{Data: two, Password: "store-word"})
	var alias *AliasError
	require.ErrorAs(t, err, &alias)
	assert.ElementsMatch(t, []string{"upload", "old"}, alias.Have)
	_, err = Import(File{Data: two, Password: "store-word", Alias: "none"})
	assert.ErrorContains(t, err, `holds no key "none"`)
	for _, f := range []File{{Data: two, Password: "store-word", Alias: "OLD"},
		{Data: one, Password: "store-word", KeyPassword: "key-word"}} {
		_, err = Import(f)
		assert.NoError(t, err)
	}
}

func TestAChainIsPutInItsOrder(t *testing.T) {
	authority, err := Make(P256, "Authority", 30, now)
	require.NoError(t, err)
	leaf := made(t)
	stranger := made(t)
	about := *authority.Leaf()
	about.IsCA, about.BasicConstraintsValid, about.KeyUsage = true, true, x509.KeyUsageCertSign
	root := issue(t, &about, &about, authority, authority)
	child := issue(t, leaf.Leaf(), root, leaf, authority)
	key, err := x509.MarshalPKCS8PrivateKey(leaf.Key)
	require.NoError(t, err)
	file := Certificates([]*x509.Certificate{stranger.Leaf(), root, child})
	file = append(file, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})...)
	s, err := Import(File{Data: file})
	require.NoError(t, err)
	require.Len(t, s.Chain, 2)
	assert.Equal(t, child.Raw, s.Chain[0].Raw)
	assert.Equal(t, root.Raw, s.Chain[1].Raw)
}

func issue(t *testing.T, about, parent *x509.Certificate, own, by sign.Signer) *x509.Certificate {
	der, err := x509.CreateCertificate(crand.Reader, about, parent, own.Key.Public(), by.Key)
	require.NoError(t, err)
	c, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return c
}

func TestFingerprintsAreWrittenAsPeopleCompareThem(t *testing.T) {
	f := FingerprintsOf(made(t).Leaf())
	assert.Regexp(t, `^([0-9A-F]{2}:){31}[0-9A-F]{2}$`, f.SHA256)
	assert.Regexp(t, `^([0-9A-F]{2}:){19}[0-9A-F]{2}$`, f.SHA1)
}

func TestAFileThatWouldTakeHoursToOpenIsRefused(t *testing.T) {
	out, err := Export(made(t), "the ebb and the flood")
	require.NoError(t, err)
	said := []byte{0x02, 0x02, 0x08, 0x00} // 2,048 times, as the library writes it
	require.Positive(t, bytes.Count(out, said))
	// The count of the last, that of the sum over all; three bytes longer are the sequences around it.
	type pfx struct {
		Version int
		Safe    asn1.RawValue
		Mac     struct {
			Digest asn1.RawValue
			Salt   []byte
			Rounds int `asn1:"optional,default:1"`
		}
	}
	var p pfx
	_, err = asn1.Unmarshal(out, &p)
	require.NoError(t, err)
	p.Mac.Rounds = 2_000_000_000
	slow, err := asn1.Marshal(p)
	require.NoError(t, err)
	_, err = Import(File{Data: slow, Password: "the ebb and the flood"})
	assert.ErrorContains(t, err, "stretched more than")
	inner := bytes.Replace(out, said, []byte{0x02, 0x02, 0x7f, 0xff}, 1)
	_, err = Import(File{Data: inner, Password: "the ebb and the flood"})
	assert.NotContains(t, fmt.Sprint(err), "stretched", "as often as some do")
}

func TestNoFileDoesHarm(t *testing.T) {
	out, err := Export(made(t), "the ebb and the flood")
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(5, 6))
	for _, good := range [][]byte{jks(t, "store-word", map[string]string{"a": "store-word"}), out} {
		for range 300 { // PKCS #12 stretches its password each time
			b := bytes.Clone(good)
			for range 1 + r.IntN(3) {
				b[r.IntN(len(b))] = byte(r.Uint32())
			}
			if s, err := Import(File{Data: b, Password: "store-word"}); err == nil {
				assert.NoError(t, s.Check(), "what is taken over can sign")
			}
		}
	}
}
