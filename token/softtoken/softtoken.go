// Package softtoken is for tests: it makes a token in software (SoftHSM), which stands in for a real one.
package softtoken

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Library is SoftHSM's, from Debian.
const Library = "/usr/lib/softhsm/libsofthsm2.so"

// Token is one, in a folder of the test.
type Token struct {
	label, pin, dir string
	keys            int
}

// New makes a token. The variable by which its library is told where it is, is the test's.
func New(t *testing.T, label, pin string) *Token {
	dir := t.TempDir()
	settings := filepath.Join(dir, "softhsm2.conf")
	require.NoError(t, os.Mkdir(filepath.Join(dir, "tokens"), 0o700))
	require.NoError(t, os.WriteFile(settings, []byte("directories.tokendir = "+filepath.Join(dir, "tokens")+
		"\nobjectstore.backend = file\nlog.level = ERROR\n"), 0o600))
	t.Setenv("SOFTHSM2_CONF", settings)
	k := &Token{label: label, pin: pin, dir: dir}
	k.run(t, "softhsm2-util", "--init-token", "--free", "--label", label, "--pin", pin, "--so-pin", pin)
	return k
}

func (k *Token) run(t *testing.T, name string, args ...string) {
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s: %s", name, out)
}

// Add makes a key outside, puts it in, and gives a certificate of it, as PEM. Its kind is such as rsa:2048 or ec:P-256.
func (k *Token) Add(t *testing.T, label, kind string) (certificate string) {
	k.keys++
	algorithm, of, _ := strings.Cut(kind, ":")
	option := map[string]string{"rsa": "rsa_keygen_bits:", "ec": "ec_paramgen_curve:"}[algorithm] + of
	key, at := filepath.Join(k.dir, label+".pem"), filepath.Join(k.dir, label+".crt")
	k.run(t, "openssl", "genpkey", "-algorithm", strings.ToUpper(algorithm), "-pkeyopt", option, "-out", key)
	k.run(t, "openssl", "req", "-x509", "-new", "-key", key, "-days", "11000", "-subj", "/CN=Tidewick "+label, "-out", at)
	k.run(t, "softhsm2-util", "--import", key, "--token", k.label, "--label", label, "--id", fmt.Sprintf("%02x", k.keys),
		"--pin", k.pin)
	text, err := os.ReadFile(at)
	require.NoError(t, err)
	require.NoError(t, os.Remove(key))
	return string(text)
}
