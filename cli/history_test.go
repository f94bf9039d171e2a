package cli

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	timesOfTrunk = `{"pipeline":"trunk","pipelines":["release","trunk"],"set_back":true,"steps":[{"job":"core","step":"test",
		"machine":"linux","runs":2,"median_ms":1500,"low_ms":1000,"high_ms":2000,"most_ms":2500,"changes":[{"run":4,"after":3,
		"before_ms":1000,"now_ms":2000,"commit":"beefbeefbeef","subject":"Sort by hand"},{"run":5,"first":5,"last":5,"after":4,
		"before_ms":2000,"now_ms":1900,"commit":"b","subject":"s"}]}],"runs":[
		{"run":3,"state":"passed","commit":"a","subject":"","at":"2026-07-01T02:30:00Z","total_ms":2000,"waited_ms":500,
		"prepared_ms":100,"wrapped_ms":5,"steps_ms":[1000],"hits":1,"misses":0},
		{"run":4,"state":"passed","commit":"b","subject":"","at":"2026-07-01T02:30:00Z","total_ms":4000,"waited_ms":0,
		"prepared_ms":100,"wrapped_ms":5,"steps_ms":[2000],"hits":0,"misses":1}]}`
	noSince = `{"run":3,"commits":[{"id":"beefbeefbeef","subject":"Sort by hand","author":"Ines"}],"definition":[],"tools":[
		{"what":"core.clang","before":"14","after":"15"}],"caches":[],"secrets":[],"runners":[]}`
	stepOfTrunk = `{"job":"core","step":"test","machine":"linux","runs":2,"median_ms":1500,"low_ms":1000,"high_ms":2000,
		"most_ms":2500,"bars":[{"from_ms":1000,"to_ms":2000,"n":1}],"what":[{"run":4,"after":3,"before_ms":1000,"now_ms":2000,
		"commit":"beefbeefbeef","subject":"Sort by hand","since":` + noSince + `}],"series":[{"run":4,"state":"passed",
		"took_ms":2000,"at":"2026-07-01T02:30:00Z","commit":"beefbeefbeef","subject":"Sort by hand"}]}`
	timesOfRun = `{"critical":[{"kind":"waiting","job":"core","from_ms":0,"took_ms":500},{"kind":"step","job":"core",
		"step":"test","from_ms":500,"took_ms":2000}],"shorter":[{"kind":"machine","saves_ms":500},{"kind":"reuse","job":"core",
		"step":"test","saves_ms":400},{"kind":"beside","job":"core","other":"first","saves_ms":300}],"slower":[{"job":"core",
		"step":"test","took_ms":2000,"usual_ms":1000,"since_run":3,"runs":2,"since":` + noSince + `}]}`
	aCase = `{"id":7,"suite":"tide","name":"low water","pipeline":"trunk","job":"core","first_run":1,
		"first":"2026-07-01T02:30:00Z","last_run":9,"last":"2026-07-01T02:30:00Z","result":"failed","took_ms":20,"usual_ms":10,
		"runs":9,"failures":2,"failing_since":8,"flaky":1,"flaky_run":5`
	allOfCase = aCase + `,"results":[{"run":9,"job":"core","attempt":1,"result":"both","took_ms":20,"message":"got 1",
		"commit":"beefbeefbeef","subject":"Sort by hand","at":"2026-07-01T02:30:00Z","flaky":true}],"broke":{"run":8,"passed":7,
		"commit":"beefbeefbeef","subject":"Sort by hand","author":"Ines","since":` + noSince + `},"changes":[{"run":4,"after":3,
		"before_ms":2000,"now_ms":1000,"commit":"b","subject":"Faster"}]}`
	setAside = aCase + `,"aside":{"suite":"tide","name":"low water","reason":"the depot moves","until":"2027-01-15T23:00:00Z",
		"by":"ada"}}`
	aFailure = `{"failures":[{"times":3,"first_run":2,"first":"2026-07-01T02:30:00Z","last_run":9,"last":"2026-07-01T02:30:00Z",
		"still":true,"gone":{"run":5,"commit":"beefbeefbeef","subject":"Build the tags"},"pipeline":"trunk","job":"core",
		"step":"compile","cause":"undefined-symbol","title":"an undefined symbol","said":"undefined reference to tags_of"}],"next":30}`
	aSearch = `{"run":9,"job":"core","state":"STATE","begun":"2026-07-01T02:30:00Z","good":4,"among":7,"left":1,"most":3,
		"suspects":[{"id":"beefbeefbeefbeef","subject":"Sort by hand","author":"Ines"}],"tries":[{"id":"abcdabcdabcd",
		"subject":"Read tides","author":"Ada","run":10,"verdict":"passed"},{"id":"cdefcdefcdef","subject":"Try it","author":"Ada",
		"verdict":"unclear","why":"it has no job core"}]}`
	compared = `{"was":{"run":3,"job":"core","attempt":1,"state":"passed","lines":23,"from":5},"is":{"run":9,"job":"core",
		"attempt":1,"state":"failed","lines":24,"from":1},"different":1,"rough":true,"more":true,"parts":[{"same":true,"was":[],
		"is":[],"hidden":18},{"same":true,"was":[{"n":21,"t":1,"s":0,"x":"compile"}],"is":[{"n":21,"t":1,"s":0,"x":"compile"}]},
		{"same":false,"was":[{"n":22,"t":1,"s":0,"x":"7 passed"}],"is":[{"n":22,"t":1,"s":0,"x":"6 passed"}]}]}`
	aUsage = `{"month":"2026-11","used_ms":600000,"forecast_ms":900000,"parts":[{"name":"trunk","used_ms":600000,"waited_ms":1000,
		"runs":12}],"months":[{"month":"2026-10","used_ms":1},{"month":"2026-11","used_ms":600000}],"waste":[{"name":"flaky",
		"used_ms":5000,"runs":2}],"budget":{"minutes":12,"warn_at":75,"hold":true,"by":"ada","state":"warned","percent":83}}`
)

