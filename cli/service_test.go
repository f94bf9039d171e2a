package cli

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/cli/terminal"
)

// standIn answers as a service would and notes what it was asked.
type standIn struct {
	asked   []string
	answers map[string]string // by method and path
}

func (s *standIn) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	key := r.Method + " " + strings.TrimPrefix(r.URL.Path, "/api/v1")
	s.asked = append(s.asked, strings.TrimSpace(key+"?"+r.URL.RawQuery+" "+string(body)))
	text, ok := s.answers[key]
	if !ok {
		w.WriteHeader(http.StatusNotFound)
		_, _ = io.WriteString(w, `{"status":404,"detail":"nothing of that name"}`)
		return
	}
	_, _ = io.WriteString(w, text)
}

// against runs a command against a service that answers so.
func against(t *testing.T, answers map[string]string, args ...string) (out string, code int, asked []string) {
	t.Helper()
	t.Chdir(t.TempDir()) // no work tree, of which commands would take the project
	return againstHere(t, answers, args...)
}

// againstHere is against, called in the folder that the test is in.
func againstHere(t *testing.T, answers map[string]string, args ...string) (out string, code int, asked []string) {
	t.Helper()
	s := &standIn{answers: answers}
	server := httptest.NewServer(s)
	defer server.Close()
	t.Setenv("PISTON_SERVER", server.URL)
	t.Setenv("PISTON_TOKEN", "token")
	out, code = run(t, args...)
	return out, code, s.asked
}

const (
	aStay        = `[{"project":"p","run":12,"job":"core","attempt":1,"ended":"failed","runner":"attic","state":"stays","minutes":15,"until":"2100-01-01T00:00:00Z","shells":0}]`
	aRun         = `{"project":"p","number":12,"pipeline":"trunk","trigger":"person","commit":"0123456789","state":"queued"}`
	waits        = `{"total":3,"working":2,"slots":4,"next":7,"jobs":[{"project":"p","run":12,"pipeline":"trunk","job":"android","place":7,"why":"needs label macos: no runner has it"}]}`
	aGate        = `{"id":7,"project":"p","run":12,"pipeline":"release","job":"go","question":"Publish 1.4?","who":["keeper"],"count":2,"asked":"2026-07-01T02:30:00Z","until":"2026-07-04T02:30:00Z","answers":[{"by":"ada","yes":true,"at":"2026-07-01T03:30:00Z"}]}`
	aRelease     = `{"id":3,"project":"p","app":"almanac","name":"1.4","builds":{"android":6,"ios":7},"run":12,"pipeline":"release","commit":"0123456789","made":"2026-07-01T02:30:00Z","packages":2,"size":12000,"contents":[],"notes":[],"gates":[],"story":[{"at":"2026-07-01T02:30:00Z","kind":"yes","by":"ada","text":"well"}]}`
	aPlan        = `{"app":"almanac","name":"1.4","outlet":"depot","channel":"early","share":100,"size":12000,"now":{"out":[{"name":"1.3","share":100,"since":"2026-07-01T02:30:00Z"}]},"missing":[]}`
	aPublication = `{"id":4,"app":"almanac","name":"1.4","outlet":"depot","channel":"early","share":100,"state":"sending","sent":2,"total":12000,"trouble":"no room","reasons":[],"begun":"2026-07-01T02:30:00Z"}`
	project      = `{"name":"p","remote":"/srv/p.git"}`
)

