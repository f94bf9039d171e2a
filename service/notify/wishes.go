package notify

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/news"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
)

// Wishes tells what whoever asks is told of by mail.
func (s *Notify) Wishes(ctx context.Context) (api.Wishes, error) {
	out := api.Wishes{Choices: []api.WishChoice{{Kind: news.Mine,
		Means: "what I started, or my commit: that it broke, that it passes again, and what was found to break it"}},
		Wishes: []api.Wish{}}
	for _, a := range news.All {
		out.Choices = append(out.Choices, api.WishChoice{Kind: string(a.Kind), Means: a.Means})
	}
	list, err := s.Store.WishesOf(ctx, ground.WhoAsks(ctx).ID)
	if err != nil {
		return out, err
	}
	for _, w := range list {
		one := api.Wish{Kinds: ground.NonNil(w.Kinds)}
		if w.Project != nil {
			one.Project = *w.Project
		}
		out.Wishes = append(out.Wishes, one)
	}
	if !slices.ContainsFunc(out.Wishes, func(w api.Wish) bool { return w.Project == "" }) {
		out.Wishes = append([]api.Wish{{Kinds: news.ForPeople(false), Unasked: true}}, out.Wishes...)
	}
	return out, nil
}

// Wish sets what whoever asks is told of: of a project, or of all that no other wish names.
func (s *Notify) Wish(ctx context.Context, in api.Wish) (api.Wishes, error) {
	for _, k := range in.Kinds {
		if k != news.Mine && !news.Known(news.Kind(k)) {
			return api.Wishes{}, fmt.Errorf("nobody is told of %q: %w", k, ground.ErrInvalid)
		}
	}
	project, err := s.wished(ctx, in.Project)
	if err != nil {
		return api.Wishes{}, err
	}
	if err := s.Store.SetWish(ctx, ground.WhoAsks(ctx).ID, project, ground.NonNil(in.Kinds)); err != nil {
		return api.Wishes{}, err
	}
	return s.Wishes(ctx)
}

// Unwish takes a wish back.
func (s *Notify) Unwish(ctx context.Context, project string) error {
	id, err := s.wished(ctx, project)
	if err != nil {
		return err
	}
	return s.Store.DropWish(ctx, ground.WhoAsks(ctx).ID, id)
}

// wished finds the project of a wish, which whoever asks may see; 0 for all.
func (s *Notify) wished(ctx context.Context, project string) (record.ProjectID, error) {
	if project == "" {
		return 0, nil
	}
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return 0, err
	}
	ids, all, err := s.Visible(ctx)
	if err == nil && !all && !slices.Contains(ids, p.ID) {
		err = fmt.Errorf("project %s: %w", project, ground.ErrNotFound)
	}
	return p.ID, err
}

// Feed tells where a project's badge and feed are. The first time, and when they are to be elsewhere, they are given
// an address that nobody can guess.
func (s *Notify) Feed(ctx context.Context, project string, anew bool) (api.Feed, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Feed{}, err
	}
	key, err := s.Store.FeedKey(ctx, p.ID)
	if err != nil {
		return api.Feed{}, err
	}
	if key == "" || anew {
		key = rand.Text()
		told := fact.Fact{Kind: fact.FeedSet, Project: project}
		if err := s.Acting(ctx, told, func(q ground.Q) error { return q.SetFeedKey(ctx, p.ID, key) }); err != nil {
			return api.Feed{}, err
		}
	}
	at := s.letters.Link("/f/" + key)
	if at == "" {
		at = "/f/" + key
	}
	return api.Feed{Badge: at + "/badge.svg", Atom: at + "/feed.atom"}, nil
}