func search(state string) string { return strings.Replace(aSearch, "STATE", state, 1) }

// How a search has ended is the exit code of whoever follows it.
func TestWhatASearchEndsWith(t *testing.T) {
	for state, says := range map[string]string{"chance": "fails by chance", "unclear": "could not be judged",
		"stopped": "It was stopped"} {
		out, code, _ := against(t, map[string]string{"GET /projects/p/runs/9/bisections": "[" + search(state) + "]"}, "bisect",
			"p", "9", "--follow")
		assert.Equal(t, 1, code, state)
		assert.Contains(t, out, says)
	}
	_, code, _ := against(t, map[string]string{"GET /projects/p/runs/9/bisections": "[]"}, "bisect", "p", "9", "--stop")
	assert.NotZero(t, code)
}

func TestCommandsOfTheHistory(t *testing.T) {
	for name, c := range map[string]struct {
		answers map[string]string
		args    []string
		says    []string
		asked   string
	}{
		"times": {map[string]string{"GET /projects/p/times": timesOfTrunk}, []string{"times", "p", "--branch", "main"},
			[]string{"2 runs, 3 to 4", "set back in time, for show", "core/test", "slower since run 4: 1.0 s → 2.0 s; quicker since run 5: 2.0 s → 1.9 s",
				"1 of 2 times", "▄█"}, "GET /projects/p/times?branch=main&limit=120"},
		"a step": {map[string]string{"GET /projects/p/times/step": stepOfTrunk}, []string{"times", "p", "--step", "core/test"},
			[]string{"core › test", "slower since run 4", "Sort by hand", "core.clang  14 → 15", "half of the runs between 1.0 s and"},
			"GET /projects/p/times/step?job=core&limit=120&step=test"},
		"a run": {map[string]string{"GET /projects/p/runs/4/times": timesOfRun}, []string{"times", "p", "4"},
			[]string{"(waiting)", "500 ms less with one more machine", "if core › test were reused", "did not come after first",
				"slower than usual: core › test took 2.0 s, usually 1.0 s; since run 3, 2 runs now"}, "GET /projects/p/runs/4/times?"},
		"tests": {map[string]string{"GET /projects/p/tests": `{"cases":[` + aCase + `}],"next":40,"all":9,"failing":1,"flaky":1,
			"aside":0}`}, []string{"tests", "p", "--show", "flaky"}, []string{"9 cases: 1 fail, 1 flaky", "tide › low water",
			"2 of 9", "fails since run 8; flaky: 1 times, last in run 5", "--skip 40"},
			"GET /projects/p/tests?limit=40&show=flaky"},
		"a test": {map[string]string{"GET /projects/p/tests/7": allOfCase}, []string{"tests", "p", "7"},
			[]string{"broke in run 8: beefbeefb Sort by hand", "It passed in run 7", "≈ passed and failed flaky", "got 1",
				"quicker since run 4"}, "GET /projects/p/tests/7?"},
		"set aside": {map[string]string{"PUT /projects/p/tests/7/aside": setAside}, []string{"tests", "p", "7", "--aside",
			"the depot moves", "--until", "2027-01-15"}, []string{"set aside until 2027-01-1", "the depot moves"}, ""},
		"and back": {map[string]string{"DELETE /projects/p/tests/7/aside": "", "GET /projects/p/tests/7": allOfCase},
			[]string{"tests", "p", "7", "--back"}, []string{"broke in"}, ""},
		"failures": {map[string]string{"GET /projects/p/failures": aFailure}, []string{"failures", "p", "--contains", "tags", "--cause", "undefined-symbol"},
			[]string{"core › compile", "an undefined symbol", "is back; before with run 5: beefbeefb Build the tags", "--skip 30"},
			"GET /projects/p/failures?cause=undefined-symbol&contains=tags&limit=30"},
		"usage": {map[string]string{"GET /projects/p/usage": aUsage}, []string{"usage", "p", "--by", "person"},
			[]string{"10 min 00 s used", "budget: 83 % of 12 min (warned)", "PERSON", "failures of what passed unchanged"},
			"GET /projects/p/usage?by=person"},
		"usage of all": {map[string]string{"GET /usage": aUsage}, []string{"usage", "--month", "2026-11"}, []string{"PROJECT"},
			"GET /usage?by=project&month=2026-11"},
		"a budget": {map[string]string{"PUT /projects/p/budget": aUsage, "GET /projects/p/usage": aUsage}, []string{"usage", "p",
			"--budget", "12", "--warn-at", "75", "--hold"}, []string{"83 % of 12 min"}, ""},
		"no budget": {map[string]string{"DELETE /projects/p/budget": "", "GET /projects/p/usage": aUsage}, []string{"usage", "p",
			"--budget", "0"}, []string{"used"}, ""},
		"a search": {map[string]string{"GET /projects/p/runs/9/bisections": "[]",
			"POST /projects/p/runs/9/bisections": search("searching")}, []string{"bisect", "p", "9", "--job", "core"},
			[]string{"passed in run 4 and fails in run 9: one of 7", "passed", "abcdabcda  Read tides", "run 10",
				"unclear", "it has no job core", "At most 3 tries from here"}, "POST /projects/p/runs/9/bisections? {\"job\":\"core\"}"},
		"what was found": {map[string]string{"GET /projects/p/runs/9/bisections": "[" + search("found") + "]"},
			[]string{"bisect", "p", "9", "--follow"}, []string{"The first bad change:", "beefbeefbeef  Sort by hand", "Ines"},
			"GET /projects/p/runs/9/bisections?"},
		"a search stopped": {map[string]string{"GET /projects/p/runs/9/bisections": "[" + search("searching") + "]",
			"DELETE /projects/p/runs/9/jobs/core/bisection": ""}, []string{"bisect", "p", "9", "--stop"}, []string{""},
			"DELETE /projects/p/runs/9/jobs/core/bisection?"},
		"compared": {map[string]string{"GET /projects/p/runs/9": `{"number":9,"jobs":[{"name":"core"}]}`,
			"GET /projects/p/runs/9/since":                 noSince,
			"GET /projects/p/runs/9/jobs/core/log/against": compared}, []string{"compare", "p", "9"},
			[]string{"- core in run 3 (passed, 23 lines)", "… 18 lines are the same", "      21 compile", "-     22 7 passed",
				"+     22 6 passed", "line 5 on", "More differs", "less may differ"},
			"GET /projects/p/runs/9/jobs/core/log/against?run=3"},
		"compared with one": {map[string]string{"GET /projects/p/runs/9/jobs/core/log/against": compared},
			[]string{"compare", "p", "9", "--job", "core", "--with", "4"}, []string{"7 passed"},
			"GET /projects/p/runs/9/jobs/core/log/against?run=4"},
		"runs with tries": {map[string]string{"GET /projects/p/runs": `{"runs":[{"project":"p","number":10,"pipeline":"trunk",
			"trigger":"bisection","branch":"main","commit":"beefbeefbeef","subject":"Sort","author":"Ines","state":"failed",
			"queued":"2026-07-01T02:30:00Z","caused_by":9}]}`}, []string{"runs", "p", "--tries"},
			[]string{"main, tried for run 9 beefbee"}, "GET /projects/p/runs?limit=20&tries=true"},
		"causes":  {nil, []string{"causes"}, []string{"lock-stale", "undefined-symbol"}, ""},
		"a cause": {nil, []string{"causes", "lock-stale"}, []string{"the lock file is stale", "what to do:"}, ""},
	} {
		out, code, asked := against(t, c.answers, c.args...)
		assert.Zero(t, code, "%s: %s", name, out)
		for _, text := range c.says {
			assert.Contains(t, out, text, name)
		}
		if c.asked != "" {
			require.NotEmpty(t, asked, name)
			assert.Equal(t, c.asked, asked[len(asked)-1], name)
		}
		out, code, _ = against(t, c.answers, append(append([]string{}, c.args...), "--json")...)
		assert.Zero(t, code, "%s: %s", name, out)
		assert.True(t, json.Valid([]byte(out)), "%s: %s", name, out)
	}
	for _, args := range [][]string{{"times", "p", "--step", "test"}, {"tests", "p", "x"}, {"tests", "p", "--back"},
		{"tests", "p", "7", "--aside", "why", "--until", "soon"}, {"causes", "none"}, {"usage", "--budget", "3"}} {
		_, code, asked := against(t, nil, args...)
		assert.NotZero(t, code, args)
		assert.Empty(t, asked, "%v: nothing is asked of the service", args)
	}
}

// Of a month that is over it is known what it came to: nothing is foretold.
func TestOnlyThisMonthIsForetold(t *testing.T) {
	const foretold = "15 min 00 s by the month's end"
	this := time.Now().UTC().Format("2006-01")
	for month, is := range map[string]bool{"2020-02": false, this: true} {
		told := strings.Replace(aUsage, `"month":"2026-11"`, `"month":"`+month+`"`, 1)
		out, code, _ := against(t, map[string]string{"GET /usage": told}, "usage")
		require.Zero(t, code, out)
		assert.Contains(t, out, month+"  10 min 00 s used")
		assert.Equal(t, is, strings.Contains(out, foretold), out)
	}
}
