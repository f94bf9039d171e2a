/** A service for tests: it answers by method and path, and what it was asked is gathered. */
export const service = { asked: [] as unknown[], answers: {} as Record<string, unknown> };

export function serves(answers: Record<string, unknown>) {
  service.asked = [];
  service.answers = answers;
  return service.asked;
}

const does = (method: string) => async (path: string, init?: unknown) => {
  service.asked.push(init === undefined ? [method, path] : [method, path, init]);
  const data = service.answers[`${method} ${path}`];
  return { data, response: new Response(null, { status: data === undefined ? 204 : 200 }) };
};

/** The client of the console, but that it asks this service. */
export const overServed = <Client extends object>(client: Client) => ({
  ...client,
  api: { GET: does('GET'), PUT: does('PUT'), POST: does('POST'), DELETE: does('DELETE') },
});
