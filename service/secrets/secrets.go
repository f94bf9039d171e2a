package secrets

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"filippo.io/age"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/mask"
	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/vault"
	"gentlepiston.example/piston/store"
)

// MaxSecret is the most bytes a secret may have: it travels with every job that asks for it.
const MaxSecret = 1 << 20

// SetSecret writes a secret's next revision.
func (s *Secrets) SetSecret(ctx context.Context, project, person, name string, in api.NewSecret) (api.Secret, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Secret{}, err
	}
	if err := checkSecret(name, in); err != nil {
		return api.Secret{}, err
	}
	err = s.vault.Sealing(ctx, in.Value, func(q ground.Q, sealed []byte, to string) error {
		if err := q.LockSecrets(ctx, p.ID); err != nil { // or two could be the first of a name
			return err
		}
		was, err := ownSecret(ctx, q, p, name)
		if errors.Is(err, ground.ErrNotFound) {
			if err := s.roomFor(ctx, q, p, name); err != nil {
				return err
			}
			was.ID, err = q.AddSecret(ctx, p.ID, name)
			if err != nil {
				return ground.Known(err, "secret %s of %s", name, project)
			}
		} else if err != nil {
			return err
		}
		revision := store.Revision{Kind: string(in.Kind), Ciphertext: sealed, SealedTo: to, Size: len(in.Value), By: person}
		revision.Profile.V, _ = profile.Read(in.Value)
		n, err := q.AddRevision(ctx, was.ID, revision)
		if err != nil {
			return err
		}
		a := fact.Fact{Kind: fact.SecretSet, Project: project, Subject: name,
			After: map[string]any{"revision": n, "kind": in.Kind, "size": len(in.Value)}}
		if was.Number > 0 {
			a.Before = map[string]any{"revision": was.Number, "kind": was.Kind, "size": was.Size}
		}
		if err := q.Tell(ctx, a); err != nil || in.Settings == nil {
			return err
		}
		if was, err = q.SecretByName(ctx, p.ID, name); err != nil {
			return err
		}
		return s.changeSecret(ctx, q, was, *in.Settings)
	})
	if err != nil {
		return api.Secret{}, err
	}
	return s.Secret(ctx, project, name)
}

// ownSecret finds a secret that is a project's own to change.
func ownSecret(ctx context.Context, q ground.Q, p store.Project, name string) (store.Secret, error) {
	was, err := lockedSecret(ctx, q, p, name)
	if err != nil {
		return was, err
	}
	if was.HomeID != p.ID {
		return was, ground.Refuse("secret %s is shared by the project %s: it is set and changed there", name, was.Home)
	}
	return was, nil
}

// lockedSecret finds a secret of a project, which nobody else changes until the transaction's end. It is read when it
// is held, not before.
func lockedSecret(ctx context.Context, q ground.Q, p store.Project, name string) (was store.Secret, err error) {
	if err = q.LockSecret(ctx, p.ID, name); err == nil {
		was, err = q.SecretByName(ctx, p.ID, name)
	}
	return was, ground.Known(err, "secret %s of %s", name, p.Name)
}

// onSecret changes a secret that is a project's own, and tells what has become of it.
func (s *Secrets) onSecret(ctx context.Context, project, name string,
	change func(q ground.Q, was store.Secret) error) (api.Secret, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Secret{}, err
	}
	err = s.Tx(ctx, func(q ground.Q) error {
		was, err := ownSecret(ctx, q, p, name)
		if err != nil {
			return err
		}
		return change(q, was)
	})
	if err != nil {
		return api.Secret{}, err
	}
	return s.Secret(ctx, project, name)
}

// maxSecrets bounds the secrets of a project.
const maxSecrets = 500

// roomFor refuses a secret too many, and a name that would be a set and a single secret at once.
func (s *Secrets) roomFor(ctx context.Context, q ground.Q, p store.Project, name string) error {
	list, err := q.Secrets(ctx, p.ID, store.Page{})
	if err != nil {
		return err
	}
	if len(list) >= maxSecrets {
		return fmt.Errorf("%s has %d secrets already, which is the most: %w", p.Name, len(list), ground.ErrInvalid)
	}
	mine := access.SecretName(name)
	for _, other := range list {
		o := access.SecretName(other.Name)
		if o.Variable() == mine.Variable() && (o.Member() == "") != (mine.Member() == "") {
			return fmt.Errorf("secret %.60q is %w: there is %s already, and a name is either one secret or a set of them; "+
				"drop that one first", name, ground.ErrInvalid, o)
		}
	}
	return nil
}

