package people

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/letter"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// Administrator is the name of the first person.
const Administrator = "admin"

func newPassword() string { return strings.ToLower(rand.Text()[:20]) }

// EnsureAdministrator makes the first person when there is nobody yet and returns the password made for them, ""
// otherwise. The password is kept nowhere.
func (s *People) EnsureAdministrator(ctx context.Context) (password string, err error) {
	n, err := s.Store.CountPeople(ctx)
	if err != nil || n > 0 {
		return "", err
	}
	made, err := s.AddPerson(ctx, api.NewPerson{Name: Administrator, Administrator: true})
	return made.Password, err
}

func personOf(p store.Person) api.Person {
	return api.Person{Name: p.Name, Administrator: p.Administrator || p.ByGroup, Disabled: p.Disabled, Mail: p.Mail,
		Issuer: p.Issuer, Groups: ground.NonNil(p.Groups),
		Created: p.Created, Seen: p.Seen}
}

// People lists people by name.
func (s *People) People(ctx context.Context, page api.Page) ([]api.Person, error) {
	list, err := s.Store.People(ctx, store.Page(page))
	out := make([]api.Person, len(list))
	for i, p := range list {
		out[i] = personOf(p)
	}
	return out, err
}

// AddPerson adds somebody with a password that is made for them and kept nowhere.
func (s *People) AddPerson(ctx context.Context, n api.NewPerson) (api.NewPassword, error) {
	made := api.NewPassword{Name: n.Name, Password: newPassword()}
	hash := hashPassword(made.Password)
	added := fact.Fact{Kind: fact.PersonAdd, Subject: n.Name, After: map[string]any{"administrator": n.Administrator}}
	err := s.Acting(ctx, added,
		func(q ground.Q) error {
			return q.AddPerson(ctx, store.Person{Name: n.Name, PasswordHash: hash, Administrator: n.Administrator})
		})
	return made, ground.Known(err, "somebody called %s", n.Name)
}

// ChangePerson changes what somebody may do. There is always an administrator left who can sign in.
func (s *People) ChangePerson(ctx context.Context, name string, in api.PersonChange) (api.Person, error) {
	var now store.Person
	var standing []string
	err := s.amongPeople(ctx, func(q ground.Q) error {
		was, err := q.PersonByName(ctx, name)
		if err != nil {
			return ground.Known(err, "person %s", name)
		}
		administrator, disabled := was.Administrator, was.Disabled
		if in.Administrator != nil {
			administrator = *in.Administrator
		}
		if in.Disabled != nil {
			disabled = *in.Disabled
		}
		if err := q.ChangePerson(ctx, was.ID, administrator, disabled); err != nil {
			return err
		}
		if disabled {
			if err := q.EndSessions(ctx, was.ID); err != nil {
				return err
			}
			// Runners they have set up go on: builds do not end with somebody's leave. Whoever keeps them out is told.
			if standing, err = q.RunnerTokensBy(ctx, name); err != nil {
				return err
			}
		}
		if now, err = q.PersonByName(ctx, name); err != nil {
			return err
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.PersonChange, Subject: name, Before: mayOf(was), After: mayOf(now)})
	})
	p := personOf(now)
	p.RunnerTokens = standing
	return p, err
}

func mayOf(p store.Person) any {
	return map[string]bool{"administrator": p.Administrator, "disabled": p.Disabled}
}

// amongPeople runs a transaction that may leave fewer administrators: one at a time, or two could each leave the one
// whom the other takes away. When none is left nothing is changed.
func (s *People) amongPeople(ctx context.Context, do func(q ground.Q) error) error {
	return s.Tx(ctx, func(q ground.Q) error {
		if err := q.LockPeople(ctx); err != nil {
			return err
		}
		if err := do(q); err != nil {
			return err
		}
		n, err := q.CountAdministrators(ctx)
		if err == nil && n == 0 {
			return fmt.Errorf("that would leave no administrator who can sign in: %w; make another one first", ground.ErrInvalid)
		}
		return err
	})
}

