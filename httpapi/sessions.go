package httpapi

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/people"
)

func writeJSON(w http.ResponseWriter, status int, contentType string, v any) {
	w.Header().Set("Content-Type", contentType)
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // a reader that has gone away needs no answer
}

const (
	cookieName   = "piston_session"
	deviceCookie = "piston_device" // makes a browser known from which somebody has signed in
	issuerCookie = "piston_signing_in"
	deviceFor    = 180 * 24 * time.Hour
	issuerPath   = Prefix + "/session/issuer"
)

func (sv *server) cookie(name, value, path string, age time.Duration) http.Cookie {
	c := http.Cookie{Name: name, Value: value, Path: path, MaxAge: int(age.Seconds()), HttpOnly: true, Secure: sv.Secure,
		SameSite: http.SameSiteStrictMode}
	if age <= 0 {
		c.MaxAge = -1
	}
	return c
}

// cookiesOf are those of an open session.
func (sv *server) cookiesOf(e people.Entry) []http.Cookie {
	list := []http.Cookie{sv.cookie(cookieName, e.Session, "/", people.SessionLength)}
	if e.Device != "" {
		list = append(list, sv.cookie(deviceCookie, e.Device, Prefix+"/session", deviceFor))
	}
	return list
}

type withCookies[T any] struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      T
}

func (sv *server) sessions(a huma.API, r chi.Router) {
	operation(a, http.MethodGet, "/sign-in", "sign-in-ways", "How one may sign in",
		func(ctx context.Context, _ *none) (api.SignInWays, error) {
			return api.SignInWays{Issuer: sv.s.People.IssuerName()}, nil
		})
	huma.Register(a, huma.Operation{Method: http.MethodPost, Path: Prefix + "/session", OperationID: "sign-in",
		Summary: "Sign in by name and password; the session comes as a cookie"},
		func(ctx context.Context, in *struct {
			Device string `cookie:"piston_device"`
			Body   api.Credentials
		}) (*withCookies[api.Me], error) {
			entry, err := sv.s.People.SignIn(ctx, in.Body, who(ctx).Address, in.Device)
			if err != nil {
				return nil, problem(ctx, err)
			}
			return &withCookies[api.Me]{sv.cookiesOf(entry), api.Me{Name: in.Body.Name, Roles: map[string]access.Role{}}}, nil
		})
	operation(a, http.MethodGet, "/session", "who-am-i", "Who is signed in, and what they may do where",
		func(ctx context.Context, _ *none) (api.Me, error) {
			return sv.s.People.Me(ctx)
		})
	huma.Register(a, huma.Operation{Method: http.MethodDelete, Path: Prefix + "/session", OperationID: "sign-out",
		Summary: "Sign out: the session ends, or the token one came in by", DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, in *struct {
			Session string `cookie:"piston_session"`
		}) (*struct {
			SetCookie []http.Cookie `header:"Set-Cookie"`
		}, error) {
			err := sv.s.People.SignOut(ctx, in.Session)
			return &struct {
				SetCookie []http.Cookie `header:"Set-Cookie"`
			}{[]http.Cookie{sv.cookie(cookieName, "", "/", 0)}}, problem(ctx, err)
		})
	command(a, http.MethodPut, "/session/password", "change-password", "Change one's own password; every session ends",
		func(ctx context.Context, in *struct{ Body api.OwnPassword }) error {
			return sv.s.People.ChangePassword(ctx, in.Body)
		})
	document(a, "/session/issuer", "sign-in-at-issuer", "Sends the browser to the OpenID Connect issuer", "text/html")
	r.Get(issuerPath, sv.toIssuer)
	document(a, "/session/issuer/return", "return-from-issuer", "Where the issuer sends the browser back to", "text/html")
	r.Get(issuerPath+"/return", sv.fromIssuer)

	huma.Register(a, huma.Operation{Method: http.MethodPost, Path: issuerPath + "/redeem", OperationID: "redeem",
		Summary:       "Sign in by the code that a browser brought to a program; the session comes as a cookie",
		DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, in *struct{ Body api.Redeem }) (*struct {
			SetCookie []http.Cookie `header:"Set-Cookie"`
		}, error) {
			entry, err := sv.s.People.Redeem(ctx, in.Body, who(ctx).Address)
			if err != nil {
				return nil, problem(ctx, err)
			}
			return &struct {
				SetCookie []http.Cookie `header:"Set-Cookie"`
			}{sv.cookiesOf(entry)}, nil
		})

	operation(a, http.MethodPost, "/tokens", "issue-token", "Make an API token; its secret is shown this once",
		func(ctx context.Context, in *struct{ Body api.NewToken }) (api.IssuedToken, error) {
			if in.Body.Kind == api.RunnerToken && !who(ctx).Rules() {
				return api.IssuedToken{}, huma.Error403Forbidden("only an administrator may make a runner's token")
			}
			return sv.s.People.IssueToken(ctx, in.Body)
		})
	operation(a, http.MethodGet, "/tokens", "list-tokens",
		"List one's API tokens, or for an administrator all, without their secrets",
		func(ctx context.Context, in *struct {
			After    int64  `query:"after" minimum:"0" doc:"Only those after this id; the last of the page before."`
			Contains string `query:"contains" maxLength:"100" doc:"Only those with this in their name or their person's."`
			Limit    int    `query:"limit" minimum:"1" maximum:"500" default:"200"`
		}) ([]api.Token, error) {
			return sv.s.People.Tokens(ctx, in.After, in.Contains, in.Limit)
		})
	command(a, http.MethodDelete, "/tokens/{id}", "revoke-token", "Make an API token useless",
		func(ctx context.Context, in *struct {
			ID record.TokenID `path:"id"`
		}) error {
			return sv.s.People.RevokeToken(ctx, in.ID)
		})
}

