package host

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// certificate writes a self-signed one for a name, with its key.
func certificate(t *testing.T, dir, name string) (pool *x509.CertPool) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	about := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name}, NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, about, about, key.Public(), key)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "key.pem"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "cert.pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	pool = x509.NewCertPool()
	made, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	pool.AddCert(made)
	return pool
}

func TestTLS(t *testing.T) {
	dir := t.TempDir()
	pool := certificate(t, dir, "first")
	o := options(t)
	o.Listen, o.CertFile, o.KeyFile = "0.0.0.0:0", filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	h, err := Start(t.Context(), o)
	require.NoError(t, err, "beyond loopback, since it has a certificate")
	defer h.Stop()
	_, port, err := net.SplitHostPort(strings.TrimPrefix(h.Address, "https://"))
	require.NoError(t, err)
	address := "https://127.0.0.1:" + port
	get := func(pool *x509.CertPool) (*http.Response, error) {
		c := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
		return c.Get(address + "/api/v1/health")
	}
	res, err := get(pool)
	require.NoError(t, err)
	res.Body.Close()
	assert.Contains(t, res.Header.Get("Strict-Transport-Security"), "max-age")
	assert.GreaterOrEqual(t, res.TLS.Version, uint16(tls.VersionTLS12))
	_, err = (&http.Client{}).Get(address + "/api/v1/health")
	assert.Error(t, err, "nobody takes an unknown certificate")
	plain, err := http.Get("http://127.0.0.1:" + port + "/api/v1/health")
	if err == nil {
		assert.Equal(t, 400, plain.StatusCode, "the port speaks TLS only")
		plain.Body.Close()
	}

	// A new certificate counts without a new start.
	second := certificate(t, dir, "second")
	require.NoError(t, os.Chtimes(o.CertFile, time.Now(), time.Now().Add(time.Minute)))
	res, err = get(second)
	require.NoError(t, err)
	res.Body.Close()

	o = options(t)
	o.CertFile, o.KeyFile = filepath.Join(dir, "none.pem"), filepath.Join(dir, "key.pem")
	_, err = Start(t.Context(), o)
	assert.ErrorContains(t, err, "--tls-cert")
}

func TestBehindAProxyItListensPlainly(t *testing.T) {
	l, err := listen("0.0.0.0:0", true)
	require.NoError(t, err)
	l.Close()
	o := options(t)
	o.Listen, o.Plain, o.Public = "0.0.0.0:0", true, "https://builds.tidewick.example/"
	h, err := Start(t.Context(), o)
	require.NoError(t, err)
	defer h.Stop()
	_, port, err := net.SplitHostPort(strings.TrimPrefix(h.Address, "http://"))
	require.NoError(t, err)
	res, err := http.Get("http://127.0.0.1:" + port + "/api/v1/health")
	require.NoError(t, err)
	res.Body.Close()
	assert.NotEmpty(t, res.Header.Get("Strict-Transport-Security"), "people reach it by TLS, so cookies are for that only")
}
