package httpapi

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/service/people"
)

// document is what the fuzzer knows of the interface: the OpenAPI document, and nothing else.
type openAPI struct {
	Paths      map[string]map[string]*described `json:"paths"`
	Components struct {
		Schemas map[string]*schema `json:"schemas"`
	} `json:"components"`
}

type described struct {
	OperationID string `json:"operationId"`
	Parameters  []struct {
		Name, In string
		Schema   *schema
	} `json:"parameters"`
	RequestBody *struct {
		Content map[string]struct {
			Schema *schema `json:"schema"`
		} `json:"content"`
	} `json:"requestBody"`
}

type schema struct {
	Ref        string             `json:"$ref"`
	Type       any                `json:"type"`
	Enum       []any              `json:"enum"`
	Properties map[string]*schema `json:"properties"`
	Items      *schema            `json:"items"`
	OneOf      []*schema          `json:"oneOf"`
}

// fuzzer makes requests that are nearly right, and wrong in one or two places.
type fuzzer struct {
	*rand.Rand
	doc openAPI
	y   *yard
}

// texts are what no honest caller would write.
var hostileTexts = []string{"", " ", "\x00", "a\x00b", "\xff\xfe", "\xc3\x28", "\xed\xa0\x80", "..", "../../etc/passwd", "%00", "%2e%2e%2f", "a/b", "'; DROP TABLE runs; --",
	`\u0000`, "${HOME}", "$(id)", "<script>", "\r\nX-Evil: 1", "\u202e", "🙂", strings.Repeat("a", 5000), strings.Repeat("é", 300), strings.Repeat("{a,", 200), "nul", "-1",
	"0", "99999999999999999999", "1e400", "NaN", "0x10", "main^{tree}", "@{-1}", "--help", "*", "%", "_", "true", "null", "[]", "2026-02-30T25:61:00Z"}

var hostileValues = []string{"null", "true", "-1", "0", "1e400", "99999999999999999999", "-9223372036854775809", "0.1", "[]", "{}", `""`, `"\u0000"`, `"\ud800"`, "\"\xff\"",
	`[[[[[[[[]]]]]]]]`, `"` + strings.Repeat("x", 20_000) + `"`, `[` + strings.Repeat("1,", 5000) + `1]`, `{"a":` + strings.Repeat(`{"a":`, 30) + "1" + strings.Repeat("}", 31)}

var hostileBodies = []string{"", "null", "[]", "{", `"x"`, "\x00", "\xff", strings.Repeat("[", 100_000), strings.Repeat(`{"a":`, 50_000), `{"a":1,"a":2}`,
	"{" + strings.Repeat(`"k":1,`, 20_000) + `"k":1}`, "\ufeff{}", strings.Repeat(" ", 100_000) + "{}"}

func (f *fuzzer) resolve(s *schema) *schema {
	for s != nil && s.Ref != "" {
		s = f.doc.Components.Schemas[strings.TrimPrefix(s.Ref, "#/components/schemas/")]
	}
	if s != nil && len(s.OneOf) > 0 {
		return f.resolve(s.OneOf[f.IntN(len(s.OneOf))])
	}
	return s
}

// good is a value that fits a schema.
func (f *fuzzer) good(name string, s *schema, depth int) any {
	s = f.resolve(s)
	switch {
	case s == nil || depth > 6:
		return nil
	case len(s.Enum) > 0:
		return s.Enum[f.IntN(len(s.Enum))]
	}
	kind, _ := s.Type.(string)
	switch kind {
	case "integer", "number":
		return f.IntN(3)
	case "boolean":
		return f.IntN(2) == 0
	case "array":
		return []any{f.good(name, s.Items, depth+1)}
	case "object":
		m := map[string]any{}
		for key, of := range s.Properties {
			if f.IntN(5) > 0 {
				m[key] = f.good(key, of, depth+1)
			}
		}
		return m
	}
	if known := map[string]string{"name": "n" + strconv.Itoa(f.IntN(5)), "project": "tides", "remote": "/nowhere", "person": "reader", "ref": "main", "commit": strings.Repeat("a", 40),
		"text": "[[job.a.step]]\nscript = \"true\"\n", "value": "c2VjcmV0", "pipeline": "trunk", "timestamp": "2026-01-01T00:00:00Z"}[name]; known != "" {
		return known
	}
	return "x"
}

