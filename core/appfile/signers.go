package appfile

import (
	"crypto/x509"
	"path"
	"slices"
	"strings"

	"github.com/smallstep/pkcs7"

	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/sign/apk"
)

// maxSignature bounds the bytes of a signature of entries.
const maxSignature = 1 << 20

// readSigners tells who signed a package of Android, and how. It says what stands there; whether the signatures are
// good is verified where that matters.
func (p *Package) readSigners() error {
	block, err := apk.ReadBlock(p.Archive, p.file)
	if err != nil {
		return err
	}
	chain := func(scheme string, c *x509.Certificate) {
		if !slices.Contains(p.Schemes, scheme) {
			p.Schemes = append(p.Schemes, scheme)
		}
		s := signerOf(c)
		if !slices.ContainsFunc(p.Signers, func(o Signer) bool { return o.Fingerprints == s.Fingerprints }) {
			p.Signers = append(p.Signers, s)
		}
	}
	for _, e := range p.Entries() {
		kind := strings.ToUpper(path.Ext(e.Name))
		if path.Dir(e.Name) != "META-INF" || kind != ".RSA" && kind != ".EC" && kind != ".DSA" {
			continue
		}
		text, err := p.Read(e, maxSignature)
		if err != nil {
			return err
		}
		if m, err := pkcs7.Parse(text); err == nil {
			if c := m.GetOnlySigner(); c != nil {
				chain("v1", c)
			}
		}
	}
	for _, s := range block {
		chain(s.Scheme, s.Certificate)
	}
	return nil
}

func signerOf(c *x509.Certificate) Signer {
	return Signer{Subject: c.Subject.String(), Key: identity.KindOf(c.PublicKey), Ends: c.NotAfter,
		Fingerprints: identity.FingerprintsOf(c)}
}
