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
	Name    string `path:"name" maxLength:"100"`
}

func (sv *server) secrets(a huma.API) {
	operation(a, http.MethodGet, "/projects/{project}/secrets", "list-secrets", "List secrets, without their values", func(ctx context.Context, in *ProjectPath) ([]api.Secret, error) {
		return sv.s.Secrets(ctx, in.Project)
	})
	operation(a, http.MethodPut, "/projects/{project}/secrets/{name}", "set-secret", "Set a secret's next revision", func(ctx context.Context, in *struct {
		SecretPath
		Body api.NewSecret
	}) (api.Secret, error) {
		return sv.s.SetSecret(ctx, in.Project, who(ctx).Name, in.Name, in.Body)
	})
	command(a, http.MethodDelete, "/projects/{project}/secrets/{name}", "drop-secret", "Remove a secret", func(ctx context.Context, in *SecretPath) error {
		return sv.s.DropSecret(ctx, in.Project, in.Name)
	})
}
