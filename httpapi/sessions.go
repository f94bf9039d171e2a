package httpapi

import (
	"context"
	"encoding/json"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/service"
)

func writeJSON(w http.ResponseWriter, status int, contentType string, v any) {
	w.Header().Set("Content-Type", contentType)
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // a reader that has gone away needs no answer
}

type signedIn struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      api.Person
}

func cookie(token string, maxAge int) http.Cookie {
	return http.Cookie{Name: cookieName, Value: token, Path: "/", MaxAge: maxAge, HttpOnly: true, SameSite: http.SameSiteStrictMode}
}

func (sv *server) sessions(a huma.API) {
	huma.Register(a, huma.Operation{Method: http.MethodPost, Path: Prefix + "/session", OperationID: "sign-in",
		Summary: "Sign in; the session comes as a cookie"},
		func(ctx context.Context, in *struct{ Body api.Credentials }) (*signedIn, error) {
			token, err := sv.s.SignIn(ctx, in.Body)
			if err != nil {
				return nil, problem(err)
			}
			return &signedIn{cookie(token, int(service.SessionLength.Seconds())), api.Person{Name: in.Body.Name}}, nil
		})
	operation(a, http.MethodGet, "/session", "who-am-i", "Who is signed in", func(ctx context.Context, _ *none) (api.Person, error) {
		return api.Person{Name: who(ctx).Name}, nil
	})
	type ending struct {
		Session string `cookie:"piston_session"`
	}
	type ended struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	huma.Register(a, huma.Operation{Method: http.MethodDelete, Path: Prefix + "/session", OperationID: "sign-out",
		Summary: "Sign out", DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, in *ending) (*ended, error) {
			return &ended{cookie("", -1)}, problem(sv.s.SignOut(ctx, in.Session))
		})

	operation(a, http.MethodPost, "/tokens", "issue-token", "Make an API token; its secret is shown this once",
		func(ctx context.Context, in *struct{ Body api.NewToken }) (api.IssuedToken, error) {
			return sv.s.IssueToken(ctx, who(ctx).Name, in.Body)
		})
	operation(a, http.MethodGet, "/tokens", "list-tokens", "List API tokens, without their secrets",
		func(ctx context.Context, _ *none) ([]api.Token, error) { return sv.s.Tokens(ctx) })
	command(a, http.MethodDelete, "/tokens/{id}", "revoke-token", "Make an API token useless", func(ctx context.Context, in *struct {
		ID int64 `path:"id"`
	}) error {
		return sv.s.RevokeToken(ctx, in.ID)
	})
}
