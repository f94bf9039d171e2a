package httpapi

import (
	"context"
	"crypto/rand"
	"log/slog"
	"net/http"
	"time"

	"gentlepiston.example/piston/service/ground"
)

// requestHeader carries a request's id in its answer, and in the log's lines about it.
const requestHeader = "X-Request-Id"

// request is what the log may say of one.
type request struct {
	id, method, path string
	who              ground.Who // once the guard has found it out
}

type requestKey struct{}

// requestOf is the request that a context belongs to.
func requestOf(ctx context.Context) *request {
	if r, ok := ctx.Value(requestKey{}).(*request); ok {
		return r
	}
	return &request{}
}

// numbered gives each request an id, and each answer that of its request; what is asked is logged when that is wanted.
// The query is never logged: it may hold what is nobody's business.
func numbered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		of := &request{id: rand.Text()[:16], method: r.Method, path: r.URL.Path}
		w.Header().Set(requestHeader, of.id)
		ctx := context.WithValue(r.Context(), requestKey{}, of)
		if !slog.Default().Enabled(ctx, slog.LevelDebug) {
			next.ServeHTTP(w, r.WithContext(ctx))
			return
		}
		began := time.Now()
		counted := &countedWriter{ResponseWriter: w, status: http.StatusOK}
		defer func() {
			slog.Debug("request",
				append(of.attributes(), "status", counted.status, "bytes", counted.bytes, "took",
					time.Since(began).Round(time.Microsecond))...)
		}()
		next.ServeHTTP(counted, r.WithContext(ctx))
	})
}

func (r *request) attributes() []any {
	return []any{"request", r.id, "method", r.method, "path", r.path, "person", r.who.Name, "from", r.who.Address}
}

// tell logs a fault of ours with the request that met it.
func tell(ctx context.Context, err error) {
	slog.Error("a request failed", append(requestOf(ctx).attributes(), "error", err)...)
}

// fail answers with the problem that an error is.
func fail(w http.ResponseWriter, r *http.Request, err error) {
	writeProblem(w, problem(r.Context(), err))
}

// countedWriter knows what was answered.
type countedWriter struct {
	http.ResponseWriter
	status int
	bytes  int64
}

// WriteHeader implements http.ResponseWriter.
func (c *countedWriter) WriteHeader(status int) {
	c.status = status
	c.ResponseWriter.WriteHeader(status)
}

// Write implements http.ResponseWriter.
func (c *countedWriter) Write(p []byte) (int, error) {
	n, err := c.ResponseWriter.Write(p)
	c.bytes += int64(n)
	return n, err
}

// Unwrap lets http.ResponseController reach what is below.
func (c *countedWriter) Unwrap() http.ResponseWriter { return c.ResponseWriter }
