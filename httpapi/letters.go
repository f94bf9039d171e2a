package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
)

// letters registers what is sent by mail, and where people get it.
func letters(sv *server, a huma.API) {
	operation(a, http.MethodGet, "/letters", "list-letters", "What was sent by mail, or is to be, newest first",
		func(ctx context.Context, in *struct{ api.LetterFilter }) (api.LetterPage, error) {
			return sv.s.Letters.List(ctx, in.LetterFilter)
		})
	command(a, http.MethodPut, "/people/{name}/mail", "set-mail", "Say where somebody gets mail; empty for nowhere",
		func(ctx context.Context, in *struct {
			NamePath
			Body api.MailAddress
		}) error {
			return sv.s.People.SetMail(ctx, in.Name, in.Body)
		})
	command(a, http.MethodPut, "/session/mail", "set-own-mail", "Say where one gets mail oneself; empty for nowhere",
		func(ctx context.Context, in *struct{ Body api.MailAddress }) error {
			return sv.s.People.SetMail(ctx, who(ctx).Name, in.Body)
		})
}
