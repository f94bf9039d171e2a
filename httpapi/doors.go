package httpapi

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/service/ground"
)

// need is what whoever asks must be, or must have.
type need string

// The needs. Of a role it is the one in the project that the path names.
const (
	anyone        need = "anyone"  // no sign-in: it holds no data, or carries a proof of its own
	someone       need = "someone" // anybody who is signed in; the answer depends on who
	reader        need = need(access.Reader)
	builder       need = need(access.Builder)
	keeper        need = need(access.Keeper)
	administrator need = need(access.Administrator)
	runner        need = "runner"  // any runner
	holder        need = "holder"  // the runner that has, or had, the attempt that the path names
	fetcher       need = "fetcher" // a runner with a job at hand that may read the source that the path names
)

// doors says for every route what it needs. What is not in here is closed to everybody.
var doors = map[string]need{
	"GET /*":                                                                   anyone, // the console's files
	"GET /api/v1/health":                                                       anyone,
	"GET /api/v1/health/live":                                                  anyone,
	"GET /api/v1/health/ready":                                                 anyone,
	"GET /api/v1/sign-in":                                                      anyone,
	"POST /api/v1/session":                                                     anyone, // name and password
	"GET /api/v1/session/issuer":                                               anyone,
	"GET /api/v1/session/issuer/return":                                        anyone, // a code of the issuer
	"POST /api/v1/session/issuer/redeem":                                       anyone, // a code of ours
	"POST /api/v1/projects/{project}/pushes":                                   anyone, // a signature
	"POST /api/v1/projects/{project}/outlets/{name}/news":                      anyone, // a signature
	"GET /t/{link}":                                                            anyone, // the link
	"GET /t/{link}/stop":                                                       anyone,
	"POST /t/{link}/stop":                                                      anyone,
	"POST /t/{link}/resume":                                                    anyone,
	"POST /t/{link}/devices":                                                   anyone,
	"GET /t/{link}/code.png":                                                   anyone,
	"POST /t/{link}/{trial}/words":                                             anyone,
	"GET /t/{link}/{trial}/{artifact}/manifest.plist":                          anyone,
	"GET /t/{link}/{trial}/{artifact}/{file}":                                  anyone,
	"GET /api/v1/projects/{project}/testers":                                   keeper,
	"POST /api/v1/projects/{project}/testers":                                  keeper,
	"DELETE /api/v1/projects/{project}/testers/{id}":                           keeper,
	"POST /api/v1/projects/{project}/testers/{id}/link":                        keeper,
	"GET /api/v1/projects/{project}/test-devices":                              keeper,
	"GET /api/v1/projects/{project}/releases/{app}/{name}/tried":               reader,
	"GET /api/v1/projects/{project}/words/{id}/picture":                        reader,
	"GET /api/v1/openapi.json":                                                 someone,
	"GET /api/v1/openapi.yaml":                                                 someone,
	"GET /api/v1/openapi-3.0.json":                                             someone,
	"GET /api/v1/openapi-3.0.yaml":                                             someone,
	"GET /api/v1/session":                                                      someone,
	"DELETE /api/v1/session":                                                   someone,
	"PUT /api/v1/session/password":                                             someone, // and the old password
	"GET /api/v1/tokens":                                                       someone,
	"POST /api/v1/tokens":                                                      someone, // for a runner: an administrator
	"DELETE /api/v1/tokens/{id}":                                               someone, // one's own
	"GET /api/v1/projects":                                                     someone,
	"GET /api/v1/statement-key":                                                someone,
	"GET /api/v1/projects/{project}/packages/{id}/provenance":                  reader,
	"GET /api/v1/projects/{project}/packages/{id}/bill":                        reader,
	"GET /api/v1/gates":                                                        someone,
	"GET /api/v1/projects/{project}/gates/{id}":                                reader,
	"POST /api/v1/projects/{project}/gates/{id}/answer":                        reader, // whom the gate asks
	"GET /api/v1/queue":                                                        someone,
	"GET /api/v1/runners/{name}":                                               someone,
	"GET /api/v1/runners":                                                      someone,
	"GET /api/v1/stream":                                                       someone,
	"GET /api/v1/projects/{project}":                                           reader,
	"GET /api/v1/projects/{project}/runs":                                      reader,
	"GET /api/v1/projects/{project}/pushes":                                    reader,
	"POST /api/v1/projects/{project}/pushes/{id}/retry":                        keeper,
	"GET /api/v1/projects/{project}/runs/{number}":                             reader,
	"GET /api/v1/projects/{project}/runs/{number}/since":                       reader,
	"GET /api/v1/projects/{project}/runs/{number}/times":                       reader,
	"GET /api/v1/projects/{project}/times":                                     reader,
	"GET /api/v1/usage":                                                        administrator,
	"GET /api/v1/projects/{project}/usage":                                     reader,
	"PUT /api/v1/projects/{project}/budget":                                    keeper,
	"DELETE /api/v1/projects/{project}/budget":                                 keeper,
	"GET /api/v1/overview":                                                     someone,
	"GET /api/v1/projects/{project}/overview":                                  reader,
	"GET /api/v1/projects/{project}/webhooks":                                  keeper,
	"PUT /api/v1/projects/{project}/webhooks/{name}":                           keeper,
	"DELETE /api/v1/projects/{project}/webhooks/{name}":                        keeper,
	"POST /api/v1/projects/{project}/webhooks/{name}/try":                      keeper,
	"GET /api/v1/projects/{project}/webhooks/{name}/messages":                  keeper,
	"POST /api/v1/projects/{project}/webhooks/{name}/messages/{id}/again":      keeper,
	"POST /api/v1/projects/{project}/feed":                                     keeper,
	"GET /api/v1/wishes":                                                       someone,
	"PUT /api/v1/wishes":                                                       someone,
	"DELETE /api/v1/wishes":                                                    someone,
	"GET /metrics":                                                             administrator,
	"GET /f/{key}/badge.svg":                                                   anyone, // the key
	"GET /f/{key}/feed.atom":                                                   anyone,
	"GET /api/v1/projects/{project}/logs":                                      reader,
	"GET /api/v1/projects/{project}/failures":                                  reader,
	"GET /api/v1/causes":                                                       someone,
	"GET /api/v1/projects/{project}/tests":                                     reader,
	"GET /api/v1/projects/{project}/tests/{id}":                                reader,
	"PUT /api/v1/projects/{project}/tests/{id}/aside":                          builder,
	"DELETE /api/v1/projects/{project}/tests/{id}/aside":                       builder,
	"POST /api/v1/runner/attempts/{attempt}/cases":                             holder,
	"GET /api/v1/projects/{project}/times/step":                                reader,
	"GET /api/v1/projects/{project}/runs/{number}/jobs/{job}/log":              reader,
	"GET /api/v1/projects/{project}/runs/{number}/jobs/{job}/log/against":      reader,
	"GET /api/v1/projects/{project}/runs/{number}/jobs/{job}/log.txt":          reader,
	"GET /api/v1/projects/{project}/runs/{number}/artifacts/{id}":              reader,
	"GET /api/v1/projects/{project}/schedules":                                 reader,
	"GET /api/v1/projects/{project}/pipelines":                                 reader,
	"GET /api/v1/projects/{project}/knowledge":                                 reader,
	"GET /api/v1/projects/{project}/secrets":                                   reader, // never a value
	"GET /api/v1/projects/{project}/secrets/{name}/revisions":                  reader,
	"GET /api/v1/projects/{project}/roles":                                     reader,
	"POST /api/v1/projects/{project}/check":                                    reader,
	"POST /api/v1/projects/{project}/runs":                                     builder,
	"POST /api/v1/projects/{project}/runs/{number}/stop":                       builder,
	"POST /api/v1/projects/{project}/runs/{number}/again":                      builder,
	"PUT /api/v1/projects/{project}/bot":                                       keeper,
	"PUT /api/v1/projects/{project}/hold":                                      keeper,
	"PUT /api/v1/projects/{project}/limit":                                     keeper,
	"GET /api/v1/projects/{project}/lendings":                                  keeper,
	"PUT /api/v1/projects/{project}/lendings":                                  keeper,
	"GET /api/v1/projects/{project}/hook-key":                                  keeper,
	"GET /api/v1/projects/{project}/audit":                                     keeper,
	"PUT /api/v1/projects/{project}/secrets/{name}":                            keeper,
	"PUT /api/v1/projects/{project}/secrets/{name}/settings":                   keeper,
	"POST /api/v1/projects/{project}/secrets/{name}/restore":                   keeper,
	"DELETE /api/v1/projects/{project}/secrets/{name}":                         keeper,
	"GET /api/v1/projects/{project}/identities":                                reader, // never a key
	"GET /api/v1/projects/{project}/identities/{name}":                         reader,
	"GET /api/v1/projects/{project}/signatures":                                reader,
	"GET /api/v1/projects/{project}/app-certificates":                          reader,
	"PUT /api/v1/projects/{project}/app-certificates":                          keeper,
	"PUT /api/v1/projects/{project}/identities/{name}":                         keeper,
	"PUT /api/v1/projects/{project}/identities/{name}/settings":                keeper,
	"POST /api/v1/projects/{project}/identities/{name}/profiles":               keeper,
	"POST /api/v1/projects/{project}/identities/{name}/export":                 keeper,
	"DELETE /api/v1/projects/{project}/identities/{name}":                      keeper,
	"POST /api/v1/runner/attempts/{attempt}/identity":                          holder,
	"GET /api/v1/projects/{project}/packages":                                  reader,
	"GET /api/v1/projects/{project}/caches":                                    reader,
	"DELETE /api/v1/projects/{project}/caches/{id}":                            builder,
	"POST /api/v1/projects/{project}/caches/find":                              builder,
	"GET /api/v1/projects/{project}/caches/{id}/tree":                          builder,
	"GET /api/v1/projects/{project}/caches/{id}/packs/{pack}":                  builder,
	"GET /api/v1/projects/{project}/packages/{id}":                             reader,
	"POST /api/v1/runner/attempts/{attempt}/packages":                          holder,
	"POST /api/v1/runner/attempts/{attempt}/signatures":                        holder,
	"POST /api/v1/projects":                                                    administrator,
	"PUT /api/v1/projects/{project}/network":                                   administrator,
	"DELETE /api/v1/projects/{project}":                                        administrator,
	"GET /api/v1/kept":                                                         administrator,
	"GET /api/v1/kept/items":                                                   administrator,
	"GET /api/v1/projects/{project}/kept/items":                                reader,
	"PUT /api/v1/kept":                                                         administrator,
	"GET /api/v1/projects/{project}/kept":                                      reader,
	"PUT /api/v1/projects/{project}/kept":                                      keeper,
	"GET /api/v1/projects/{project}/ledger":                                    reader,
	"PUT /api/v1/projects/{project}/ledger/floor":                              keeper,
	"GET /api/v1/projects/{project}/ledger/all":                                reader,
	"GET /api/v1/projects/{project}/outlets":                                   reader,
	"PUT /api/v1/projects/{project}/outlets/{name}":                            keeper,
	"DELETE /api/v1/projects/{project}/outlets/{name}":                         keeper,
	"POST /api/v1/projects/{project}/outlets/{name}/try":                       keeper,
	"GET /api/v1/projects/{project}/publications":                              reader,
	"POST /api/v1/projects/{project}/releases/{app}/{name}/publications":       keeper,
	"POST /api/v1/projects/{project}/releases/{app}/{name}/publications/plan":  reader,
	"POST /api/v1/projects/{project}/publications/{id}/share":                  keeper,
	"POST /api/v1/projects/{project}/publications/{id}/halt":                   keeper,
	"POST /api/v1/projects/{project}/publications/{id}/withdraw":               keeper,
	"GET /api/v1/projects/{project}/releases":                                  reader,
	"POST /api/v1/projects/{project}/releases":                                 builder,
	"GET /api/v1/projects/{project}/releases/{app}/{name}":                     reader,
	"POST /api/v1/projects/{project}/releases/{app}/{name}/withdraw":           keeper,
	"GET /api/v1/projects/{project}/releases/{app}/{name}/notes":               reader,
	"PUT /api/v1/projects/{project}/releases/{app}/{name}/notes/{language}":    builder,
	"DELETE /api/v1/projects/{project}/releases/{app}/{name}/notes/{language}": builder,
	"GET /api/v1/letters":                                                      administrator,
	"PUT /api/v1/people/{name}/mail":                                           administrator,
	"PUT /api/v1/session/mail":                                                 someone,
	"GET /api/v1/people":                                                       administrator,
	"POST /api/v1/people":                                                      administrator,
	"PUT /api/v1/people/{name}":                                                administrator,
	"POST /api/v1/people/{name}/password":                                      administrator,
	"GET /api/v1/groups":                                                       administrator,
	"PUT /api/v1/groups/{name}":                                                administrator,
	"DELETE /api/v1/groups/{name}":                                             administrator,
	"GET /api/v1/roles":                                                        administrator,
	"PUT /api/v1/roles":                                                        administrator,
	"POST /api/v1/roles/take":                                                  administrator,
	"GET /api/v1/audit":                                                        administrator,
	"POST /api/v1/master/rotation":                                             administrator,
	"PUT /api/v1/runners/{name}/hold":                                          administrator,
	"DELETE /api/v1/runners/{name}":                                            administrator,
	"POST /api/v1/runner/claim":                                                runner,
	"POST /api/v1/runner/attempts/{attempt}/hand-back":                         holder,
	"POST /api/v1/runner/attempts/{attempt}/beat":                              holder,
	"POST /api/v1/runner/attempts/{attempt}/deal":                              holder,
	"POST /api/v1/runner/attempts/{attempt}/raise":                             holder,
	"POST /api/v1/runner/attempts/{attempt}/land":                              holder,
	"POST /api/v1/runner/attempts/{attempt}/prepared":                          holder,
	"POST /api/v1/runner/attempts/{attempt}/steps":                             holder,
	"GET /api/v1/stays":                                                        someone,
	"GET /api/v1/projects/{project}/runs/{number}/bisections":                  reader,
	"POST /api/v1/projects/{project}/runs/{number}/bisections":                 builder,
	"DELETE /api/v1/projects/{project}/runs/{number}/jobs/{job}/bisection":     builder,
	"PUT /api/v1/projects/{project}/runs/{number}/jobs/{job}/stay":             builder,
	"DELETE /api/v1/projects/{project}/runs/{number}/jobs/{job}/stay":          builder,
	"GET /api/v1/projects/{project}/runs/{number}/jobs/{job}/shell":            builder,
	"GET /api/v1/projects/{project}/shells":                                    reader,
	"GET /api/v1/projects/{project}/shells/{id}/recording":                     builder,
	"POST /api/v1/projects/{project}/shells/{id}/grant":                        keeper,
	"POST /api/v1/runner/attempts/{attempt}/stay":                              holder,
	"GET /api/v1/runner/attempts/{attempt}/shells/{id}":                        holder,
	"POST /api/v1/runner/attempts/{attempt}/finish":                            holder,
	"POST /api/v1/runner/attempts/{attempt}/log":                               holder,
	"POST /api/v1/runner/attempts/{attempt}/caches":                            holder,
	"POST /api/v1/runner/attempts/{attempt}/pieces":                            holder,
	"POST /api/v1/runner/attempts/{attempt}/packs":                             holder,
	"PUT /api/v1/runner/attempts/{attempt}/trees":                              holder,
	"GET /api/v1/runner/attempts/{attempt}/trees/{id}":                         holder,
	"GET /api/v1/runner/attempts/{attempt}/trees/{id}/packs/{pack}":            holder,
	"POST /api/v1/runner/attempts/{attempt}/trees/{id}/damaged":                holder,
	"PUT /api/v1/runner/attempts/{attempt}/artifacts":                          holder,
	"PUT /api/v1/runner/attempts/{attempt}/handovers/{name}":                   holder,
	"GET /api/v1/runner/attempts/{attempt}/handovers/{job}/{name}":             holder,
	"GET /git/{project}/large/{id}":                                            fetcher,
	"GET /git/{project}/pack/{commit}":                                         fetcher,
	"GET /git/{project}/info/refs":                                             fetcher,
	"POST /git/{project}/git-upload-pack":                                      fetcher,
}

