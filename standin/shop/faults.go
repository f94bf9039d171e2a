package shop

import (
	"io"
	"math/rand/v2"
	"net/http"
	"time"
)

// Faults are what can be switched on, to see how a client bears it: each so many times of a hundred.
type Faults struct {
	Errors int // answers 500
	Busy   int // answers 429, with Retry-After
	Cut    int // cuts the connection, in the midst of what is sent
	Late   int // answers late, by LateBy
	LateBy time.Duration
	Lie    string // the state of whatever is asked for
	Moved  string // sends on to there
	News   string // "twice", "forged" or "never": how changes are told
}

// Fault switches faults on, and off.
func (s *Shop) Fault(f Faults) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.faults = f
}

// failing fails as it is told to.
func (s *Shop) failing(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		f := s.faults
		s.mu.Unlock()
		of := func(n int) bool { return rand.IntN(100) < n }
		if f.Moved != "" {
			http.Redirect(w, r, f.Moved, http.StatusTemporaryRedirect)
			return
		}
		if of(f.Late) {
			select {
			case <-time.After(f.LateBy):
			case <-r.Context().Done():
				return
			}
		}
		switch {
		case of(f.Errors):
			if of(50) { // it was done, and the answer is lost
				next.ServeHTTP(unheard{http.Header{}}, r)
			}
			http.Error(w, "something has gone wrong", http.StatusInternalServerError)
			return
		case of(f.Busy):
			w.Header().Set("Retry-After", "1")
			http.Error(w, "too much at once", http.StatusTooManyRequests)
			return
		case of(f.Cut):
			r.Body = &cutting{r.Body, rand.Int64N(8 << 20)}
			if of(50) {
				next.ServeHTTP(w, r)
			}
			panic(http.ErrAbortHandler)
		}
		next.ServeHTTP(w, r)
	})
}

// unheard is an answer that nobody hears.
type unheard struct{ header http.Header }

// Header implements http.ResponseWriter.
func (u unheard) Header() http.Header { return u.header }

// Write implements http.ResponseWriter.
func (u unheard) Write(b []byte) (int, error) { return len(b), nil }

// WriteHeader implements http.ResponseWriter.
func (u unheard) WriteHeader(int) {}

// cutting is what is sent until the connection is cut.
type cutting struct {
	io.ReadCloser
	left int64
}

// Read implements io.Reader.
func (c *cutting) Read(b []byte) (int, error) {
	if c.left <= 0 {
		return 0, io.ErrUnexpectedEOF
	}
	n, err := c.ReadCloser.Read(b[:min(int64(len(b)), c.left)])
	c.left -= int64(n)
	return n, err
}

// newsFaults are how changes can be told wrongly.
var newsFaults = []string{"twice", "forged", "never"}