// SetMail says where somebody gets mail; "" for nowhere.
func (s *People) SetMail(ctx context.Context, name string, in api.MailAddress) error {
	if in.Mail != "" {
		if err := letter.Address(in.Mail); err != nil {
			return fmt.Errorf("%.60q cannot be used: %w: %w", in.Mail, err, ground.ErrInvalid)
		}
	}
	return s.Tx(ctx, func(q ground.Q) error {
		p, err := q.PersonByName(ctx, name)
		if err != nil {
			return ground.Known(err, "person %s", name)
		}
		if err := q.SetMail(ctx, p.ID, in.Mail); err != nil {
			return err
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.PersonMail, Subject: name, Before: p.Mail, After: in.Mail})
	})
}

// ResetPassword makes somebody a new password and ends their sessions.
func (s *People) ResetPassword(ctx context.Context, name string) (api.NewPassword, error) {
	made := api.NewPassword{Name: name, Password: newPassword()}
	p, err := s.Store.PersonByName(ctx, name)
	if err != nil {
		return made, ground.Known(err, "person %s", name)
	}
	if p.Issuer != "" {
		return made, fmt.Errorf("%s signs in at %s and has no password here: %w", name, p.Issuer, ground.ErrInvalid)
	}
	return made, s.setPassword(ctx, p, made.Password, fact.PasswordReset)
}

// ChangePassword changes one's own password and ends one's sessions.
func (s *People) ChangePassword(ctx context.Context, in api.OwnPassword) error {
	w := ground.WhoAsks(ctx)
	if w.Token != 0 {
		return ground.Refuse("a password is changed by whoever has signed in with it, not by a token")
	}
	p, err := s.Store.PersonByName(ctx, w.Name)
	if err != nil {
		return ground.Known(err, "person %s", w.Name)
	}
	if p.Issuer != "" {
		return fmt.Errorf("you sign in at %s and have no password here: %w", p.Issuer, ground.ErrInvalid)
	}
	if !passwordFits(in.Old, p.PasswordHash) {
		return ground.ErrSignIn
	}
	return s.setPassword(ctx, p, in.New, fact.PasswordChange)
}

func (s *People) setPassword(ctx context.Context, p store.Person, password string, kind fact.Kind) error {
	hash := hashPassword(password)
	return s.Acting(ctx, fact.Fact{Kind: kind, Subject: p.Name}, func(q ground.Q) error {
		if err := q.SetPassword(ctx, p.ID, hash); err != nil {
			return err
		}
		return q.EndSessions(ctx, p.ID)
	})
}

func groupOf(g store.Group) api.Group {
	return api.Group{Name: g.Name, Administrators: g.Administrators, IssuerGroup: g.IssuerGroup,
		Members: ground.NonNil(g.Members)}
}

// Groups lists groups by name.
func (s *People) Groups(ctx context.Context, page api.Page) ([]api.Group, error) {
	list, err := s.Store.Groups(ctx, store.Page(page))
	out := make([]api.Group, len(list))
	for i, g := range list {
		out[i] = groupOf(g)
	}
	return out, err
}

// SetGroup makes a group or changes it.
func (s *People) SetGroup(ctx context.Context, name string, in api.GroupChange) (api.Group, error) {
	var now store.Group
	err := s.amongPeople(ctx, func(q ground.Q) error {
		was, err := q.GroupByName(ctx, name)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err := q.SetGroup(ctx,
			store.Group{Name: name, Administrators: in.Administrators, IssuerGroup: in.IssuerGroup}); err != nil {
			return err
		}
		if now, err = q.GroupByName(ctx, name); err != nil {
			return err
		}
		if err := q.SetMembers(ctx, now.ID, in.Members); err != nil {
			return err
		}
		if now, err = q.GroupByName(ctx, name); err != nil {
			return err
		}
		for _, m := range in.Members {
			if !slices.Contains(now.Members, m) {
				return fmt.Errorf("there is nobody called %s: %w", m, ground.ErrNotFound)
			}
		}
		a := fact.Fact{Kind: fact.GroupSet, Subject: name, After: groupOf(now)}
		if was.ID != 0 {
			a.Before = groupOf(was)
		}
		return q.Tell(ctx, a)
	})
	return groupOf(now), err
}

