package httpapi

// Who comes to a door: nobody, by an expired token, somebody without a role in the project, its reader, builder and
// keeper, a keeper's token that may only read, an administrator, an administrator's token that is bound to be a
// keeper, a runner that has the attempt, and one that has not.
var visitors = []string{"nobody", "expired", "stranger", "reader", "builder", "keeper", "readonly", "admin", "bounded", "holder", "runner"}

// What comes of it: in, or the status by which the door is shut.
const in = 0

// outcomes are in the order of visitors.
type outcomes [11]int

// The kinds of door.
var (
	forAnyone  = outcomes{in, in, in, in, in, in, in, in, in, in, in}
	forSomeone = outcomes{401, 401, in, in, in, in, in, in, in, 403, 403}
	forReaders = outcomes{401, 401, 404, in, in, in, in, in, in, 403, 403}
	forBuilder = outcomes{401, 401, 404, 403, in, in, 403, in, in, 403, 403}
	forKeepers = outcomes{401, 401, 404, 403, 403, in, 403, in, in, 403, 403}
	forAdmins  = outcomes{401, 401, 403, 403, 403, 403, 403, in, 403, 403, 403}
	forRunners = outcomes{401, 401, 403, 403, 403, 403, 403, 403, 403, in, in}
	forHolders = outcomes{401, 401, 403, 403, 403, 403, 403, 403, 403, in, 403}
)