func checkSecret(name string, in api.NewSecret) error {
	refuse := func(format string, args ...any) error {
		return fmt.Errorf("secret %.60q is %w: %s", name, ground.ErrInvalid, fmt.Sprintf(format, args...))
	}
	if err := access.SecretName(name).Check(); err != nil {
		return refuse("%v", err)
	}
	switch {
	case len(in.Value) > MaxSecret:
		return refuse("it has %d bytes, at most %d are allowed: put what is larger, encrypted, where the build can fetch "+
			"it, and the key to it here", len(in.Value), MaxSecret)
	case len(bytes.TrimSpace(in.Value)) < mask.MinLength:
		return refuse("a value of fewer than %d characters cannot be hidden in logs without hiding ordinary text too; use "+
			"a longer one", mask.MinLength)
	case in.Kind == api.TextSecret && bytes.ContainsRune(in.Value, 0):
		return refuse("it holds a NUL byte, which no environment variable can; set it as a file")
	case in.Kind == api.TextSecret && len(in.Value) > maxVariable:
		return refuse("it has %d bytes, and no environment variable holds more than %d; set it as a file", len(in.Value),
			maxVariable)
	case in.Kind == api.TextSecret && !utf8.Valid(in.Value):
		return refuse("it is not UTF-8 text; set it as a file")
	}
	return nil
}

// maxVariable is the most bytes of an environment variable (execve(2), MAX_ARG_STRLEN), less its name.
const maxVariable = 128<<10 - 256

// secretAbout is what the audit trail keeps of a secret's settings.
func secretAbout(v api.Secret) map[string]any {
	return map[string]any{"note": v.Note, "expires": v.Expires, "scope": v.Scope, "shared": v.Shared}
}

// ChangeSecret writes what is said about a secret, and with whom it is shared.
func (s *Secrets) ChangeSecret(ctx context.Context, project, name string, in api.SecretSettings) (api.Secret, error) {
	return s.onSecret(ctx, project, name,
		func(q ground.Q, was store.Secret) error { return s.changeSecret(ctx, q, was, in) })
}

// changeSecret writes what is said about a secret, where something is, and notes what that changes: by
// whom a protection was taken away is to be found, also when it came with a new value.
func (s *Secrets) changeSecret(ctx context.Context, q ground.Q, was store.Secret, in api.SecretSettings) error {
	scope, text, expires := was.Scope(), was.Note, was.Expires
	if in.Note != nil {
		text = *in.Note
	}
	if in.Expires != nil {
		if expires = in.Expires; expires.IsZero() {
			expires = nil
		}
	}
	if in.Scope != nil {
		scope = *in.Scope
		if err := scope.Check(); err != nil {
			return fmt.Errorf("the secret's scope is %w: %w", ground.ErrInvalid, err)
		}
	}
	if err := q.ChangeSecret(ctx, was.ID, text, expires, scope); err != nil {
		return err
	}
	if in.Shared != nil {
		if err := s.share(ctx, q, was, *in.Shared); err != nil {
			return err
		}
	}
	now, err := q.SecretByName(ctx, was.HomeID, was.Name)
	if err != nil {
		return err
	}
	before, after := secretAbout(secretOf(was)), secretAbout(secretOf(now))
	for about := range before {
		if reflect.DeepEqual(before[about], after[about]) {
			delete(before, about)
			delete(after, about)
		}
	}
	if len(before) == 0 {
		return nil
	}
	return q.Tell(ctx, fact.Fact{Kind: fact.SecretChange, Project: was.Home, Subject: was.Name,
		Before: before, After: after})
}