func TestCommandsOfTheQueue(t *testing.T) {
	for name, c := range map[string]struct {
		answers map[string]string
		args    []string
		says    []string
		asked   string
	}{
		"queue":         {map[string]string{"GET /queue": waits}, []string{"queue", "p", "--run", "12"}, []string{"3 waiting, 2 at work, room for 4", "android", "needs label macos", "--after 7"}, "GET /queue?project=p&run=12&after=0&limit=50"},
		"hold":          {map[string]string{"PUT /projects/p/hold": project}, []string{"project", "hold", "--because", "the feed is down", "p"}, []string{"wait until piston project resume p"}, `PUT /projects/p/hold? {"reason":"the feed is down"}`},
		"release":       {map[string]string{"PUT /projects/p/hold": project}, []string{"project", "resume", "p"}, []string{"handed out again"}, `PUT /projects/p/hold? {"reason":""}`},
		"limit":         {map[string]string{"PUT /projects/p/limit": project}, []string{"project", "limit", "p", "4"}, []string{"At most 4"}, `PUT /projects/p/limit? {"at_once":4}`},
		"again, all":    {map[string]string{"POST /projects/p/runs/11/again": aRun}, []string{"again", "p", "11"}, []string{"Run 12 of p is queued"}, `POST /projects/p/runs/11/again? {"failed":false}`},
		"again, failed": {map[string]string{"POST /projects/p/runs/12/again": aRun}, []string{"again", "--failed", "p", "12"}, []string{"Run 12"}, `POST /projects/p/runs/12/again? {"failed":true}`},
		"start":         {map[string]string{"POST /projects/p/runs": aRun}, []string{"start", "--input", "mood=good", "p", "trunk", "v1"}, []string{"piston watch p 12"}, `POST /projects/p/runs? {"pipeline":"trunk","ref":"v1","inputs":{"mood":"good"}}`},
		"pipelines":     {map[string]string{"GET /projects/p/pipelines": `{"ref":"main","commit":"c","findings":[],"pipelines":[{"name":"trunk","about":"Every push","triggers":["a tag v*"],"inputs":[{"name":"mood","kind":"flag"}],"jobs":[{"name":"a","after":[],"steps":1,"line":1}],"findings":[{"code":"no-file","severity":"error","file":"piston/trunk.toml","line":3,"col":1,"message":"gone"}],"text":"","path":""}]}`}, []string{"pipelines", "p"}, []string{"trunk  Every push", "starts on a tag v*", "mood, yes or no [false]", "1 job", "piston/trunk.toml:3:1: error: gone"}, "GET /projects/p/pipelines?ref="},
		"no pipelines":  {map[string]string{"GET /projects/p/pipelines": `{"ref":"main","pipelines":[],"findings":[]}`}, []string{"pipelines", "p"}, []string{"No pipelines at main"}, "GET /projects/p/pipelines?ref="},
		"schedules":     {map[string]string{"GET /projects/p/schedules": `[{"pipeline":"nightly","name":"night","cron":"30 3 * * *","zone":"Europe/Lisbon","branch":"","next":"2026-07-01T02:30:00Z","last_run":9,"note":"2 missed"}]`}, []string{"schedules", "p"}, []string{"Wed 2026-07-01 03:30 WEST", "run 9", "2 missed"}, "GET /projects/p/schedules?"},
		"no schedules":  {map[string]string{"GET /projects/p/schedules": `[]`}, []string{"schedules", "p"}, []string{"No pipeline of p has a schedule."}, "GET /projects/p/schedules?"},
		"gates": {map[string]string{"GET /gates": `{"gates":[` + aGate + `],"next":7}`}, []string{"gates", "p", "--mine"},
			[]string{"Publish 1.4?", "p 12", "1 of 2 said yes", "--before 7"}, "GET /gates?limit=20&mine=true&open=true&project=p"},
		"no gates": {map[string]string{"GET /gates": `{"gates":[]}`}, []string{"gates", "--all"}, []string{"Nobody is asked"},
			"GET /gates?limit=20"},
		"answer": {map[string]string{"GET /projects/p/runs/12": `{"number":12,"state":"waiting","jobs":[{"name":"go","state":"waiting","gate":` + aGate + `}]}`,
			"POST /projects/p/gates/7/answer": strings.Replace(aGate, `"count":2`, `"count":2,"outcome":"yes"`, 1)},
			[]string{"answer", "p", "12", "yes", "--comment", "well"}, []string{"Publish 1.4?", "You said yes: passed, by ada."},
			`POST /projects/p/gates/7/answer? {"yes":true,"comment":"well"}`},
		"since": {map[string]string{"GET /projects/p/runs/12/since": `{"run":11,"commits":[{"id":"0123456789ab","subject":"Fold it","author":"Ada"}],"definition":[{"what":"job.a.step[0].env.MODE","after":"fast"}],"tools":[{"what":"a: clang","before":"14","after":"15"}],"caches":[],"secrets":[],"runners":[]}`}, []string{"since", "p", "12"}, []string{"Run 12 beside run 11", "012345678 Fold it", "MODE  (none) → fast", "a: clang  14 → 15"}, "GET /projects/p/runs/12/since?"},
		"caches": {map[string]string{"GET /projects/p/caches": `{"items":[{"id":7,"name":"depot","key":"k","line":"main","run":3,"job":"a","size":2000000,
			"files":12,"stored":9,"takes":1000000,"uses":4,"created":"2026-07-01T02:30:00Z","last_used":"2026-07-01T02:30:00Z","outside":true}],"next":"7","size":2000000,"takes":1000000,
			"copies":2,"names":[{"pipeline":"trunk","job":"a","name":"depot","hits":3,"nearest":1,"misses":0,"hit_ms":1000,"miss_ms":5000,"saved_ms":12000}],"reused_steps":2,"reused_ms":3000}`},
			[]string{"caches", "p"}, []string{"depot", "only by that proposal", "More: --after 7", "2 copies of 2.0 MB take 1.0 MB", "75 %", "saved 12s of work, and 2 steps that were reused 3000 ms"}, "GET /projects/p/caches?limit=20"},
		"caches none": {map[string]string{"GET /projects/p/caches": `{"items":[],"names":[]}`}, []string{"caches", "p", "--name", "x"}, []string{"No cache of it is kept"}, "GET /projects/p/caches?limit=20&name=x"},
		"caches why": {map[string]string{"GET /projects/p/runs/12": `{"number":12,"jobs":[{"name":"a","caches":[{"name":"depot","nearest":true,"run":3,"line":"main","differs":["a.lock"],"size":2000000,"took_ms":4}]}]}`},
			[]string{"caches", "why", "p", "12"}, []string{"a, cache depot: miss; the nearest of run 3 on main, fetched", "a.lock differs"}, "GET /projects/p/runs/12?"},
		"caches drop": {map[string]string{"DELETE /projects/p/caches/7": ``}, []string{"caches", "drop", "p", "7"}, []string{"given up"}, "DELETE /projects/p/caches/7?"},
		"why": {map[string]string{"GET /projects/p/runs/12": `{"number":12,"jobs":[{"name":"a","steps":[{"name":"x","state":"passed","reuse":{"imprint":"i","run":3,"differs":["core/a.c"],"more":2}},
			{"name":"y","state":"reused","reuse":{"imprint":"i","run":3,"took_ms":4000}},{"name":"z","state":"passed","reuse":{"imprint":"i","run":3,"unlike":"out/a differs from its byte 4 on"}}]}]}`},
			[]string{"why", "p", "12"}, []string{"passed: 3 things that it depends on have changed since run 3", "core/a.c", "and 2 more", "reused, of run 3", "not reproducible: out/a differs"}, "GET /projects/p/runs/12?"},
		"since nothing":   {map[string]string{"GET /projects/p/runs/12/since": `{"run":11,"commits":[]}`}, []string{"since", "p", "12"}, []string{"nothing: the same commit"}, "GET /projects/p/runs/12/since?"},
		"since the first": {map[string]string{"GET /projects/p/runs/1/since": `{"run":0}`}, []string{"since", "p", "1"}, []string{"No run of this pipeline has passed before run 1."}, "GET /projects/p/runs/1/since?"},
		"a runner": {map[string]string{"GET /runners/attic": `{"name":"attic","platform":"linux/amd64","labels":["linux"],"slots":2,"busy":1,"online":true,"tools":{},
			"host":{"load":1.5,"cpus":8,"memory":64000000000,"memory_free":32000000000,"disk":100000000000,"disk_free":7000000000},
			"did":[{"project":"p","run":12,"job":"core","attempt":1,"state":"failed","reason":"exit code 3","claimed_at":"2026-11-01T10:00:00Z","took_ms":4100}]}`, "GET /stays": `[]`},
			[]string{"runners", "show", "attic"}, []string{"1 of 2 slots", "load 1.5 on 8 processors", "7.00 GB free of 100.00 GB", "exit code 3"}, "GET /stays?limit=500&runner=attic"},
		"stays":  {map[string]string{"GET /stays": aStay}, []string{"stays", "p"}, []string{"core", "attic", "min", "its pipeline"}, "GET /stays?limit=100&project=p"},
		"stay":   {map[string]string{"PUT /projects/p/runs/12/jobs/core/stay": strings.Trim(aStay, "[]")}, []string{"stay", "p", "12", "--job", "core", "--for", "1h"}, []string{"piston shell p 12 --job core"}, `PUT /projects/p/runs/12/jobs/core/stay? {"minutes":60}`},
		"let go": {map[string]string{"GET /stays": aStay, "DELETE /projects/p/runs/12/jobs/core/stay": `{}`}, []string{"stay", "p", "12", "--let-go"}, []string{"is let go"}, "DELETE /projects/p/runs/12/jobs/core/stay?"},
		"shells": {map[string]string{"GET /projects/p/shells": `[{"id":7,"run":12,"job":"core","kind":"shell","who":"ada","command":"ls","secrets":["KEY"],"asked_at":"2026-11-01T10:00:00Z","printed":120}]`},
			[]string{"shells", "p"}, []string{"ada", "ls", "waits for a keeper", "KEY, not granted"}, "GET /projects/p/shells?limit=50"},
		"grant":   {map[string]string{"POST /projects/p/shells/7/grant": `{}`}, []string{"shells", "p", "--grant", "7"}, []string{"shell 7 has its secrets"}, "POST /projects/p/shells/7/grant?"},
		"runners": {map[string]string{"GET /runners": `[{"name":"attic","labels":["linux"],"slots":2,"busy":1,"online":true,"tools":{"make":"4.3","clang":"14.0.6"}}]`}, []string{"runners"}, []string{"attic", "1 of 2", "clang 14.0.6, make 4.3"}, "GET /runners?limit=200"},
	} {
		out, code, asked := against(t, c.answers, c.args...)
		assert.Zero(t, code, "%s: %s", name, out)
		for _, text := range c.says {
			assert.Contains(t, out, text, name)
		}
		require.NotEmpty(t, asked, name)
		assert.Equal(t, c.asked, asked[len(asked)-1], name)

		// For programs: valid JSON, and nothing else.
		at := 1
		if c.args[0] == "project" {
			at = 2
		}
		withJSON := append(append(append([]string{}, c.args[:at]...), "--json"), c.args[at:]...)
		out, code, _ = against(t, c.answers, withJSON...)
		assert.Zero(t, code, name)
		assert.True(t, json.Valid([]byte(out)), "%s: %s", name, out)
	}
}