// toIssuer sends a browser to the issuer.
func (sv *server) toIssuer(w http.ResponseWriter, r *http.Request) {
	var program people.Loopback
	if q := r.URL.Query(); q.Has("port") || q.Has("challenge") {
		var err error
		if program.Port, err = strconv.Atoi(q.Get("port")); err != nil {
			program.Port = -1 // which is refused, as other ports are
		}
		program.Challenge = q.Get("challenge")
	}
	to, kept, err := sv.s.People.BeginAtIssuer(r.Context(), program)
	if err != nil {
		sv.notAtIssuer(w, r, err)
		return
	}
	c := sv.cookie(issuerCookie, base64.RawURLEncoding.EncodeToString(kept), issuerPath, 10*time.Minute)
	c.SameSite = http.SameSiteLaxMode // it must come along when the issuer sends the browser back
	http.SetCookie(w, &c)
	w.Header().Set("Cache-Control", "no-store")
	http.Redirect(w, r, to, http.StatusFound)
}

// fromIssuer opens a session for whoever comes back from the issuer.
func (sv *server) fromIssuer(w http.ResponseWriter, r *http.Request) {
	done := sv.cookie(issuerCookie, "", issuerPath, 0)
	http.SetCookie(w, &done)
	w.Header().Set("Cache-Control", "no-store")
	kept := []byte{}
	if c, err := r.Cookie(issuerCookie); err == nil {
		kept, _ = base64.RawURLEncoding.DecodeString(c.Value) // what is not ours is refused when it is opened
	}
	q := r.URL.Query()
	arrival, err := sv.s.People.ReturnFromIssuer(r.Context(), kept, q.Get("state"), q.Get("code"),
		who(r.Context()).Address)
	switch {
	case arrival.To != "":
		http.Redirect(w, r, arrival.To, http.StatusSeeOther)
		return
	case err != nil:
		sv.notAtIssuer(w, r, err)
		return
	}
	for _, c := range sv.cookiesOf(arrival.Entry) {
		http.SetCookie(w, &c)
	}
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

// notAtIssuer tells a browser on the sign-in page what went wrong, in a word that the page knows, and everybody else
// by problem details.
func (sv *server) notAtIssuer(w http.ResponseWriter, r *http.Request, err error) {
	if !strings.Contains(r.Header.Get("Accept"), "text/html") {
		fail(w, r, err)
		return
	}
	http.Redirect(w, r, "/?issuer="+people.RefusalWord(err), http.StatusSeeOther)
}
