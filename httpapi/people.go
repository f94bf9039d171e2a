package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
)

// NamePath names a person or a group; exported, since only then can other inputs embed it.
type NamePath struct {
	Name string `path:"name" maxLength:"100"`
}

func (sv *server) peopleAndRoles(a huma.API) {
	operation(a, http.MethodGet, "/people", "list-people", "List people by name",
		func(ctx context.Context, in *struct{ api.Page }) ([]api.Person, error) {
			return sv.s.People.People(ctx, in.Page)
		})
	operation(a, http.MethodPost, "/people", "add-person", "Add somebody; the password made for them is shown this once",
		func(ctx context.Context, in *struct{ Body api.NewPerson }) (api.NewPassword, error) {
			return sv.s.People.AddPerson(ctx, in.Body)
		})
	operation(a, http.MethodPut, "/people/{name}", "change-person",
		"Make somebody an administrator or not, keep them out or let them in", func(ctx context.Context, in *struct {
			NamePath
			Body api.PersonChange
		}) (api.Person, error) {
			return sv.s.People.ChangePerson(ctx, in.Name, in.Body)
		})
	operation(a, http.MethodPost, "/people/{name}/password", "reset-password",
		"Make somebody a new password, shown this once; their sessions end",
		func(ctx context.Context, in *NamePath) (api.NewPassword, error) {
			return sv.s.People.ResetPassword(ctx, in.Name)
		})
	operation(a, http.MethodGet, "/groups", "list-groups", "List groups with their members by name",
		func(ctx context.Context, in *struct{ api.Page }) ([]api.Group, error) {
			return sv.s.People.Groups(ctx, in.Page)
		})
	operation(a, http.MethodPut, "/groups/{name}", "set-group", "Make a group or change it",
		func(ctx context.Context, in *struct {
			Name string `path:"name" pattern:"^[a-z0-9][a-z0-9._-]{0,62}$"`
			Body api.GroupChange
		}) (api.Group, error) {
			return sv.s.People.SetGroup(ctx, in.Name, in.Body)
		})
	command(a, http.MethodDelete, "/groups/{name}", "drop-group", "Remove a group with what it was granted",
		func(ctx context.Context, in *NamePath) error {
			return sv.s.People.DropGroup(ctx, in.Name)
		})
	operation(a, http.MethodGet, "/roles", "list-roles",
		"Who has which role where; ordered and paged by PROJECT/PERSON or PROJECT/group GROUP, with * for every project",
		func(ctx context.Context, in *struct{ api.Page }) ([]api.Grant, error) {
			return sv.s.People.Grants(ctx, "", in.Page)
		})
	operation(a, http.MethodGet, "/projects/{project}/roles", "list-project-roles",
		"Who has which role in a project; ordered and paged like list-roles",
		func(ctx context.Context, in *ProjectPage) ([]api.Grant, error) {
			return sv.s.People.Grants(ctx, in.Project, in.Page)
		})
	command(a, http.MethodPut, "/roles", "grant-role", "Give a person or a group a role in a project, or in every one",
		func(ctx context.Context, in *struct{ Body api.Grant }) error {
			return sv.s.People.Grant(ctx, in.Body)
		})
	command(a, http.MethodPost, "/roles/take", "take-role", "Take a role away",
		func(ctx context.Context, in *struct{ Body api.Grant }) error {
			return sv.s.People.DropGrant(ctx, in.Body)
		})
}