func TestWhatTheServiceRefusesAndWhatIsNoCommand(t *testing.T) {
	for _, args := range [][]string{{"again", "p", "9"}, {"schedules", "q"}, {"since", "p", "9"}, {"project", "hold", "q"}, {"start", "p", "none"}} {
		out, code, _ := against(t, nil, args...)
		assert.Equal(t, terminal.ExitRefuse, code, args)
		assert.Contains(t, out, "nothing of that name", args)
	}
	for _, args := range [][]string{{"again"}, {"queue", "a", "b"}, {"project", "limit", "p", "many"}, {"project", "limit", "p", "-1"}, {"start", "p"}, {"start", "--input", "x", "p", "q"}, {"since", "p", "0"}, {"runs", "p", "--limit", "0"}, {"people", "--limit", "501"}} {
		_, code, asked := against(t, nil, args...)
		assert.Equal(t, terminal.ExitUsage, code, args)
		assert.Empty(t, asked, "%v: nothing is asked of the service", args)
	}
}

func TestACommandSaysWhatItTakes(t *testing.T) {
	out, code, _ := against(t, nil, "people", "list")
	assert.Equal(t, terminal.ExitUsage, code)
	assert.Contains(t, out, `piston people takes no arguments, not "list"; piston people --help shows an example`)
	out, _, _ = against(t, nil, "stop", "p")
	assert.Contains(t, out, "piston stop takes PROJECT RUN; piston stop --help shows an example")
}

