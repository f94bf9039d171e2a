package publish

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/outlet"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// maxOutlets is how many a project may have.
const maxOutlets = 50

// Outlets lists those of a project.
func (s *Publish) Outlets(ctx context.Context, project string) ([]api.Outlet, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Outlets(ctx, p.ID)
	out := make([]api.Outlet, len(list))
	for i, o := range list {
		out[i] = outletOf(o)
	}
	return out, err
}

func outletOf(o store.Outlet) api.Outlet {
	return api.Outlet{Name: o.Name, Kind: o.Kind, Folder: o.Settings.V.Folder, Scope: o.Settings.V.Scope,
		SetBy: o.SetBy, SetAt: o.SetAt}
}

// SetOutlet makes an outlet, or changes it.
func (s *Publish) SetOutlet(ctx context.Context, project, name string, in api.NewOutlet) (api.Outlet, error) {
	o := store.Outlet{Name: name, Kind: in.Kind, SetBy: ground.WhoAsks(ctx).Name}
	o.Settings.V.Folder, o.Settings.V.Scope = cmp.Or(in.Folder, name), in.Scope
	if err := in.Scope.Check(); err != nil {
		return api.Outlet{}, fmt.Errorf("%w: %w", err, ground.ErrInvalid)
	}
	if err := outlet.FolderName(o.Settings.V.Folder); err != nil {
		return api.Outlet{}, fmt.Errorf("%w: %w", err, ground.ErrInvalid)
	}
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Outlet{}, err
	}
	o.ProjectID = p.ID
	told := fact.Fact{Kind: fact.OutletSet, Project: project, Subject: name, After: o.Settings.V}
	err = s.Acting(ctx, told, func(q ground.Q) error {
		all, err := q.Outlets(ctx, p.ID)
		if err != nil {
			return err
		}
		for _, other := range all {
			if other.Name == name && other.Settings.V.Folder != o.Settings.V.Folder {
				if err := s.unused(ctx, q, other); err != nil {
					return err
				}
			}
		}
		if len(all) >= maxOutlets {
			return fmt.Errorf("a project may have %d outlets, and more are %w", maxOutlets, ground.ErrInvalid)
		}
		return q.SetOutlet(ctx, o)
	})
	if err != nil {
		return api.Outlet{}, err
	}
	now, err := s.Store.OutletByName(ctx, p.ID, name)
	return outletOf(now), err
}

// unused refuses to change where an outlet is, once something has gone there: what is told of that would be wrong.
func (s *Publish) unused(ctx context.Context, q ground.Q, o store.Outlet) error {
	list, err := q.Publications(ctx, o.ProjectID, store.PublicationFilter{Outlet: o.Name, Limit: 1})
	if err == nil && len(list) > 0 {
		err = ground.Saying(ground.ErrExists, "releases have gone to outlet %s, so that it stays where it is; make another "+
			"one", o.Name)
	}
	return err
}

// DropOutlet removes an outlet to which nothing ever went.
func (s *Publish) DropOutlet(ctx context.Context, project, name string) error {
	_, o, err := s.find(ctx, project, name)
	if err != nil {
		return err
	}
	return s.Acting(ctx, fact.Fact{Kind: fact.OutletDrop, Project: project, Subject: name}, func(q ground.Q) error {
		if err := s.unused(ctx, q, o); err != nil {
			return err
		}
		return ground.Known(q.DropOutlet(ctx, o.ID), "outlet %s", name)
	})
}

// TryOutlet asks an outlet for what stands there, to see whether it answers.
func (s *Publish) TryOutlet(ctx context.Context, project, name string) (api.OutletTried, error) {
	p, o, err := s.find(ctx, project, name)
	if err != nil {
		return api.OutletTried{}, err
	}
	out, done, err := s.open(p.Name, o)
	if err == nil {
		defer done()
		_, err = out.Now(ctx, "app", "release")
	}
	if away := (*outlet.Away)(nil); errors.As(err, &away) {
		return api.OutletTried{Trouble: away.Error()}, nil
	}
	return api.OutletTried{}, err
}

// find finds an outlet of a project.
func (s *Publish) find(ctx context.Context, project, name string) (p store.Project, o store.Outlet, err error) {
	if p, err = s.FindProject(ctx, project); err != nil {
		return p, o, err
	}
	o, err = s.Store.OutletByName(ctx, p.ID, name)
	return p, o, ground.Known(err, "outlet %s of %s", name, project)
}
