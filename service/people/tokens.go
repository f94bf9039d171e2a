package people

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// ErrExpired says that a token was good once.
var ErrExpired = errors.New("the token has expired")

// ByToken finds whose API token it is.
func (s *People) ByToken(ctx context.Context, token string) (ground.Who, error) {
	t, err := s.Store.TokenByHash(ctx, hashToken(token))
	if err != nil {
		return ground.Who{}, ground.Known(err, "token")
	}
	if t.Expires != nil && t.Expires.Before(time.Now()) {
		return ground.Who{}, fmt.Errorf("%w on %s; piston token add, or piston sign-in, makes a new one", ErrExpired,
			t.Expires.UTC().Format("2 January 2006 15:04 UTC"))
	}
	w := ground.Who{ID: t.PersonID, Name: t.Person, Kind: api.TokenKind(t.Kind), Token: t.ID, Bound: t.Role,
		Project:   t.Project,
		ProjectID: t.ProjectID, Until: t.Expires}
	if w.Kind == api.RunnerToken {
		w.Name = t.Name
		return w, nil
	}
	p, err := s.Store.PersonByName(ctx, t.Person)
	w.Administrator = p.Administrator || p.ByGroup
	return w, ground.Known(err, "person %s", t.Person)
}

// TokenPrefix makes a token easy to recognise, for people and for scanners of leaked secrets.
const TokenPrefix = "piston_"

// IssueToken makes an API token for whoever asks, or for a runner. A token cannot make one that may do more, nor one
// that is bounded one that lasts longer.
func (s *People) IssueToken(ctx context.Context, n api.NewToken) (api.IssuedToken, error) {
	w := ground.WhoAsks(ctx)
	secret := TokenPrefix + rand.Text()
	row := store.NewToken{Hash: hashToken(secret), Name: n.Name, Kind: string(n.Kind), Role: n.Role, MadeBy: w.Name}
	if n.Days > 0 {
		until := time.Now().Add(time.Duration(n.Days) * 24 * time.Hour)
		row.Expires = &until
	}
	if n.Project != "" {
		p, err := s.FindProject(ctx, n.Project)
		if err != nil {
			return api.IssuedToken{}, err
		}
		row.Project = p.ID
	}
	switch {
	case n.Kind == api.RunnerToken && n.Role != access.Nobody:
		return api.IssuedToken{}, fmt.Errorf("a runner's token has no role: it is %w; leave it out", ground.ErrInvalid)
	case n.Kind == api.RunnerToken:
	default:
		row.PersonID = w.ID
		if n.Role == access.Nobody {
			row.Role = w.Bound
		}
		if row.Role != row.Role.AtMost(w.Bound) || w.ProjectID != 0 && row.Project != w.ProjectID {
			return api.IssuedToken{}, ground.Refuse("a token can only make tokens that may do no more than itself")
		}
		if w.Bounded() && w.Until != nil && (row.Expires == nil || row.Expires.After(*w.Until)) {
			return api.IssuedToken{},
				ground.Refuse("a token with a role or a project can only make tokens that end when it does or before, on %s",
					w.Until.UTC().Format("2 January 2006 15:04 UTC"))
		}
		if n.Project != "" {
			role, err := s.RoleIn(ctx, w, n.Project)
			if err != nil {
				return api.IssuedToken{}, err
			}
			if role == access.Nobody {
				return api.IssuedToken{}, fmt.Errorf("project %s: %w", n.Project, ground.ErrNotFound)
			}
		}
	}
	var t store.Token
	err := s.Tx(ctx, func(q ground.Q) (err error) {
		if t, err = q.AddToken(ctx, row); err != nil {
			return err
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.TokenAdd, Project: t.Project, Subject: t.Name,
			After: map[string]any{"id": t.ID, "kind": t.Kind, "role": t.Role, "expires": t.Expires}})
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
func (s *People) Tokens(ctx context.Context, after int64, contains string, limit int) ([]api.Token, error) {
	w := ground.WhoAsks(ctx)
	person := w.ID
	if w.Rules() {
		person = 0
	}
	list, err := s.Store.Tokens(ctx, person, after, contains, limit)
	out := make([]api.Token, len(list))
	for i, t := range list {
		out[i] = tokenOf(t)
	}
	return out, err
}

// RevokeToken makes a token useless: one's own, or anybody's for an administrator. A bounded token can only revoke
// itself.
func (s *People) RevokeToken(ctx context.Context, id record.TokenID) error {
	w := ground.WhoAsks(ctx)
	return s.Tx(ctx, func(q ground.Q) error {
		t, err := q.TokenByID(ctx, id)
		if err == nil && t.PersonID != w.ID && !w.Rules() {
			err = store.ErrNotFound
		}
		if err == nil && w.Bounded() && !w.Rules() && id != w.Token {
			return ground.Refuse("a token with a role or a project can only revoke itself")
		}
		if err != nil {
			return ground.Known(err, "token %d", id)
		}
		if err := q.RevokeToken(ctx, id); err != nil {
			return err
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.TokenRevoke, Project: t.Project, Subject: t.Name,
			Before: map[string]any{"id": t.ID, "kind": t.Kind, "person": t.Person}})
	})
}