func TestACheckAsksTheServiceAboutItsProject(t *testing.T) {
	dir := checkout(t, map[string]string{"piston/p.toml": "[job.a]\nmachine = [\"macos\"]\n[[job.a.step]]\nscript = \"test $KEY = $OTHER\"\nsecrets = [\"KEY\", \"OTHER\"]\n"}, nil)
	dir, err := filepath.EvalSymlinks(dir)
	require.NoError(t, err)
	list, err := json.Marshal([]api.Project{{Name: "other", Remote: "/srv/other.git"}, {Name: "mine", Remote: dir}})
	require.NoError(t, err)
	answers := map[string]string{"GET /projects": string(list), "GET /projects/mine/knowledge": `{"secrets":[{"name":"KEY","scope":{}}],"runners":[{"name":"attic","labels":["linux"]}],"last_build":3}`}
	out, code, _ := against(t, answers, "check", dir)
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, out, "asks for the secret OTHER, which nobody has set")
	assert.Contains(t, out, "piston secret set mine OTHER")
	assert.NotContains(t, out, "secret KEY")
	assert.Contains(t, out, "needs label macos: no runner has it")

	out, code, asked := against(t, answers, "check", "--offline", dir)
	assert.Zero(t, code, out)
	assert.Empty(t, asked)
	out, code, _ = against(t, answers, "check", "--project", "gone", dir)
	assert.Zero(t, code, out)
	assert.Contains(t, out, "nothing of that name: secrets and runners are not checked")
}