// share lets other projects use a secret; whoever does it must be a keeper of each.
func (s *Secrets) share(ctx context.Context, q ground.Q, secret store.Secret, with []string) error {
	who := ground.WhoAsks(ctx)
	for _, name := range with {
		if name == secret.Home || slices.Contains(secret.Shared, name) {
			continue
		}
		role, err := ground.RoleIn(ctx, q.Q, who, name)
		if err != nil {
			return err
		}
		to, err := q.ProjectByName(ctx, name)
		if err == nil && role == access.Nobody && !who.Ours() {
			err = store.ErrNotFound // who may not see it learns nothing of it
		}
		if err != nil {
			return ground.Known(err, "project %s", name)
		}
		if !who.Ours() && !role.Covers(access.Keeper) {
			return ground.Refuse("you are no keeper of %s, so you cannot give it a secret", name)
		}
		if err := s.roomFor(ctx, q, to, secret.Name); err != nil {
			return err
		}
		if err := q.NameSecret(ctx, to.ID, secret.Name, secret.ID); err != nil {
			return ground.Known(err, "a secret %s of %s", secret.Name, name)
		}
	}
	for _, name := range secret.Shared {
		if slices.Contains(with, name) {
			continue
		}
		from, err := q.ProjectByName(ctx, name)
		if err != nil {
			return err
		}
		if err := q.UnnameSecret(ctx, from.ID, secret.ID); err != nil {
			return err
		}
	}
	return nil
}

func secretOf(s store.Secret) api.Secret {
	out := api.Secret{Name: s.Name, Kind: api.SecretKind(s.Kind), Revision: s.Number, Size: s.Size, Updated: s.Set,
		By: s.By, Note: s.Note,
		Expires: s.Expires, Scope: s.Scope(), Home: s.Home, Shared: ground.NonNil(s.Shared), Used: s.Used}
	if s.UsedRun != 0 {
		out.UsedRun, out.UsedIn = s.UsedRun, s.UsedIn
	}
	return out
}

// Secret tells of a secret, without its value.
func (s *Secrets) Secret(ctx context.Context, project, name string) (api.Secret, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return api.Secret{}, err
	}
	v, err := s.Store.SecretByName(ctx, p.ID, name)
	return secretOf(v), ground.Known(err, "secret %s of %s", name, project)
}

// Secrets lists the secrets a project may use, without their values.
func (s *Secrets) Secrets(ctx context.Context, project string, page api.Page) ([]api.Secret, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Secrets(ctx, p.ID, store.Page(page))
	out := make([]api.Secret, len(list))
	for i, v := range list {
		out[i] = secretOf(v)
	}
	return out, err
}

// Revisions lists the values of a secret that are kept, without the values.
func (s *Secrets) Revisions(ctx context.Context, project, name string) ([]api.SecretRevision, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return nil, err
	}
	v, err := s.Store.SecretByName(ctx, p.ID, name)
	if err != nil {
		return nil, ground.Known(err, "secret %s of %s", name, project)
	}
	list, err := s.Store.Revisions(ctx, v.ID)
	out := make([]api.SecretRevision, len(list))
	for i, r := range list {
		out[i] = api.SecretRevision{Revision: r.Number, Kind: api.SecretKind(r.Kind), Size: r.Size, Set: r.Set, By: r.By,
			Restored: r.Restored}
	}
	return out, err
}

// RestoreSecret puts an earlier value back, as the next revision.
func (s *Secrets) RestoreSecret(ctx context.Context, project, person, name string, revision int) (api.Secret, error) {
	return s.onSecret(ctx, project, name, func(q ground.Q, was store.Secret) error {
		again, err := q.Revision(ctx, was.ID, revision)
		if errors.Is(err, store.ErrNotFound) {
			return fmt.Errorf("revision %d of secret %s is not kept (piston secret history shows which are): %w", revision, name,
				ground.ErrNotFound)
		}
		if err != nil {
			return err
		}
		again.By, again.Restored = person, revision
		n, err := q.AddRevision(ctx, was.ID, again)
		if err != nil {
			return err
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.SecretRestore, Project: project, Subject: name,
			Before: map[string]any{"revision": was.Number},
			After:  map[string]any{"revision": n, "restored": revision}})
	})
}