// spoil writes a value as JSON with one thing in it replaced.
func (f *fuzzer) spoil(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		return "{}"
	}
	if f.IntN(4) == 0 {
		return string(text)
	}
	if f.IntN(6) == 0 {
		return hostileBodies[f.IntN(len(hostileBodies))]
	}
	const mark = `"\u2603"`
	replaced, _ := json.Marshal(f.replace(v, "\u2603"))
	return strings.Replace(strings.ReplaceAll(string(replaced), "\"\u2603\"", mark), mark, hostileValues[f.IntN(len(hostileValues))], 1)
}

func (f *fuzzer) replace(v any, with string) any {
	switch v := v.(type) {
	case map[string]any:
		if keys := slices.Sorted(maps.Keys(v)); len(keys) > 0 && f.IntN(4) > 0 {
			m := maps.Clone(v)
			key := keys[f.IntN(len(keys))]
			m[key] = f.replace(m[key], with)
			return m
		}
	case []any:
		if len(v) > 0 && f.IntN(3) > 0 {
			return []any{f.replace(v[0], with)}
		}
	}
	return with
}

func (f *fuzzer) param(name string, good string) string {
	if f.IntN(3) > 0 {
		return good
	}
	return hostileTexts[f.IntN(len(hostileTexts))]
}

// request makes one, of any operation and visitor.
func (f *fuzzer) request() (visitor, method, target, body string) {
	path := pick(f, slices.Sorted(maps.Keys(f.doc.Paths)))
	methods := f.doc.Paths[path]
	method = pick(f, slices.Sorted(maps.Keys(methods)))
	op := methods[method]
	query := url.Values{}
	for _, p := range op.Parameters {
		good := fmt.Sprint(f.good(p.Name, p.Schema, 0))
		switch p.In {
		case "path":
			values := map[string]string{"project": "tides", "number": "1", "job": "a", "attempt": fmt.Sprint(f.y.attempt), "name": "reader"}
			if known, is := values[p.Name]; is {
				good = known
			}
			path = strings.ReplaceAll(path, "{"+p.Name+"}", url.PathEscape(f.param(p.Name, good)))
		case "query":
			if f.IntN(2) == 0 {
				query.Add(p.Name, f.param(p.Name, good))
			}
		}
	}
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	if f.IntN(30) == 0 {
		path += "?%zz=%"
	}
	if op.RequestBody != nil {
		for _, c := range op.RequestBody.Content {
			body = f.spoil(f.good("", c.Schema, 0))
		}
	}
	return visitors[f.IntN(len(visitors))], strings.ToUpper(method), path, body
}

func pick[T any](f *fuzzer, list []T) T { return list[f.IntN(len(list))] }

// fuzzCount is how many requests are made: few with all tests, many in a soak.
func fuzzCount(t *testing.T) int {
	text := os.Getenv("PISTON_FUZZ_REQUESTS")
	if text == "" {
		return 2000
	}
	n, err := strconv.Atoi(text)
	require.NoError(t, err)
	return n
}

// heldOpen are operations that answer late by design.
var heldOpen = []string{"stream", "claim", "beat"}

func TestNoRequestIsTheServersFault(t *testing.T) {
	text, err := Document()
	require.NoError(t, err)
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	f := &fuzzer{Rand: rand.New(rand.NewPCG(seed, 0)), y: newYard(t, people.Issuer{})}
	require.NoError(t, json.Unmarshal(text, &f.doc))
	f.y.server.people, f.y.server.strangers = newRates(1e6, 1e6), newRates(1e6, 1e6)
	delete(f.doc.Paths["/api/v1/projects/{project}"], "delete") // it would leave nothing to ask of
	delete(f.doc.Paths["/api/v1/session"], "delete")            // it would end the tokens by which all others come
	answers := map[int]int{}
	seen := map[string]bool{}
	for range fuzzCount(t) {
		visitor, method, target, body := f.request()
		patience := 20 * time.Second
		for _, part := range heldOpen {
			if strings.Contains(target, "/"+part) {
				patience = 50 * time.Millisecond
			}
		}
		res := f.y.askFor(patience, visitor, method, target, body)
		answers[res.Code/100]++
		seen[method+" "+target] = true
		if res.Code >= 500 && !(res.Code == http.StatusServiceUnavailable && patience < time.Second) {
			t.Errorf("%s %.300q as %s: %d %.300s\nbody %.600q", method, target, visitor, res.Code, res.Body, body)
		}
		if t.Failed() && len(answers) > 0 && answers[5] > 10 {
			break
		}
	}
	t.Logf("answers by class: %v", answers)
	assert.Positive(t, answers[2], "some are right")
	assert.Positive(t, answers[4], "and some are refused")
}