func TestTheProgramTellsItsVersion(t *testing.T) {
	out, code, asked := against(t, nil, "version", "--json")
	assert.Zero(t, code)
	assert.Empty(t, asked, "it needs no service")
	var about struct {
		Version  string
		Platform string
		Protocol int `json:"runner_protocol"`
	}
	require.NoError(t, json.Unmarshal([]byte(out), &about))
	assert.Equal(t, programVersion(), about.Version)
	assert.NotEmpty(t, about.Version)
	assert.Equal(t, api.RunnerProtocol, about.Protocol)
	out, code, _ = against(t, nil, "--version")
	assert.Zero(t, code)
	assert.Contains(t, out, programVersion())
}

func TestTheProjectOfTheWorkTreeMayBeLeftOut(t *testing.T) {
	dir := checkout(t, map[string]string{"a": "b"}, nil)
	dir, err := filepath.EvalSymlinks(dir)
	require.NoError(t, err)
	list, err := json.Marshal([]api.Project{{Name: "other", Remote: "/srv/other.git"}, {Name: "p", Remote: dir}})
	require.NoError(t, err)
	answers := map[string]string{"GET /projects": string(list), "GET /projects/p": `{"name":"p"}`,
		"GET /projects/p/failures": `{"failures":[]}`, "POST /projects/p/runs/12/again": aRun,
		"GET /projects/other": `{"name":"other"}`, "GET /projects/other/failures": `{"failures":[]}`}
	for _, c := range []struct {
		args []string
		asks string
	}{
		{[]string{"failures"}, "GET /projects/p/failures"},
		{[]string{"failures", "other"}, "GET /projects/other/failures"},
		{[]string{"again", "12"}, "POST /projects/p/runs/12/again"},
		{[]string{"again", "p", "12"}, "POST /projects/p/runs/12/again"},
	} {
		t.Chdir(dir)
		out, code, asked := againstHere(t, answers, c.args...)
		assert.Zero(t, code, "%v: %s", c.args, out)
		require.NotEmpty(t, asked, c.args)
		last, _, _ := strings.Cut(asked[len(asked)-1], "?")
		assert.Equal(t, c.asks, last, c.args)
	}
	out, code, _ := against(t, nil, "failures")
	assert.Equal(t, terminal.ExitUsage, code)
	assert.Contains(t, out, "piston failures takes PROJECT")
}

func TestTheManualAndCompletion(t *testing.T) {
	out, code, _ := against(t, nil, "manual")
	assert.Zero(t, code)
	assert.Contains(t, out, ".TH piston 1")
	assert.Contains(t, out, "shell")
	out, code, _ = against(t, nil, "manual", "--json")
	assert.Zero(t, code)
	assert.True(t, json.Valid([]byte(out)))
	out, code, _ = against(t, nil, "manual", "shell")
	assert.Zero(t, code)
	assert.Contains(t, out, ".TH piston-shell 1")
	_, code, _ = against(t, nil, "manual", "nobody")
	assert.Equal(t, terminal.ExitUsage, code)
	folder := filepath.Join(t.TempDir(), "man1")
	out, code, _ = against(t, nil, "manual", "--into", folder)
	assert.Zero(t, code, out)
	for _, c := range append(App().Commands, &cli.Command{}) {
		name := strings.TrimSuffix("piston-"+c.Name, "-")
		text, err := os.ReadFile(filepath.Join(folder, name+".1"))
		require.NoError(t, err)
		assert.Contains(t, string(text), ".TH "+name+" 1")
	}
	for _, shell := range []string{"bash", "zsh", "fish", "pwsh"} {
		out, code, _ := against(t, nil, "completion", shell)
		assert.Zero(t, code, shell)
		assert.Contains(t, out, "generate-shell-completion", shell)
	}
	out, _, _ = against(t, nil, "secret", "--generate-shell-completion")
	assert.Contains(t, out, "set")
}
