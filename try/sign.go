package try

import (
	"context"
	"crypto"
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/checklist"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/sign"
)

// throwAway is the key of one trial. What it has signed no store takes, and no device has an app of.
type throwAway struct {
	once   sync.Once
	signer sign.Signer
	err    error
}

func (t *throwAway) get() (sign.Signer, error) {
	t.once.Do(func() {
		t.signer, t.err = identity.Make(identity.RSA3072, "Throw-away key of piston try", 1, time.Now())
	})
	return t.signer, t.err
}

// SigningIdentity is the trial's own; for iOS with a profile that stands in for a real one.
func (d *desk) SigningIdentity(_ context.Context, _ record.AttemptID,
	in api.IdentityRequest) (out api.SigningIdentity, err error) {
	s, err := d.key.get()
	if err != nil {
		return out, err
	}
	out = api.SigningIdentity{Name: "a throw-away key", Revision: 1,
		Certificates: string(identity.Certificates(s.Chain))}
	if in.Platform == "ios" {
		now := time.Now()
		var raw []byte
		raw, err = profile.StandIn(s, s.Leaf(), "STANDIN000", in.App, now, now.AddDate(1, 0, 0))
		out.Profiles = [][]byte{raw}
	}
	return out, err
}

// Sign signs with it.
func (d *desk) Sign(_ context.Context, _ record.AttemptID, in api.SignatureRequest) (out api.MadeSignature, err error) {
	s, err := d.key.get()
	if err != nil {
		return out, err
	}
	hash := map[string]crypto.Hash{"sha256": crypto.SHA256, "sha1": crypto.SHA1}[in.Hash]
	if hash == 0 || len(in.Digest) != hash.Size() {
		return out, errors.New("a digest is of another length")
	}
	out.Signature, err = s.Key.Sign(rand.Reader, in.Digest, hash)
	return out, err
}

// Judge holds packages against the checklist that this checkout has. There is none before to compare with.
func (d *desk) Judge(_ context.Context, _ record.AttemptID, in api.PackagesSeen) (out api.Judged, err error) {
	text, err := os.ReadFile(filepath.Join(d.versions.tree.Dir, definition.AppsPath))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return out, err
	}
	apps, wrong := definition.ParseApps(text)
	if apps == nil {
		return out, errors.New(wrong[0].String())
	}
	for _, p := range in.Packages {
		one := api.JudgedPackage{File: p.File}
		one.Findings = checklist.Judge(checklist.Package{File: p.File, Facts: p.Facts, Today: time.Now(),
			App: apps.WithID(p.Facts.Platform, p.Facts.ID)})
		out.Packages = append(out.Packages, one)
		out.Failed = out.Failed || checklist.Failed(one.Findings)
	}
	return out, nil
}
