//go:build cgo

package token

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/token/softtoken"
)

func TestAKeyInATokenSigns(t *testing.T) {
	soft := softtoken.New(t, "tidewick", "ebb and flood")
	soft.Add(t, "upload", "rsa:2048")
	soft.Add(t, "store", "ec:P-256")
	m := New(softtoken.Library)
	t.Cleanup(func() { assert.NoError(t, m.Close()) })
	_, _, err := m.Key(Ref{"tidewick", "upload", "wrong"})
	assert.ErrorContains(t, err, `the token "tidewick" cannot be used`)
	digest := sha256.Sum256([]byte("a package"))
	key, certificate, err := m.Key(Ref{"tidewick", "upload", "ebb and flood"})
	require.NoError(t, err)
	assert.Nil(t, certificate, "it has none")
	made, err := key.Sign(rand.Reader, digest[:], crypto.SHA256)
	require.NoError(t, err)
	assert.NoError(t, rsa.VerifyPKCS1v15(key.Public().(*rsa.PublicKey), crypto.SHA256, digest[:], made))
	key, _, err = m.Key(Ref{"tidewick", "store", "ebb and flood"})
	require.NoError(t, err)
	made, err = key.Sign(rand.Reader, digest[:], crypto.SHA256)
	require.NoError(t, err)
	assert.True(t, ecdsa.VerifyASN1(key.Public().(*ecdsa.PublicKey), digest[:], made))

	for says, r := range map[string]Ref{"the token \"other\" cannot be used": {"other", "upload", "ebb and flood"},
		"was opened by another PIN":      {"tidewick", "upload", "wrong"},
		"with both its halves: \"none\"": {"tidewick", "none", "ebb and flood"}} {
		_, _, err := m.Key(r)
		assert.ErrorContains(t, err, says)
		assert.NotContains(t, err.Error(), "ebb and flood")
	}
	_, _, err = m.Key(Ref{"tidewick", "upload", "ebb and flood"})
	assert.NoError(t, err, "what failed before does not stand in the way")
	require.NoError(t, m.Close())
	_, err = key.Sign(rand.Reader, digest[:], crypto.SHA256)
	assert.Error(t, err, "the token was away")
	_, _, err = m.Key(Ref{"tidewick", "store", "ebb and flood"})
	assert.NoError(t, err, "and is asked anew")
	_, _, err = New("").Key(Ref{})
	assert.ErrorIs(t, err, ErrNone)
	_, _, err = New("/nowhere.so").Key(Ref{Token: "x", PIN: "y"})
	assert.Error(t, err)
	assert.NoError(t, (*Module)(nil).Close())
}
