package ground

import (
	"context"
	"slices"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/store"
)

// Who is on the other end of a request. The zero value is nobody, who may nothing.
type Who struct {
	ID            record.PersonID
	Name          string // of the person, or of the runner's token
	Kind          api.TokenKind
	Administrator bool
	Token         record.TokenID // 0 for a session
	Bound         access.Role    // the most the token may do
	Project       string         // the only one the token is for
	ProjectID     record.ProjectID
	Until         *time.Time // when the token ends; nil never
	Address       string     // where the request came from
}

type whoKey struct{}

// WithWho remembers who asks.
func WithWho(ctx context.Context, w Who) context.Context { return context.WithValue(ctx, whoKey{}, w) }

// itself is the kind of the service, when it acts without being asked.
const itself api.TokenKind = "service"

// AsItself is for what the service does without being asked: nothing is hidden from it.
func AsItself(ctx context.Context) context.Context {
	return WithWho(ctx, Who{Name: "the service", Kind: itself})
}

// WhoAsks tells who asks.
func WhoAsks(ctx context.Context) Who {
	w, _ := ctx.Value(whoKey{}).(Who)
	return w
}

// Bounded reports whether somebody came in by a token that may do less than they.
func (w Who) Bounded() bool { return w.Bound != access.Nobody || w.ProjectID != 0 }

// Ours reports whether the service itself, or a runner, is at work, to which no project is hidden.
func (w Who) Ours() bool { return w.Kind == itself || w.Kind == api.RunnerToken }

// Rules reports whether somebody is an administrator, and what they came in by lets them be one.
func (w Who) Rules() bool {
	return w.Administrator && w.Project == "" && access.Administrator.AtMost(w.Bound) == access.Administrator
}

// RoleIn is what somebody may do in a project; a project that does not exist is nobody's but an administrator's.
func (s *Ground) RoleIn(ctx context.Context, w Who, project string) (access.Role, error) {
	return RoleIn(ctx, s.Store.Q, w, project)
}

func RoleIn(ctx context.Context, q store.Q, w Who, project string) (access.Role, error) {
	if w.Kind != api.PersonToken || w.Project != "" && w.Project != project {
		return access.Nobody, nil
	}
	if w.Administrator {
		return access.Administrator.AtMost(w.Bound), nil
	}
	roles, err := q.RolesIn(ctx, w.ID, project)
	return access.Greatest(roles...).AtMost(w.Bound), err
}

// Visible lists the ids of the projects whoever asks may see; all is true when that is every project.
func (s *Ground) Visible(ctx context.Context) (ids []record.ProjectID, all bool, err error) {
	w := WhoAsks(ctx)
	if w.Ours() || w.Administrator && w.Project == "" {
		return nil, true, nil
	}
	if w.Administrator {
		return []record.ProjectID{w.ProjectID}, false, nil
	}
	ids, err = s.Store.ProjectsOf(ctx, w.ID)
	if w.Project != "" {
		ids = slices.DeleteFunc(ids, func(id record.ProjectID) bool { return id != w.ProjectID })
	}
	return ids, false, err
}

// VisibleNames gives the names of the projects whoever asks may see, by their ids.
func (s *Ground) VisibleNames(ctx context.Context) (map[record.ProjectID]string, error) {
	names, err := s.Store.ProjectNames(ctx)
	if err != nil {
		return nil, err
	}
	ids, all, err := s.Visible(ctx)
	if err != nil || all {
		return names, err
	}
	seen := map[record.ProjectID]string{}
	for _, id := range ids {
		seen[id] = names[id]
	}
	return seen, nil
}

// VisibleProject finds a project that whoever asks may see; one that they may not is not there.
func (s *Ground) VisibleProject(ctx context.Context, name string) (store.Project, error) {
	p, err := s.Store.ProjectByName(ctx, name)
	if err == nil {
		var ids []record.ProjectID
		var all bool
		if ids, all, err = s.Visible(ctx); err == nil && !all && !slices.Contains(ids, p.ID) {
			err = store.ErrNotFound
		}
	}
	return p, Known(err, "project %s", name)
}

// AuditFilter narrows the audit trail.
type AuditFilter = store.ActFilter

// Audit reads the audit trail, newest first.
func (s *Ground) Audit(ctx context.Context, f AuditFilter) (api.AuditPage, error) {
	f.Limit++
	list, err := s.Store.Acts(ctx, f)
	page := api.AuditPage{Acts: []api.Act{}}
	for i, a := range list {
		if i == f.Limit-1 {
			page.Next = list[i-1].ID
			break
		}
		page.Acts = append(page.Acts,
			api.Act{ID: a.ID, At: a.At, Who: a.Who, Door: a.Door, Token: a.Token, Address: a.Address, Act: a.Act,
				Project: a.Project, Subject: a.Subject, Before: a.Before, After: a.After})
	}
	return page, err
}
