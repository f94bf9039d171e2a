package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/store"
)

// ErrExpired says that a token was good once.
var ErrExpired = errors.New("the token has expired")

// ByToken finds whose API token it is.
func (s *Service) ByToken(ctx context.Context, token string) (Who, error) {
	t, err := s.store.TokenByHash(ctx, hashToken(token))
	if err != nil {
		return Who{}, known(err, "token")
	}
	if t.Expires != nil && t.Expires.Before(time.Now()) {
		return Who{}, fmt.Errorf("%w on %s; piston token add, or piston sign-in, makes a new one", ErrExpired,
			t.Expires.UTC().Format("2 January 2006 15:04 UTC"))
	}
	w := Who{ID: t.PersonID, Name: t.Person, Kind: api.TokenKind(t.Kind), Token: t.ID, Bound: t.Role, Project: t.Project,
		ProjectID: t.ProjectID, Until: t.Expires}
	if w.Kind == api.RunnerToken {
		w.Name = t.Name
		return w, nil
	}
	p, err := s.store.PersonByName(ctx, t.Person)
	w.Administrator = p.Administrator || p.ByGroup
	return w, known(err, "person %s", t.Person)
}

// tokenPrefix makes a token easy to recognise, for people and for scanners of leaked secrets.
const tokenPrefix = "piston_"

// IssueToken makes an API token for whoever asks, or for a runner. A token cannot make one that may do more, nor one
// that is bounded one that lasts longer.
func (s *Service) IssueToken(ctx context.Context, n api.NewToken) (api.IssuedToken, error) {
	w := WhoAsks(ctx)
	secret := tokenPrefix + rand.Text()
	row := store.NewToken{Hash: hashToken(secret), Name: n.Name, Kind: string(n.Kind), Role: n.Role, MadeBy: w.Name}
	if n.Days > 0 {
		until := time.Now().Add(time.Duration(n.Days) * 24 * time.Hour)
		row.Expires = &until
	}
	if n.Project != "" {
		p, err := s.project(ctx, n.Project)
		if err != nil {
			return api.IssuedToken{}, err
		}
		row.Project = p.ID
	}
	switch {
	case n.Kind == api.RunnerToken && n.Role != access.Nobody:
		return api.IssuedToken{}, fmt.Errorf("a runner's token has no role: it is %w; leave it out", ErrInvalid)
	case n.Kind == api.RunnerToken:
	default:
		row.PersonID = w.ID
		if n.Role == access.Nobody {
			row.Role = w.Bound
		}
		if row.Role != row.Role.AtMost(w.Bound) || w.ProjectID != 0 && row.Project != w.ProjectID {
			return api.IssuedToken{}, refuse("a token can only make tokens that may do no more than itself")
		}
		if w.bounded() && w.Until != nil && (row.Expires == nil || row.Expires.After(*w.Until)) {
			return api.IssuedToken{},
				refuse("a token with a role or a project can only make tokens that end when it does or before, on %s",
					w.Until.UTC().Format("2 January 2006 15:04 UTC"))
		}
		if n.Project != "" {
			role, err := s.RoleIn(ctx, w, n.Project)
			if err != nil {
				return api.IssuedToken{}, err
			}
			if role == access.Nobody {
				return api.IssuedToken{}, fmt.Errorf("project %s: %w", n.Project, ErrNotFound)
			}
		}
	}
	var t store.Token
	err := s.store.Tx(ctx, func(q store.Q) (err error) {
		if t, err = q.AddToken(ctx, row); err != nil {
			return err
		}
		return note(ctx, q, act{name: "token.add", project: t.Project, subject: t.Name,
			after: map[string]any{"id": t.ID, "kind": t.Kind, "role": t.Role, "expires": t.Expires}})
	})
	return api.IssuedToken{Token: tokenOf(t), Secret: secret}, err
}

func tokenOf(t store.Token) api.Token {
	return api.Token{ID: t.ID, Name: t.Name, Kind: api.TokenKind(t.Kind), Person: t.Person, Role: t.Role,
		Project: t.Project,
		Created: t.Created, Expires: t.Expires, LastUsed: t.LastUsed, MadeBy: t.MadeBy}
}

// Tokens lists up to limit tokens of whoever asks after an id, with a text in their name; an administrator sees
// everybody's.
func (s *Service) Tokens(ctx context.Context, after int64, contains string, limit int) ([]api.Token, error) {
	w := WhoAsks(ctx)
	person := w.ID
	if w.Rules() {
		person = 0
	}
	list, err := s.store.Tokens(ctx, person, after, contains, limit)
	out := make([]api.Token, len(list))
	for i, t := range list {
		out[i] = tokenOf(t)
	}
	return out, err
}

// RevokeToken makes a token useless: one's own, or anybody's for an administrator. A bounded token can only revoke
// itself.
func (s *Service) RevokeToken(ctx context.Context, id int64) error {
	w := WhoAsks(ctx)
	return s.store.Tx(ctx, func(q store.Q) error {
		t, err := q.TokenByID(ctx, id)
		if err == nil && t.PersonID != w.ID && !w.Rules() {
			err = store.ErrNotFound
		}
		if err == nil && w.bounded() && !w.Rules() && id != w.Token {
			return refuse("a token with a role or a project can only revoke itself")
		}
		if err != nil {
			return known(err, "token %d", id)
		}
		if err := q.RevokeToken(ctx, id); err != nil {
			return err
		}
		return note(ctx, q, act{name: "token.revoke", project: t.Project, subject: t.Name,
			before: map[string]any{"id": t.ID, "kind": t.Kind, "person": t.Person}})
	})
}