func TestWhatIsNoTextIsRefusedAtTheDoor(t *testing.T) {
	y := newYard(t, people.Issuer{})
	for _, c := range []struct{ visitor, method, target, body string }{
		{"admin", "GET", "/api/v1/projects/%00", ""},
		{"admin", "GET", "/api/v1/projects/%ff", ""},
		{"admin", "GET", "/api/v1/projects?contains=%00", ""},
		{"admin", "GET", "/api/v1/projects?contains=%c3%28", ""},
		{"admin", "GET", "/api/v1/projects?contains=%zz", ""},
		{"admin", "GET", "/api/v1/projects/tides/runs/1/jobs/a%00/log", ""},
		{"nobody", "POST", "/api/v1/session", `{"name":"a\u0000","password":"x"}`},
		{"nobody", "POST", "/api/v1/session", "{\"name\":\"\xff\",\"password\":\"x\"}"},
		{"nobody", "POST", "/api/v1/projects/t%00/pushes", `{}`},
		{"admin", "POST", "/api/v1/people", `{"name":"a","password":"` + "\x00" + `"}`},
		{"admin", "PUT", "/api/v1/projects/tides/hold", `{"reason":"\u0000"}`},
		{"admin", "PUT", "/api/v1/projects/tides/hold", strings.Repeat("[", 100_000)},
	} {
		res := y.ask(c.visitor, c.method, c.target, c.body)
		assert.Equal(t, 4, res.Code/100, "%s %s %.60q: %d %s", c.method, c.target, c.body, res.Code, res.Body)
		assert.NotEmpty(t, res.Header().Get(requestHeader), "each answer has its request's id")
	}
	assert.Equal(t, 200, y.ask("admin", "PUT", "/api/v1/projects/tides/hold", `{"reason":"\\u0000 is a backslash and five characters"}`).Code)
	assert.Less(t, y.askFor(300*time.Millisecond, "admin", "GET", "/api/v1/stream?cursor=99999999999999999999", "").Code, 500)
}

func TestAddressesOfMonitorsAnswerAsMonitorsExpect(t *testing.T) {
	y := newYard(t, people.Issuer{})
	for target, want := range map[string]int{"/metrics": 401, "/healthz": 404, "/readyz": 404, "/api/v1/nothing": 404, "/api/v1/health": 200,
		"/api/v1/health/live": 204, "/api/v1/health/ready": 204} {
		assert.Equal(t, want, y.ask("nobody", "GET", target, "").Code, target)
	}
	r := httptest.NewRequest("GET", "/tides/12", nil)
	r.Header.Set("Accept", "text/html,*/*")
	w := httptest.NewRecorder()
	y.handler.ServeHTTP(w, r)
	assert.NotContains(t, w.Body.String(), "there is nothing at", "a page that somebody opens is the console's")
	built := fstest.MapFS{"index.html": {}, "assets/a.js.br": {}}
	for name, is := range map[string]bool{"index.html": true, "assets/a.js": true, "assets": false, "": false,
		"tides/releases/almanac/1.5.0": false} {
		assert.Equal(t, is, isFile(built, name), "%q: a page may have a dot in its address", name)
	}
	require.NoError(t, y.store.Close())
	res := y.ask("nobody", "GET", "/api/v1/health", "")
	assert.Equal(t, 503, res.Code)
	assert.Contains(t, res.Body.String(), `"name":"database","ok":false`)
	assert.Equal(t, 503, y.ask("nobody", "GET", "/api/v1/health/ready", "").Code)
	assert.Equal(t, 204, y.ask("nobody", "GET", "/api/v1/health/live", "").Code, "the process lives")
}
