package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
)

// IdentityPath names an identity; exported, since only then can other inputs embed it.
type IdentityPath struct {
	Project string `path:"project" maxLength:"63"`
	Name    string `path:"name" maxLength:"63"`
}

// identities registers what people see of signing keys, and do with them. No answer holds a key but that of an export.
func (sv *server) identities(a huma.API) {
	const all = "/projects/{project}/identities"
	const one = all + "/{name}"
	operation(a, http.MethodGet, all, "list-identities", "List signing keys in custody, without the keys",
		func(ctx context.Context, in *ProjectPage) ([]api.Identity, error) {
			return sv.s.Identities.Identities(ctx, in.Project, in.Page)
		})
	operation(a, http.MethodGet, one, "identity", "Tell of a signing key, without the key",
		func(ctx context.Context, in *IdentityPath) (api.Identity, error) {
			return sv.s.Identities.Identity(ctx, in.Project, in.Name)
		})
	operation(a, http.MethodPut, one, "set-identity", "Make an identity's next key, or take one over from a file",
		func(ctx context.Context, in *struct {
			IdentityPath
			Body api.NewIdentity
		}) (api.Identity, error) {
			return sv.s.Identities.SetIdentity(ctx, in.Project, who(ctx).Name, in.Name, in.Body)
		})
	operation(a, http.MethodPut, one+"/settings", "change-identity",
		"Say something about an identity: note, which apps it may sign, which runs may sign with it",
		func(ctx context.Context, in *struct {
			IdentityPath
			Body api.IdentitySettings
		}) (api.Identity, error) {
			return sv.s.Identities.ChangeIdentity(ctx, in.Project, in.Name, in.Body)
		})
	operation(a, http.MethodPost, one+"/profiles", "add-profile", "Lay a provisioning profile with an identity",
		func(ctx context.Context, in *struct {
			IdentityPath
			Body api.NewProfile
		}) (api.Identity, error) {
			return sv.s.Identities.AddProfile(ctx, in.Project, in.Name, in.Body)
		})
	operation(a, http.MethodPost, one+"/export", "export-identity", "Take a copy of a key away, under a passphrase",
		func(ctx context.Context, in *struct {
			IdentityPath
			Body api.IdentityExport
		}) (api.ExportedIdentity, error) {
			return sv.s.Identities.ExportIdentity(ctx, in.Project, who(ctx).Name, in.Name, in.Body)
		})
	command(a, http.MethodDelete, one, "drop-identity", "Remove an identity with all its keys",
		func(ctx context.Context, in *IdentityPath) error {
			return sv.s.Identities.DropIdentity(ctx, in.Project, in.Name)
		})
	operation(a, http.MethodGet, "/projects/{project}/signatures", "signatures",
		"Who signed what with which key, newest first", func(ctx context.Context, in *struct {
			ProjectPath
			api.SignatureFilter
		}) (api.SignaturePage, error) {
			return sv.s.Identities.Signatures(ctx, in.Project, in.SignatureFilter)
		})
	const certificates = "/projects/{project}/app-certificates"
	operation(a, http.MethodGet, certificates, "app-certificates", "By which certificates the project's apps are signed",
		func(ctx context.Context, in *ProjectPath) ([]api.AppCertificate, error) {
			return sv.s.Identities.AppCertificates(ctx, in.Project)
		})
	command(a, http.MethodPut, certificates, "allow-certificate",
		"Say that an app may be signed by another certificate from now on", func(ctx context.Context, in *struct {
			ProjectPath
			Body api.AllowCertificate
		}) error {
			return sv.s.Identities.AllowCertificate(ctx, in.Project, in.Body)
		})
	operation(a, http.MethodPost, "/runner/attempts/{attempt}/identity", "signing-identity",
		"By whom a package is to be signed", func(ctx context.Context, in *struct {
			AttemptPath
			Body api.IdentityRequest
		}) (api.SigningIdentity, error) {
			return sv.s.Identities.IdentityFor(ctx, in.Attempt, in.Body)
		})
	operation(a, http.MethodPost, "/runner/attempts/{attempt}/signatures", "sign", "Sign a digest",
		func(ctx context.Context, in *struct {
			AttemptPath
			Body api.SignatureRequest
		}) (api.MadeSignature, error) {
			return sv.s.Identities.Sign(ctx, in.Attempt, in.Body)
		})
}
