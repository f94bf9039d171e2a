//go:build cgo

package service

import (
	"crypto"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/token/softtoken"
)

func TestAnIdentityInATokenSigns(t *testing.T) {
	soft := softtoken.New(t, "tidewick", "ebb and flood")
	certificate := soft.Add(t, "upload", "rsa:3072")
	other := soft.Add(t, "other", "rsa:3072")
	s, r := openWithRepository(t)
	ctx := asItself(t)
	r.commit(map[string]string{"piston/p.toml": signs})
	take := func(k api.TokenKey) (api.Identity, error) {
		return s.Identities.SetIdentity(ctx, "app", "ada", "upload", api.NewIdentity{Platform: "android", Token: &k})
	}
	good := api.TokenKey{Token: "tidewick", Key: "upload", PIN: "ebb and flood", Certificates: certificate}
	_, err := take(good)
	require.NoError(t, err)
	for says, k := range map[string]api.TokenKey{
		"give one, as PEM":       {Token: "tidewick", Key: "upload", PIN: "ebb and flood"},
		"is not that of the key": {Token: "tidewick", Key: "upload", PIN: "ebb and flood", Certificates: other},
		"opened by another PIN":  {Token: "tidewick", Key: "upload", PIN: "guess", Certificates: certificate},
		"with both its halves":   {Token: "tidewick", Key: "none", PIN: "ebb and flood", Certificates: certificate},
		`"sea" cannot be used`:   {Token: "sea", Key: "upload", PIN: "ebb and flood", Certificates: certificate},
	} {
		_, err := take(k)
		assert.ErrorContains(t, err, says)
		assert.NotContains(t, err.Error(), "ebb and flood")
	}
	i, err := take(good)
	require.NoError(t, err)
	assert.Equal(t, []any{"tidewick", false, "RSA 3072"}, []any{i.Token, i.Made, i.Key})
	assert.Empty(t, i.Warnings, "nobody is reminded of a copy that cannot be made")

	attempt := signing(t, s, "p")
	ask := toSign(i, "net.tide")
	made, err := s.Identities.Sign(ctx, attempt, ask)
	require.NoError(t, err)
	block, _ := pem.Decode([]byte(certificate))
	c, err := x509.ParseCertificate(block.Bytes)
	require.NoError(t, err)
	assert.NoError(t, rsa.VerifyPKCS1v15(c.PublicKey.(*rsa.PublicKey), crypto.SHA256, ask.Digest, made.Signature))
	_, err = s.Identities.ExportIdentity(ctx, "app", "ada", "upload", api.IdentityExport{Passphrase: "ebb and flood"})
	assert.ErrorContains(t, err, "cannot leave it")
	_, err = s.Vault.RotateMaster(ctx)
	require.NoError(t, err)
	began := time.Now()
	_, err = s.Identities.Sign(ctx, attempt, ask)
	assert.NoError(t, err, "under another master, too")
	t.Logf("a signature of SoftHSM, with its records: %s", time.Since(began))
	assert.NoError(t, s.Identities.DropIdentity(ctx, "app", "upload"))
}