// guard finds out who asks, by session cookie or bearer token (RFC 6750), and lets through whom the door of the route
// is for.
func (sv *server) guard(routes chi.Routes) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			address := sv.address(r)
			route := chi.NewRouteContext()
			path := r.URL.RawPath
			if path == "" {
				path = r.URL.Path
			}
			if !routes.Match(route, r.Method, path) {
				next.ServeHTTP(w, r) // which says that there is no such thing, or not by this method
				return
			}
			n, open := doors[r.Method+" "+route.RoutePattern()]
			if !open {
				writeProblem(w, huma.Error403Forbidden("nobody may do this"))
				return
			}
			ctx := ground.WithWho(r.Context(), ground.Who{Address: address, Kind: api.PersonToken})
			if n != anyone {
				found, err := sv.find(r, address)
				if err == nil {
					err = sv.admit(ctx, n, found, route)
				}
				if err != nil {
					fail(w, r, err)
					return
				}
				ctx = ground.WithWho(ctx, found)
			}
			requestOf(ctx).who = ground.WhoAsks(ctx)
			next.ServeHTTP(w, r.WithContext(ctx))
		})
	}
}

var (
	errNobody = huma.Error401Unauthorized("sign in first: in the console, by piston sign-in, or with a token in the " +
		"Authorization header")
	errPerson = huma.Error403Forbidden("this is for runners, and this is a person's token or session")
	errRunner = huma.Error403Forbidden("this is for people, and this is a runner's token")
)

