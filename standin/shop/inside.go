package shop

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"gentlepiston.example/piston/core/appfile"
	"gentlepiston.example/piston/core/outletapi"
	"gentlepiston.example/piston/packaging"
)

// unlooked lists the offers whose packages are to be looked into now.
func (s *Shop) unlooked() (ids []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, o := range s.kept.Offers {
		if o.State == outletapi.Processing && !o.Looked && time.Since(o.Since) >= s.Processing {
			ids = append(ids, o.ID)
		}
	}
	return ids
}

// lookInto looks into the packages of an offer: what was claimed of them is held against what they are.
func (s *Shop) lookInto(ctx context.Context, id string) {
	s.mu.Lock()
	o := s.find(id)
	claimed, uploads := o.Offer, slices.Clone(o.Uploads)
	s.mu.Unlock()
	var reasons []string
	seen, declared := claimed, true
	seen.Packages = slices.Clone(claimed.Packages)
	for i, p := range claimed.Packages {
		at := filepath.Join(s.uploads(), uploadID(uploads[i]))
		found, sum, err := packaging.Inspect(ctx, at, packaging.Looking{Sum: true})
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			reasons = append(reasons, fmt.Sprintf("%s is no package: %v", p.File, err))
			continue
		case sum != p.SHA256:
			reasons = append(reasons, p.File+" did not arrive as it was sent")
		case found.ID != claimed.App || found.Build != p.Build || found.Version != claimed.Version:
			reasons = append(reasons, fmt.Sprintf("%s says that it is %s %s (%s)", p.File, found.ID, found.Version, found.Build))
		}
		seen.Packages[i] = claimOf(p, found.Facts)
		declared = declared && found.Declared
	}
	_ = s.change(func() error { // what cannot be written is done again
		o := s.find(id)
		if o.State != outletapi.Processing {
			return nil
		}
		a := s.kept.Apps[o.Offer.App]
		for _, m := range s.rules.missing(s.without(o), a, seen) {
			reasons = append(reasons, m.What+". "+m.Mend)
		}
		o.Looked, o.Reasons = true, reasons
		if len(reasons) > 0 {
			s.to(o, outletapi.Refused)
			return nil
		}
		for _, p := range seen.Packages {
			n, _ := strconv.ParseInt(p.Build, 10, 64)
			a.Last = max(a.Last, n)
			if len(p.Signers) > 0 {
				a.Signer = p.Signers[0]
			}
		}
		o.Asked = s.People && !declared
		return nil
	})
}

// without is a shop that has not got an offer yet.
func (s *Shop) without(o *offer) *Shop {
	return &Shop{kept: kept{Offers: slices.DeleteFunc(slices.Clone(s.kept.Offers), func(x *offer) bool { return x == o })}}
}

// claimOf is what can be claimed of a package, as it was found in it.
func claimOf(p outletapi.Package, f appfile.Facts) outletapi.Package {
	p.Target, p.Processors, p.Signers = f.Target, f.Processors, nil
	for _, signer := range f.Signers {
		p.Signers = append(p.Signers, signer.Fingerprints.Hex())
	}
	return p
}
