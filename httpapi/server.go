// Package httpapi is the HTTP interface of the service: JSON operations described by OpenAPI 3.1, a stream of
// server-sent events, downloads, Git's own protocol for runners, and the console's files.
package httpapi

import (
	"context"
	"errors"
	"net/http"
	"net/netip"
	"reflect"
	"syscall"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"gentlepiston.example/piston/api/schematext"
	"gentlepiston.example/piston/core/action"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/service"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/intake"
	"gentlepiston.example/piston/service/people"
	"gentlepiston.example/piston/service/publish"
)

// Version is the version of the interface.
const Version = "1"

// Prefix is where the operations are.
const Prefix = "/api/v1"

// Options say how the interface is reached.
type Options struct {
	Secure  bool           // by TLS, here or at a proxy: cookies are for that only
	Proxies []netip.Prefix // whose word about where a request is from is taken
}

// server is what the handlers share.
type server struct {
	Options
	s         *service.Service
	strangers *rates // failed tokens and sessions, by address
	people    *rates // requests, by person
}

func newServer(s *service.Service, o Options) *server {
	return &server{Options: o, s: s, strangers: newRates(1, 60), people: newRates(100, 1000)}
}

// Handler serves the whole interface.
func Handler(s *service.Service, o Options) http.Handler {
	h, _ := build(newServer(s, o))
	return h
}

// Document is the OpenAPI 3.1 document of the interface, in JSON.
func Document() ([]byte, error) {
	_, a := build(newServer(nil, Options{}))
	return a.OpenAPI().MarshalJSON()
}

func build(sv *server) (chi.Router, huma.API) {
	huma.DefaultArrayNullable = false // lists are [] when empty
	r := chi.NewRouter()
	r.Use(numbered, middleware.Recoverer, sv.securityHeaders, onlyText, http.NewCrossOriginProtection().Handler,
		sv.guard(r))
	config := huma.DefaultConfig("Gentle Piston", Version)
	config.OpenAPIPath = Prefix + "/openapi"
	config.DocsPath, config.SchemasPath = "", ""
	config.Formats = map[string]huma.Format{"application/json": jsonFormat, "json": jsonFormat}
	config.CreateHooks = nil // no $schema links in answers
	config.Info.Description = "Build pipelines for mobile apps. Errors are problem details (RFC 9457)."
	config.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schemaName)
	config.Servers = []*huma.Server{{URL: "/"}}
	a := humachi.New(r, config)
	sv.health(a)
	sv.sessions(a, r)
	sv.projects(a)
	sv.pushes(a, r)
	sv.gates(a)
	sv.releases(a)
	publications(sv, a, r)
	testers(sv, a, r)
	history(sv, a)
	notices(sv, a, r)
	metrics(sv, r)
	letters(sv, a)
	sv.runs(a, r)
	sv.queue(a)
	sv.pipelines(a)
	sv.secrets(a)
	sv.identities(a)
	sv.packages(a)
	sv.caches(a, r)
	sv.peopleAndRoles(a)
	sv.audit(a)
	sv.kept(a)
	sv.versions(a)
	sv.runners(a, r)
	stays(sv, a, r)
	bisections(sv, a)
	sv.stream(a, r)
	sv.git(r)
	schematext.Describe(config.Components.Schemas, texts())
	console(r)
	return r, a
}

// schemaName sets the types of a pipeline file apart from those of the interface: there is a Job in both.
func schemaName(t reflect.Type, hint string) string {
	name := huma.DefaultSchemaNamer(t, hint)
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	switch t.PkgPath() {
	case reflect.TypeFor[definition.Job]().PkgPath(), reflect.TypeFor[action.Note]().PkgPath():
		if t != reflect.TypeFor[definition.Finding]() {
			return "Defined" + name
		}
	}
	return name
}

// securityHeaders: everything comes from this server, nothing may frame it, and types are as declared. Styles are made
// while the console runs, scripts never.
func (sv *server) securityHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy",
			"default-src 'none'; script-src 'self'; connect-src 'self'; font-src 'self'; style-src 'self' 'unsafe-inline'; "+
				"img-src 'self' data:; manifest-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		if sv.Secure {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		next.ServeHTTP(w, r)
	})
}