// DropSecret removes a secret with all its values; of one that another project shares, only the sharing.
func (s *Secrets) DropSecret(ctx context.Context, project, name string) error {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return err
	}
	return s.Tx(ctx, func(q ground.Q) error {
		was, err := lockedSecret(ctx, q, p, name)
		if err != nil {
			return err
		}
		if was.HomeID != p.ID {
			err = q.UnnameSecret(ctx, p.ID, was.ID)
		} else {
			err = q.DropSecret(ctx, was.ID)
		}
		if err != nil {
			return err
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.SecretDrop, Project: project, Subject: name,
			Before: map[string]any{"revision": was.Number, "home": was.Home}})
	})
}

// Given is what a runner is given of the secrets of a job.
type Given struct {
	Sealed    []byte            // to the runner
	Kinds     map[string]string // by name
	Revisions map[string]int    // which values they are
}

// SecretsFor seals the values the job's steps list to the runner that claimed it, and no others. What the run may
// not have, now, is left out, whatever was so when it was planned.
func (s *Secrets) SecretsFor(ctx context.Context, run store.Run, job store.Job, to age.Recipient) (given Given,
	err error) {
	return s.SomeFor(ctx, run, job, to, Asked(job))
}

// Asked are the secrets that the steps of a job want, those that are skipped left out.
func Asked(job store.Job) map[string]bool {
	wanted := map[string]bool{}
	for _, asker := range job.Definition.V.Askers() {
		if asker != nil && asker.Skip != "" {
			continue
		}
		for _, name := range job.Definition.V.SecretsOf(asker) {
			wanted[name] = true
		}
	}
	return wanted
}

// SomeFor is SecretsFor of some of the secrets that a job asks for.
func (s *Secrets) SomeFor(ctx context.Context, run store.Run, job store.Job, to age.Recipient, some map[string]bool) (
	given Given, err error) {
	wanted := map[string]bool{}
	for name := range Asked(job) {
		if some[name] {
			wanted[name] = true
		}
	}
	if len(wanted) == 0 || run.Outside {
		return given, nil // never a secret for a proposal from outside, whatever its pipeline asks for
	}
	list, err := s.Store.Secrets(ctx, run.ProjectID, store.Page{})
	if err != nil {
		return given, err
	}
	values := api.SealedSecrets{}
	var ids []record.SecretID
	given.Kinds, given.Revisions = map[string]string{}, map[string]int{}
	for _, secret := range list {
		if !wanted[secret.Name] || secret.Scope().Refuses(run.Pipeline, run.Branch, run.Tag) != "" ||
			secret.Expires != nil && secret.Expires.Before(time.Now()) {
			continue
		}
		plain, err := s.vault.Open(secret.Ciphertext)
		if err != nil {
			return given, err
		}
		values[secret.Name], given.Kinds[secret.Name], given.Revisions[secret.Name] = plain, secret.Kind, secret.Number
		ids = append(ids, secret.ID)
	}
	err = s.Tx(ctx, func(q ground.Q) error {
		if err := q.NoteSecrets(ctx, run.ID, given.Revisions); err != nil {
			return err
		}
		return q.NoteSecretUse(ctx, run.ID, ids)
	})
	if err != nil {
		return given, err
	}
	text, err := json.Marshal(values)
	if err != nil {
		return given, err
	}
	given.Sealed, err = vault.SealTo(to, text)
	return given, err
}

// Own opens a secret's value for the service's own use in a run, such as to push for it. It goes to no runner.
func (s *Secrets) Own(ctx context.Context, run store.Run, name string) (string, error) {
	list, err := s.Store.Secrets(ctx, run.ProjectID, store.Page{})
	if err != nil {
		return "", err
	}
	for _, secret := range list {
		if secret.Name != name {
			continue
		}
		switch why := secret.Scope().Refuses(run.Pipeline, run.Branch, run.Tag); {
		case run.Outside || why != "":
			return "", fmt.Errorf("the secret %s is not for this run: %w", name, ground.ErrForbidden)
		case secret.Expires != nil && secret.Expires.Before(time.Now()):
			return "", fmt.Errorf("the secret %s has expired: %w", name, ground.ErrInvalid)
		}
		plain, err := s.vault.Open(secret.Ciphertext)
		return strings.TrimSpace(string(plain)), err
	}
	return "", fmt.Errorf("nobody has set the secret %s: %w", name, ground.ErrInvalid)
}
