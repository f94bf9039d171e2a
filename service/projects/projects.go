package projects

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/url"
	"path/filepath"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/pointer"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// AddProject registers a repository.
func (s *Projects) AddProject(ctx context.Context, n api.NewProject) (api.Project, error) {
	if err := checkRemote(n.Remote); err != nil {
		return api.Project{}, err
	}
	if source.IsLocal(n.Remote) {
		if _, err := source.Open(ctx, n.Remote, ""); err != nil {
			return api.Project{}, fmt.Errorf("%w: %w", ground.ErrInvalid, err)
		}
	}
	key := make([]byte, 32)
	_, _ = rand.Read(key) // never fails (crypto/rand)
	hook := []byte("whsec_" + base64.StdEncoding.EncodeToString(key))
	err := s.vault.Sealing(ctx, hook, func(q ground.Q, sealed []byte, to string) error {
		if err := q.AddProject(ctx, n.Name, n.Remote, sealed, to); err != nil {
			return err
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.ProjectAdd, Project: n.Name, After: map[string]string{"remote": n.Remote}})
	})
	if err != nil {
		return api.Project{}, ground.Known(err, "project %s", n.Name)
	}
	return s.Project(ctx, n.Name)
}

func checkRemote(remote string) error {
	if source.IsLocal(remote) {
		if filepath.Clean(remote) != remote {
			return fmt.Errorf("remote %q is %w: write the folder without . and .. and without a slash at the end", remote,
				ground.ErrInvalid)
		}
		return nil
	}
	u, err := url.Parse(remote)
	if err != nil || (u.Scheme != "https" && u.Scheme != "http") || u.Host == "" {
		return fmt.Errorf("remote %q is %w: give the full path of a folder on the server's machine, or an https address",
			remote, ground.ErrInvalid)
	}
	if u.User != nil {
		return fmt.Errorf("remote is %w: it holds a user or password, which would be shown to everyone; leave them out",
			ground.ErrInvalid)
	}
	return nil
}

func projectOf(p store.Project) api.Project {
	return api.Project{Name: p.Name, Remote: p.Remote, Created: p.Created, Held: p.Held, HeldBy: p.HeldBy,
		AtOnce: p.AtOnce, Trouble: p.Trouble, HostNetwork: p.HostNet, Bot: api.Bot(p.Bot)}
}

// Project finds a project with its latest run.
func (s *Projects) Project(ctx context.Context, name string) (api.Project, error) {
	p, err := s.FindProject(ctx, name)
	if err != nil {
		return api.Project{}, err
	}
	list, err := s.withLatest(ctx, []store.Project{p})
	if err != nil {
		return api.Project{}, err
	}
	return list[0], nil
}

// Projects lists the projects that whoever asks may see by name, those after a name, each with its latest run.
func (s *Projects) Projects(ctx context.Context, page api.Page) ([]api.Project, error) {
	ids, all, err := s.Visible(ctx)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.ProjectsAmong(ctx, ids, all, store.Page(page))
	if err != nil {
		return nil, err
	}
	return s.withLatest(ctx, list)
}

func (s *Projects) withLatest(ctx context.Context, list []store.Project) ([]api.Project, error) {
	ids := make([]record.ProjectID, len(list))
	out := make([]api.Project, len(list))
	at := map[record.ProjectID]int{}
	for i, p := range list {
		ids[i], out[i], at[p.ID] = p.ID, projectOf(p), i
	}
	troubles, err := s.Store.Troubles(ctx, ids)
	if err != nil {
		return nil, err
	}
	for id, text := range troubles {
		out[at[id]].Trouble = text
	}
	runs, err := s.Store.LatestRuns(ctx, ids)
	for _, r := range runs {
		run := ground.RunOf(r)
		out[at[r.ProjectID]].Latest = &run
	}
	return out, err
}

// HookKey is the secret by which pushes to a project are signed.
func (s *Projects) HookKey(ctx context.Context, name string) (api.HookKey, error) {
	p, err := s.FindProject(ctx, name)
	if err != nil {
		return api.HookKey{}, err
	}
	key, err := s.vault.Open(p.HookKey)
	if err == nil {
		err = s.Tx(ctx, func(q ground.Q) error {
			return q.Tell(ctx, fact.Fact{Kind: fact.HookKeyRead, Project: name})
		})
	}
	return api.HookKey{Address: s.public + "/api/v1/projects/" + p.Name + "/pushes", Key: string(key)}, err
}

// Repository is where Git serves a project's source from.
func (s *Projects) Repository(ctx context.Context, name string) (source.Repo, error) {
	p, err := s.FindProject(ctx, name)
	if err != nil {
		return source.Repo{}, err
	}
	return source.Open(ctx, p.Remote, s.Mirror(p.ID))
}

// Large opens a file that a project's repository keeps beside itself.
func (s *Projects) Large(ctx context.Context, project string, at pointer.Pointer) (io.ReadCloser, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return nil, err
	}
	repo, err := source.Open(ctx, p.Remote, s.Mirror(p.ID))
	if err != nil {
		return nil, err
	}
	content, err := repo.Large(ctx, p.Remote, at)
	if errors.Is(err, source.ErrNoObject) {
		return nil, fmt.Errorf("%w: %w", ground.ErrNotFound, err)
	}
	return content, err
}

// Lendings lists the projects whose jobs may read a project's source, as submodules.
func (s *Projects) Lendings(ctx context.Context, project string) (api.Lendings, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Lendings{}, err
	}
	list, err := s.Store.Lendings(ctx, p.ID)
	return api.Lendings{To: ground.NonNil(list)}, err
}

// Lend says which projects' jobs may read a project's source, as submodules.
func (s *Projects) Lend(ctx context.Context, project string, in api.Lendings) (api.Lendings, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Lendings{}, err
	}
	err = s.Tx(ctx, func(q ground.Q) error {
		before, err := q.Lendings(ctx, p.ID)
		if err != nil {
			return err
		}
		for _, name := range in.To {
			if _, err := q.ProjectByName(ctx, name); err != nil {
				return ground.Known(err, "project %s", name)
			}
		}
		if err := q.SetLendings(ctx, p.ID, in.To); err != nil {
			return err
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.ProjectLend, Project: project, Before: before, After: in.To})
	})
	if err != nil {
		return api.Lendings{}, err
	}
	return s.Lendings(ctx, project)
}

// AllowHostNetwork says whether a project's steps may be given the machine's own network, when they ask for it and the
// runner allows it. Proposals from outside never are.
func (s *Projects) AllowHostNetwork(ctx context.Context, project string, may bool) (api.Project, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Project{}, err
	}
	before, after := map[string]bool{"host": p.HostNet}, map[string]bool{"host": may}
	err = s.Acting(ctx, fact.Fact{Kind: fact.ProjectNetwork, Project: project, Before: before, After: after},
		func(q ground.Q) error { return q.SetHostNetwork(ctx, p.ID, may) })
	if err != nil {
		return api.Project{}, err
	}
	return s.Project(ctx, project)
}