// find tells who asks. Whoever fails too often has to wait.
func (sv *server) find(r *http.Request, address string) (found ground.Who, err error) {
	if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		found, err = sv.s.People.ByToken(r.Context(), token)
	} else if c, cookieErr := r.Cookie(cookieName); cookieErr == nil {
		found, err = sv.s.People.BySession(r.Context(), c.Value)
	} else {
		return found, errNobody
	}
	switch {
	case errors.Is(err, ground.ErrNotFound):
		// Whoever shares the address and has a good token is not kept waiting for those who try.
		if err := sv.strangers.allow(address); err != nil {
			return found, err
		}
		return found, errNobody
	case err != nil:
		return found, err
	}
	found.Address = address
	if found.Kind == api.PersonToken {
		err = sv.people.allow(strconv.FormatInt(int64(found.ID), 10))
	}
	return found, err
}

// admit decides whether a door is open to somebody. A project in which they have no role is not there for them.
func (sv *server) admit(ctx context.Context, n need, found ground.Who, route *chi.Context) error {
	isRunner := found.Kind == api.RunnerToken
	switch n {
	case runner, holder, fetcher:
		if !isRunner {
			return errPerson
		}
	default:
		if isRunner {
			return errRunner
		}
	}
	switch n {
	case someone, runner:
		return nil
	case holder:
		id, err := strconv.ParseInt(route.URLParam("attempt"), 10, 64)
		if err != nil {
			return huma.Error404NotFound("no attempt " + route.URLParam("attempt"))
		}
		// That it cannot be told is no refusal: a runner gives a job up on one.
		is, err := sv.s.Work.IsHolder(ctx, found, record.AttemptID(id))
		if err == nil && !is {
			err = huma.Error403Forbidden("the attempt is another runner's")
		}
		return err
	case fetcher:
		may, err := sv.s.Work.MayRead(ctx, found, route.URLParam("project"))
		if err == nil && !may {
			err = huma.Error403Forbidden("this runner has no job at hand that may read this source; a project lends its own " +
				"by piston project lend")
		}
		return err
	case administrator:
		if !found.Rules() {
			return huma.Error403Forbidden("only an administrator may do this")
		}
		return nil
	}
	project := route.URLParam("project")
	role, err := sv.s.RoleIn(ctx, found, project)
	switch {
	case err != nil:
		return err
	case role == access.Nobody:
		return huma.Error404NotFound("project " + project + ": not found")
	case !role.Covers(access.Role(n)):
		return huma.Error403Forbidden("this needs the role " + string(n) + " in " + project + ", and you are its " +
			string(role))
	}
	return nil
}

// address tells where a request comes from: what the nearest of our own proxies says (X-Forwarded-For), or the
// connection.
func (sv *server) address(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	hops := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for i := len(hops) - 1; i >= 0 && sv.isProxy(host); i-- {
		hop := strings.TrimSpace(hops[i])
		if _, err := netip.ParseAddr(hop); err != nil {
			break
		}
		host = hop
	}
	return host
}

func (sv *server) isProxy(host string) bool {
	a, err := netip.ParseAddr(host)
	if err != nil {
		return false
	}
	for _, p := range sv.Proxies {
		if p.Contains(a.Unmap()) {
			return true
		}
	}
	return false
}