func who(ctx context.Context) ground.Who { return ground.WhoAsks(ctx) }

// problem turns an error of the service into problem details with the fitting status.
func problem(ctx context.Context, err error) error {
	var status huma.StatusError
	var wait people.TooMany
	switch {
	case err == nil:
		return nil
	case errors.As(err, &wait):
		return huma.ErrorWithHeaders(huma.Error429TooManyRequests(err.Error()),
			http.Header{"Retry-After": {retryAfter(wait.Wait)}})
	case errors.As(err, &status):
		return status
	case errors.Is(err, ground.ErrNotFound):
		return huma.Error404NotFound(err.Error())
	case errors.Is(err, ground.ErrExists):
		return huma.Error409Conflict(err.Error())
	case errors.Is(err, ground.ErrInvalid):
		return huma.Error422UnprocessableEntity(err.Error())
	case errors.Is(err, ground.ErrSignIn), errors.Is(err, intake.ErrSignature), errors.Is(err, publish.ErrNews),
		errors.Is(err, people.ErrExpired),
		errors.Is(err, people.ErrIssuer):
		return huma.Error401Unauthorized(err.Error())
	case errors.Is(err, ground.ErrForbidden):
		return huma.Error403Forbidden(err.Error())
	case errors.Is(err, ground.ErrGone):
		return huma.Error410Gone(err.Error())
	case errors.Is(err, people.ErrIssuerAway):
		return huma.Error503ServiceUnavailable(err.Error())
	case ground.Changed(err):
		return huma.Error409Conflict("somebody else changed it in the same moment; look again")
	case errors.Is(err, context.Canceled), ctx.Err() != nil: // whoever asked has gone, or the service is about to
		return huma.Error503ServiceUnavailable("it was given up before it was done; try again")
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		tell(ctx, err)
		return huma.NewError(http.StatusInsufficientStorage, "the service's disk is full: its owner can make room")
	case ground.Away(err) != "":
		return huma.Error503ServiceUnavailable(ground.Away(err))
	}
	tell(ctx, err)
	return huma.Error500InternalServerError("something went wrong on the server; its log says what, under " +
		requestOf(ctx).id)
}

func writeProblem(w http.ResponseWriter, err error) {
	status := http.StatusInternalServerError
	var se huma.StatusError
	if errors.As(err, &se) {
		status = se.GetStatus()
	}
	var headed huma.HeadersError
	if errors.As(err, &headed) {
		for name, values := range headed.GetHeaders() {
			w.Header()[name] = values
		}
	}
	if status == http.StatusServiceUnavailable {
		w.Header().Set("Retry-After", "1")
	}
	writeJSON(w, status, "application/problem+json", err)
}

// body is an answer whose body is JSON of a type.
type body[T any] struct{ Body T }

// operation registers a JSON operation; do's errors become problem details.
func operation[I, O any](a huma.API, method, path, id, summary string, do func(context.Context, *I) (O, error)) {
	huma.Register(a, huma.Operation{Method: method, Path: Prefix + path, OperationID: id, Summary: summary,
		MaxBodyBytes: 4 << 20, BodyReadTimeout: time.Minute},
		func(ctx context.Context, in *I) (*body[O], error) {
			out, err := do(ctx, in)
			if err != nil {
				return nil, problem(ctx, err)
			}
			return &body[O]{out}, nil
		})
}

// command registers an operation that answers with nothing (204).
func command[I any](a huma.API, method, path, id, summary string, do func(context.Context, *I) error) {
	huma.Register(a, huma.Operation{Method: method, Path: Prefix + path, OperationID: id, Summary: summary,
		MaxBodyBytes: 8 << 20, BodyReadTimeout: time.Minute, DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, in *I) (*struct{}, error) { return nil, problem(ctx, do(ctx, in)) })
}

type none struct{}
