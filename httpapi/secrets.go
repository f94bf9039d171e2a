package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
)

// SecretPath names a secret; exported, since only then can other inputs embed it.
type SecretPath struct {
	Project string `path:"project" maxLength:"63"`
	Name    string `path:"name" maxLength:"201"`
}

func (sv *server) secrets(a huma.API) {
	operation(a, http.MethodGet, "/projects/{project}/secrets", "list-secrets",
		"List secrets by name, without their values", func(ctx context.Context, in *ProjectPage) ([]api.Secret, error) {
			return sv.s.Secrets.Secrets(ctx, in.Project, in.Page)
		})
	operation(a, http.MethodPut, "/projects/{project}/secrets/{name}", "set-secret", "Set a secret's next revision",
		func(ctx context.Context, in *struct {
			SecretPath
			Body api.NewSecret
		}) (api.Secret, error) {
			return sv.s.Secrets.SetSecret(ctx, in.Project, who(ctx).Name, in.Name, in.Body)
		})
	operation(a, http.MethodPut, "/projects/{project}/secrets/{name}/settings", "change-secret",
		"Say something about a secret: note, expiry, which runs are given it, with whom it is shared",
		func(ctx context.Context, in *struct {
			SecretPath
			Body api.SecretSettings
		}) (api.Secret, error) {
			return sv.s.Secrets.ChangeSecret(ctx, in.Project, in.Name, in.Body)
		})
	operation(a, http.MethodGet, "/projects/{project}/secrets/{name}/revisions", "list-revisions",
		"List the values of a secret that are kept, without the values",
		func(ctx context.Context, in *SecretPath) ([]api.SecretRevision, error) {
			return sv.s.Secrets.Revisions(ctx, in.Project, in.Name)
		})
	operation(a, http.MethodPost, "/projects/{project}/secrets/{name}/restore", "restore-secret",
		"Put an earlier value back, as the next revision", func(ctx context.Context, in *struct {
			SecretPath
			Body api.RestoreSecret
		}) (api.Secret, error) {
			return sv.s.Secrets.RestoreSecret(ctx, in.Project, who(ctx).Name, in.Name, in.Body.Revision)
		})
	command(a, http.MethodDelete, "/projects/{project}/secrets/{name}", "drop-secret", "Remove a secret",
		func(ctx context.Context, in *SecretPath) error {
			return sv.s.Secrets.DropSecret(ctx, in.Project, in.Name)
		})
	operation(a, http.MethodPost, "/master/rotation", "rotate-master", "Encrypt every secret anew, to a new master key",
		func(ctx context.Context, _ *none) (api.MasterRotation, error) {
			return sv.s.Vault.RotateMaster(ctx)
		})
}