// DropGroup removes a group with what it was granted.
func (s *People) DropGroup(ctx context.Context, name string) error {
	return s.amongPeople(ctx, func(q ground.Q) error {
		g, err := q.GroupByName(ctx, name)
		if err != nil {
			return ground.Known(err, "group %s", name)
		}
		if err := q.DropGroup(ctx, g.ID); err != nil {
			return err
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.GroupDrop, Subject: name, Before: groupOf(g)})
	})
}

// Grants lists who has which role in a project, every project's roles among them; all when project is "".
func (s *People) Grants(ctx context.Context, project string, page api.Page) ([]api.Grant, error) {
	list, err := s.Store.Grants(ctx, project, store.Page(page))
	out := make([]api.Grant, len(list))
	for i, g := range list {
		out[i] = api.Grant{Project: g.Project, Person: g.Person, Group: g.Group, Role: g.Role}
	}
	return out, err
}

func checkGrantee(g api.Grant) error {
	if (g.Person == "") == (g.Group == "") {
		return fmt.Errorf("a role is given to a person or to a group: %w; name one of them", ground.ErrInvalid)
	}
	return nil
}

// Grant gives a role in a project, or in every project, in place of the one there was.
func (s *People) Grant(ctx context.Context, g api.Grant) error {
	err := checkGrantee(g)
	if err == nil && !slices.Contains(access.Roles, g.Role) {
		err = fmt.Errorf("%q is %w as a role: give reader, builder or keeper", g.Role, ground.ErrInvalid)
	}
	if err != nil {
		return err
	}
	err = s.regrant(ctx, fact.Fact{Kind: fact.RoleGrant, After: map[string]any{"role": g.Role}}, g, store.Q.SetGrant)
	return ground.Known(err, "the project, or %s", g.Whom())
}

// DropGrant takes a role away.
func (s *People) DropGrant(ctx context.Context, g api.Grant) error {
	err := checkGrantee(g)
	if err != nil {
		return err
	}
	err = s.regrant(ctx, fact.Fact{Kind: fact.RoleTake}, g, store.Q.DropGrant)
	return ground.Known(err, "a role of %s there", g.Whom())
}

// regrant changes a grant and notes it, with the role there was.
func (s *People) regrant(ctx context.Context, a fact.Fact, g api.Grant,
	change func(store.Q, context.Context, store.Grant) error) error {
	row := store.Grant{Project: g.Project, Person: g.Person, Group: g.Group, Role: g.Role}
	a.Project, a.Subject = g.Project, g.Whom()
	return s.Tx(ctx, func(q ground.Q) error {
		if err := q.LockPeople(ctx); err != nil {
			return err
		}
		switch was, err := q.RoleGiven(ctx, row); {
		case err == nil:
			a.Before = map[string]any{"role": was}
		case !errors.Is(err, store.ErrNotFound):
			return err
		}
		if err := change(q.Q, ctx, row); err != nil {
			return err
		}
		return q.Tell(ctx, a)
	})
}

// Me tells who asks, and what they may do where.
func (s *People) Me(ctx context.Context) (api.Me, error) {
	w := ground.WhoAsks(ctx)
	me := api.Me{Name: w.Name, Administrator: w.Rules(), Roles: map[string]access.Role{}}
	if w.Kind == api.PersonToken {
		p, err := s.Store.PersonByName(ctx, w.Name)
		if err != nil {
			return me, ground.Known(err, "person %s", w.Name)
		}
		me.Mail = p.Mail
	}
	ids, all, err := s.Visible(ctx)
	if err != nil {
		return me, err
	}
	if all {
		me.Roles["*"] = access.Keeper.AtMost(w.Bound)
		return me, nil
	}
	names, err := s.Store.ProjectNames(ctx)
	if err != nil {
		return me, err
	}
	for _, id := range ids {
		if me.Roles[names[id]], err = s.RoleIn(ctx, w, names[id]); err != nil {
			return me, err
		}
	}
	return me, nil
}
