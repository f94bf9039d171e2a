package packages

import (
	"context"
	"strings"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/bill"
	"gentlepiston.example/piston/core/provenance"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// Bill states what a package is made of, signed by the service: what is native in it, and the packages of others that
// the lock files of its commit name.
func (s *Packages) Bill(ctx context.Context, project string, id record.PackageID) (out api.Provenance, err error) {
	p, row, err := s.find(ctx, project, id)
	if err != nil {
		return out, err
	}
	about := bill.Package{File: row.File, SHA256: row.SHA256, At: row.At}
	if about.Facts, err = s.Store.PackageFacts(ctx, id); err != nil {
		return out, err
	}
	if about.Used, err = s.used(ctx, p, row.Commit); err != nil {
		return out, err
	}
	text, err := bill.New(about)
	if err != nil {
		return out, err
	}
	return s.sealed(ctx, provenance.NewBill(subject(row), text))
}

// used reads the lock files of a commit. One that cannot be read is an error: a bill that leaves something out unsaid
// is worse than none.
func (s *Packages) used(ctx context.Context, p store.Project, commit string) (list []bill.Used, err error) {
	repo, err := source.Open(ctx, p.Remote, s.Mirror(p.ID))
	if err != nil {
		return nil, err
	}
	tree, err := repo.Tree(ctx, commit)
	if err != nil {
		return nil, err
	}
	reader, err := repo.Reader(ctx)
	if err != nil {
		return nil, err
	}
	defer reader.Close()
	read := 0
	for _, e := range tree {
		if !bill.IsLock(e.Path) || !strings.HasPrefix(e.Mode, "100") { // links and submodules are elsewhere
			continue
		}
		if read++; read > bill.MaxLocks {
			return nil, ground.Refuse("the commit has more than %d lock files", bill.MaxLocks)
		}
		file, err := reader.File(commit, e.Path, bill.MaxLock)
		if err != nil {
			return nil, err
		}
		if file.Text == nil {
			return nil, ground.Refuse("%s has %d bytes, at most %d are read", e.Path, file.Size, bill.MaxLock)
		}
		some, err := bill.ReadLock(e.Path, file.Text)
		if err != nil {
			return nil, ground.Refuse("%v", err)
		}
		if list = append(list, some...); len(list) > bill.MaxUsed {
			return nil, ground.Refuse("the lock files name more than %d packages", bill.MaxUsed)
		}
	}
	return list, nil
}
