package intake

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"gentlepiston.example/piston/core/check"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// view is a project's repository while something is asked of it.
type view struct {
	repo     source.Repo
	reader   *source.Reader
	main     string // the main branch
	listing  sync.WaitGroup
	branches []string
	listErr  error
	seen     map[string]*snapshot
}

// allBranches waits for the list that look has asked for.
func (v *view) allBranches() ([]string, error) {
	v.listing.Wait()
	return v.branches, v.listErr
}

// look opens a project's repository, brought up to date. Close it.
func (s *Intake) look(ctx context.Context, p store.Project) (*view, error) {
	repo, err := source.Open(ctx, p.Remote, s.Mirror(p.ID))
	if err != nil {
		return nil, err
	}
	if err := repo.Fetch(ctx, p.Remote); err != nil {
		return nil, err
	}
	v := &view{repo: repo, seen: map[string]*snapshot{}}
	if v.main, err = repo.MainBranch(); err != nil {
		return nil, err
	}
	v.listing.Go(func() { // beside the rest: each git takes a few milliseconds, most of them its start
		v.branches, v.listErr = repo.Branches(ctx)
	})
	if v.reader, err = repo.Reader(ctx); err != nil {
		v.listing.Wait()
		return nil, err
	}
	if err := v.findMain(); err != nil {
		v.close()
		return nil, err
	}
	return v, nil
}

// findMain makes up for a HEAD that names a branch which is not there, as that of a bare repository does that was made
// under another default than the first push: then it is the branch main, or the only one.
func (v *view) findMain() error {
	if _, err := v.reader.Commit("refs/heads/" + v.main); !errors.Is(err, source.ErrNoObject) {
		return err
	}
	list, err := v.allBranches()
	switch {
	case slices.Contains(list, "main"):
		v.main = "main"
	case len(list) == 1:
		v.main = list[0]
	}
	return err
}

// notThere says that a branch, a tag or a commit of a project is not there; "" is the main branch.
func (v *view) notThere(ref, project string) error {
	if ref == "" {
		return fmt.Errorf("the HEAD of the repository of %s names the branch %q: %w; name one that is there, or in the "+
			"repository: "+
			"git symbolic-ref HEAD refs/heads/NAME", project, v.main, ground.ErrNotFound)
	}
	return fmt.Errorf("no branch, tag or commit %q in %s: %w", ref, project, ground.ErrNotFound)
}

func (v *view) close() {
	v.reader.Close()
	v.listing.Wait()
}

// snapshot is a commit with its files.
type snapshot struct {
	view    *view
	commit  source.Commit
	tree    *check.Repository
	objects map[string]string // ids of the files, by path
	checked map[checkedAs]check.Result
}

// at reads a commit; the same one only once.
func (v *view) at(ctx context.Context, name string) (*snapshot, error) {
	if s := v.seen[name]; s != nil {
		return s, nil
	}
	commit, err := v.reader.Commit(name)
	if err != nil {
		return nil, err
	}
	if s := v.seen[commit.ID]; s != nil {
		return s, nil
	}
	entries, err := v.repo.Tree(ctx, commit.ID)
	if err != nil {
		return nil, err
	}
	all, err := v.allBranches()
	if err != nil {
		return nil, err
	}
	s := &snapshot{view: v, commit: commit, checked: map[checkedAs]check.Result{}, objects: map[string]string{},
		tree: &check.Repository{Branches: all, Now: time.Now()}}
	for _, e := range entries {
		s.objects[e.Path] = e.ID
		s.tree.Entries = append(s.tree.Entries,
			check.Entry{Path: e.Path, Executable: e.Mode == "100755", Submodule: e.Mode == "160000", Link: e.Mode == "120000"})
	}
	s.tree.Read = func(name string) ([]byte, error) { return s.read(name, definition.MaxFileSize) }
	v.seen[name], v.seen[commit.ID] = s, s
	return s, nil
}

// read reads a file of the commit; nil when there is none. Of one that is larger, most+1 bytes of nothing come, which
// is what whoever bounds it will refuse.
func (s *snapshot) read(name string, most int64) ([]byte, error) {
	f, err := s.view.reader.File(s.commit.ID, name, most)
	if errors.Is(err, source.ErrNoObject) {
		return nil, nil // none, a folder, or a submodule
	}
	if err == nil && f.Text == nil {
		return make([]byte, most+1), nil
	}
	return f.Text, err
}

func (s *snapshot) paths() []string {
	list := make([]string, len(s.tree.Entries))
	for i, e := range s.tree.Entries {
		list[i] = e.Path
	}
	return list
}

// checkedAs is what a result of a check depends on besides the commit.
type checkedAs struct {
	known *check.Service
	tag   string
}

// check reads the pipelines and looks for mistakes, once for the same knowledge. tag is what the runs are of, if any.
func (s *snapshot) check(known *check.Service, tag string) check.Result {
	as := checkedAs{known, tag}
	result, done := s.checked[as]
	if !done {
		tree := *s.tree
		if tag != "" {
			tree.Tags = []string{tag}
		}
		result = check.All(&tree, known)
		s.checked[as] = result
	}
	return result
}
