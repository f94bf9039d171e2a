package service

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"unicode/utf8"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/mask"
	"gentlepiston.example/piston/store"
)

// MaxSecret is the most bytes a secret may have: it travels with every job that asks for it.
const MaxSecret = 1 << 20

// SetSecret writes a secret's next revision.
func (s *Service) SetSecret(ctx context.Context, project, person, name string, in api.NewSecret) (api.Secret, error) {
	p, err := s.store.ProjectByName(ctx, project)
	if err != nil {
		return api.Secret{}, known(err, "project %s", project)
	}
	if err := checkSecret(name, in); err != nil {
		return api.Secret{}, err
	}
	sealed, err := s.vault.seal(in.Value)
	if err != nil {
		return api.Secret{}, err
	}
	made, err := s.store.SetSecret(ctx, p.ID, name, in.Kind, sealed, person)
	return secretOf(made), err
}

func checkSecret(name string, in api.NewSecret) error {
	refuse := func(format string, args ...any) error {
		return fmt.Errorf("secret %.60q is %w: %s", name, ErrInvalid, fmt.Sprintf(format, args...))
	}
	switch {
	case !definition.SecretNameForm.MatchString(name) || strings.HasPrefix(name, "PISTON_") || len(name) > 100:
		return refuse("its name must be letters, digits and _, not beginning with a digit or with PISTON_, at most 100 long")
	case len(in.Value) > MaxSecret:
		return refuse("it has %d bytes, at most %d are allowed", len(in.Value), MaxSecret)
	case len(bytes.TrimSpace(in.Value)) < mask.MinLength:
		return refuse("a value of fewer than %d characters cannot be hidden in logs without hiding ordinary text too; use a longer one", mask.MinLength)
	case in.Kind == api.TextSecret && bytes.ContainsRune(in.Value, 0):
		return refuse("it holds a NUL byte, which no environment variable can; set it as a file")
	case in.Kind == api.TextSecret && !utf8.Valid(in.Value):
		return refuse("it is not UTF-8 text; set it as a file")
	}
	return nil
}

func secretOf(s store.Secret) api.Secret {
	return api.Secret{Name: s.Name, Kind: api.SecretKind(s.Kind), Revision: s.Revision, Updated: s.Updated, By: s.By}
}

// Secrets lists a project's secrets, without their values.
func (s *Service) Secrets(ctx context.Context, project string) ([]api.Secret, error) {
	p, err := s.store.ProjectByName(ctx, project)
	if err != nil {
		return nil, known(err, "project %s", project)
	}
	list, err := s.store.Secrets(ctx, p.ID)
	out := make([]api.Secret, len(list))
	for i, v := range list {
		out[i] = secretOf(v)
	}
	return out, err
}

// DropSecret removes a secret.
func (s *Service) DropSecret(ctx context.Context, project, name string) error {
	p, err := s.store.ProjectByName(ctx, project)
	if err != nil {
		return known(err, "project %s", project)
	}
	return known(s.store.DropSecret(ctx, p.ID, name), "secret %s of %s", name, project)
}