// routes lists every route there is and what must come of each visitor. A route that is not in here fails the test.
var routes = map[string]outcomes{
	"GET /*":                                              forAnyone,
	"GET /api/v1/health":                                  forAnyone,
	"GET /api/v1/health/live":                             forAnyone,
	"GET /api/v1/health/ready":                            forAnyone,
	"GET /api/v1/sign-in":                                 forAnyone,
	"POST /api/v1/session":                                forAnyone,
	"GET /api/v1/session/issuer":                          forAnyone,
	"GET /api/v1/session/issuer/return":                   forAnyone,
	"POST /api/v1/session/issuer/redeem":                  forAnyone,
	"POST /api/v1/projects/{project}/pushes":              forAnyone,
	"POST /api/v1/projects/{project}/outlets/{name}/news": forAnyone,

	"GET /api/v1/openapi.json":     forSomeone,
	"GET /api/v1/openapi.yaml":     forSomeone,
	"GET /api/v1/openapi-3.0.json": forSomeone,
	"GET /api/v1/openapi-3.0.yaml": forSomeone,
	"GET /api/v1/session":          forSomeone,
	"DELETE /api/v1/session":       forSomeone,
	"PUT /api/v1/session/password": forSomeone,
	"GET /api/v1/tokens":           forSomeone,
	"POST /api/v1/tokens":          forSomeone,
	"DELETE /api/v1/tokens/{id}":   forSomeone,
	"GET /api/v1/projects":         forSomeone,
	"GET /api/v1/queue":            forSomeone,
	"GET /api/v1/gates":            forSomeone,
	"GET /api/v1/statement-key":    forSomeone,
	"GET /api/v1/runners":          forSomeone,
	"GET /api/v1/stream":           forSomeone,

	"GET /api/v1/projects/{project}":                                  forReaders,
	"GET /api/v1/projects/{project}/runs":                             forReaders,
	"GET /api/v1/projects/{project}/pushes":                           forReaders,
	"GET /api/v1/projects/{project}/gates/{id}":                       forReaders,
	"POST /api/v1/projects/{project}/gates/{id}/answer":               forReaders,
	"GET /api/v1/projects/{project}/runs/{number}":                    forReaders,
	"GET /api/v1/projects/{project}/runs/{number}/since":              forReaders,
	"GET /api/v1/projects/{project}/runs/{number}/jobs/{job}/log":     forReaders,
	"GET /api/v1/projects/{project}/runs/{number}/jobs/{job}/log.txt": forReaders,
	"GET /api/v1/projects/{project}/runs/{number}/artifacts/{id}":     forReaders,
	"GET /api/v1/projects/{project}/schedules":                        forReaders,
	"GET /api/v1/projects/{project}/pipelines":                        forReaders,
	"GET /api/v1/projects/{project}/knowledge":                        forReaders,
	"GET /api/v1/projects/{project}/secrets":                          forReaders,
	"GET /api/v1/projects/{project}/secrets/{name}/revisions":         forReaders,
	"GET /api/v1/projects/{project}/identities":                       forReaders,
	"GET /api/v1/projects/{project}/identities/{name}":                forReaders,
	"GET /api/v1/projects/{project}/packages":                         forReaders,
	"GET /api/v1/projects/{project}/caches":                           forReaders,
	"GET /api/v1/projects/{project}/packages/{id}/provenance":         forReaders,
	"GET /api/v1/projects/{project}/packages/{id}/bill":               forReaders,
	"GET /api/v1/projects/{project}/packages/{id}":                    forReaders,
	"GET /api/v1/projects/{project}/signatures":                       forReaders,
	"GET /api/v1/projects/{project}/app-certificates":                 forReaders,
	"GET /api/v1/projects/{project}/roles":                            forReaders,
	"GET /api/v1/projects/{project}/kept":                             forReaders,
	"POST /api/v1/projects/{project}/check":                           forReaders,

	"POST /api/v1/projects/{project}/runs":                forBuilder,
	"POST /api/v1/projects/{project}/runs/{number}/stop":  forBuilder,
	"POST /api/v1/projects/{project}/runs/{number}/again": forBuilder,

	"PUT /api/v1/projects/{project}/bot":                                       forKeepers,
	"PUT /api/v1/projects/{project}/hold":                                      forKeepers,
	"POST /api/v1/projects/{project}/pushes/{id}/retry":                        forKeepers,
	"PUT /api/v1/projects/{project}/limit":                                     forKeepers,
	"PUT /api/v1/projects/{project}/kept":                                      forKeepers,
	"GET /api/v1/projects/{project}/ledger":                                    forReaders,
	"PUT /api/v1/projects/{project}/ledger/floor":                              forKeepers,
	"GET /api/v1/projects/{project}/ledger/all":                                forReaders,
	"GET /api/v1/projects/{project}/outlets":                                   forReaders,
	"PUT /api/v1/projects/{project}/outlets/{name}":                            forKeepers,
	"DELETE /api/v1/projects/{project}/outlets/{name}":                         forKeepers,
	"POST /api/v1/projects/{project}/outlets/{name}/try":                       forKeepers,
	"GET /api/v1/projects/{project}/publications":                              forReaders,
	"POST /api/v1/projects/{project}/releases/{app}/{name}/publications":       forKeepers,
	"POST /api/v1/projects/{project}/releases/{app}/{name}/publications/plan":  forReaders,
	"POST /api/v1/projects/{project}/publications/{id}/share":                  forKeepers,
	"POST /api/v1/projects/{project}/publications/{id}/halt":                   forKeepers,
	"POST /api/v1/projects/{project}/publications/{id}/withdraw":               forKeepers,
	"GET /api/v1/projects/{project}/releases":                                  forReaders,
	"POST /api/v1/projects/{project}/releases":                                 forBuilder,
	"GET /api/v1/projects/{project}/releases/{app}/{name}":                     forReaders,
	"POST /api/v1/projects/{project}/releases/{app}/{name}/withdraw":           forKeepers,
	"GET /api/v1/projects/{project}/releases/{app}/{name}/notes":               forReaders,
	"PUT /api/v1/projects/{project}/releases/{app}/{name}/notes/{language}":    forBuilder,
	"DELETE /api/v1/projects/{project}/releases/{app}/{name}/notes/{language}": forBuilder,
	"DELETE /api/v1/projects/{project}/caches/{id}":                            forBuilder,
	"POST /api/v1/projects/{project}/caches/find":                              forBuilder,
	"GET /api/v1/projects/{project}/caches/{id}/tree":                          forBuilder,
	"GET /api/v1/projects/{project}/caches/{id}/packs/{pack}":                  forBuilder,
	"GET /api/v1/projects/{project}/lendings":                                  forKeepers,
	"PUT /api/v1/projects/{project}/lendings":                                  forKeepers,
	"GET /api/v1/projects/{project}/hook-key":                                  forKeepers,
	"GET /api/v1/projects/{project}/audit":                                     forKeepers,
	"PUT /api/v1/projects/{project}/identities/{name}":                         forKeepers,
	"PUT /api/v1/projects/{project}/identities/{name}/settings":                forKeepers,
	"POST /api/v1/projects/{project}/identities/{name}/profiles":               forKeepers,
	"POST /api/v1/projects/{project}/identities/{name}/export":                 forKeepers,
	"DELETE /api/v1/projects/{project}/identities/{name}":                      forKeepers,
	"PUT /api/v1/projects/{project}/app-certificates":                          forKeepers,
	"PUT /api/v1/projects/{project}/secrets/{name}":                            forKeepers,
	"PUT /api/v1/projects/{project}/secrets/{name}/settings":                   forKeepers,
	"POST /api/v1/projects/{project}/secrets/{name}/restore":                   forKeepers,
	"DELETE /api/v1/projects/{project}/secrets/{name}":                         forKeepers,

	"POST /api/v1/projects":                     forAdmins,
	"PUT /api/v1/projects/{project}/network":    forAdmins,
	"DELETE /api/v1/projects/{project}":         forAdmins,
	"GET /api/v1/kept":                          forAdmins,
	"GET /api/v1/kept/items":                    forAdmins,
	"GET /api/v1/projects/{project}/kept/items": forReaders,
	"PUT /api/v1/kept":                          forAdmins,
	"GET /api/v1/letters":                       forAdmins,
	"PUT /api/v1/people/{name}/mail":            forAdmins,
	"PUT /api/v1/session/mail":                  forSomeone,
	"GET /api/v1/people":                        forAdmins,
	"POST /api/v1/people":                       forAdmins,
	"PUT /api/v1/people/{name}":                 forAdmins,
	"POST /api/v1/people/{name}/password":       forAdmins,
	"GET /api/v1/groups":                        forAdmins,
	"PUT /api/v1/groups/{name}":                 forAdmins,
	"DELETE /api/v1/groups/{name}":              forAdmins,
	"GET /api/v1/roles":                         forAdmins,
	"PUT /api/v1/roles":                         forAdmins,
	"POST /api/v1/roles/take":                   forAdmins,
	"GET /api/v1/audit":                         forAdmins,
	"POST /api/v1/master/rotation":              forAdmins,

	"PUT /api/v1/runners/{name}/hold":                               forAdmins,
	"DELETE /api/v1/runners/{name}":                                 forAdmins,
	"POST /api/v1/runner/claim":                                     forRunners,
	"POST /api/v1/runner/attempts/{attempt}/hand-back":              forHolders,
	"POST /api/v1/runner/attempts/{attempt}/beat":                   forHolders,
	"POST /api/v1/runner/attempts/{attempt}/raise":                  forHolders,
	"POST /api/v1/runner/attempts/{attempt}/identity":               forHolders,
	"POST /api/v1/runner/attempts/{attempt}/packages":               forHolders,
	"POST /api/v1/runner/attempts/{attempt}/signatures":             forHolders,
	"POST /api/v1/runner/attempts/{attempt}/land":                   forHolders,
	"POST /api/v1/runner/attempts/{attempt}/prepared":               forHolders,
	"POST /api/v1/runner/attempts/{attempt}/steps":                  forHolders,
	"POST /api/v1/runner/attempts/{attempt}/finish":                 forHolders,
	"POST /api/v1/runner/attempts/{attempt}/log":                    forHolders,
	"POST /api/v1/runner/attempts/{attempt}/caches":                 forHolders,
	"POST /api/v1/runner/attempts/{attempt}/pieces":                 forHolders,
	"POST /api/v1/runner/attempts/{attempt}/packs":                  forHolders,
	"PUT /api/v1/runner/attempts/{attempt}/trees":                   forHolders,
	"GET /api/v1/runner/attempts/{attempt}/trees/{id}":              forHolders,
	"GET /api/v1/runner/attempts/{attempt}/trees/{id}/packs/{pack}": forHolders,
	"POST /api/v1/runner/attempts/{attempt}/trees/{id}/damaged":     forHolders,
	"PUT /api/v1/runner/attempts/{attempt}/artifacts":               forHolders,
	"PUT /api/v1/runner/attempts/{attempt}/handovers/{name}":        forHolders,
	"GET /api/v1/runner/attempts/{attempt}/handovers/{job}/{name}":  forHolders,
	"GET /git/{project}/large/{id}":                                 forHolders,
	"GET /git/{project}/pack/{commit}":                              forHolders,
	"GET /git/{project}/info/refs":                                  forHolders,
	"POST /git/{project}/git-upload-pack":                           forHolders,
}

// removal of the project the others are asked of is asked last, too.
const removal = "DELETE /api/v1/projects/{project}"
