package definition

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const gateText = `[[job.a.step]]
script = "true"
[job.go]
about = "Two keepers agree"
after = ["a"]
[job.go.ask]
who = ["keeper", "group:shore", "person:ada"]
count = 2
question = "Publish ${PISTON_VERSION_NAME}?"
within = "3d"
`

func TestAGateIsRead(t *testing.T) {
	p, found := Parse("piston/trunk.toml", []byte(gateText), nil)
	require.Empty(t, found)
	job := p.Job["go"]
	require.NotNil(t, job.Ask)
	assert.Empty(t, job.Machine, "it needs none")
	assert.Empty(t, job.Limit)
	assert.Equal(t, 2, job.Ask.Yeses())
	assert.Equal(t, 72*time.Hour, job.Ask.Time())
	assert.Equal(t, 1, (&Ask{}).Yeses())
	assert.Equal(t, 7*24*time.Hour, (&Ask{}).Time())
}

func TestWhatAGateMayNotSay(t *testing.T) {
	gate := func(job, ask string) string {
		return "[job.go]\n" + job + "\n[job.go.ask]\nwho = [\"keeper\"]\nquestion = \"Go on?\"\n" + ask + "\n"
	}
	for text, wanted := range map[string]string{
		gate("machine = [\"linux\"]", ""):                                                     "2 bad-value",
		gate("advisory = true", ""):                                                           "2 bad-value",
		gate("limit = \"5m\"", ""):                                                            "2 bad-value",
		gate("env = { A = \"1\" }", ""):                                                       "2 bad-value",
		gate("variants = { over = { A = [\"1\"] } }", ""):                                     "2 bad-value",
		gate("", "count = 21"):                                                                "6 bad-value",
		gate("", "count = -1"):                                                                "6 bad-value",
		gate("", "within = \"91d\""):                                                          "6 bad-duration",
		gate("", "within = \"3 days\""):                                                       "6 bad-duration",
		gate("", "within = \"1s\""):                                                           "6 bad-duration",
		gate("", "within = \"99999999999d\""):                                                 "6 bad-duration",
		gate("", "unanswered = \"later\""):                                                    "6 bad-value",
		gate("", "unaswered = \"skip\""):                                                      "6 unknown-key",
		gate("", "") + "[[job.go.step]]\nscript = \"true\"\n":                                 "7 bad-value",
		"[job.go.ask]\nquestion = \"Go on?\"\n":                                               "1 missing-key",
		"[job.go.ask]\nwho = [\"keeper\"]\n":                                                  "1 missing-key",
		"[job.go.ask]\nwho = [\"keeper\"]\nquestion = \" \"\n":                                "1 missing-key",
		"[job.go.ask]\nwho = [\"boss\"]\nquestion = \"x\"\n":                                  "2 bad-value",
		"[job.go.ask]\nwho = [\"group:\"]\nquestion = \"x\"\n":                                "2 bad-value",
		"[job.go.ask]\nwho = [\"keeper\"]\nquestion = \"${X}\"":                               "3 unknown-reference",
		"[job.go.ask]\nwho = [\"keeper\"]\nquestion = \"a\\nb\"":                              "3 bad-value",
		"[job.go.ask]\nwho = [\"person:ada\", \"person:ada\"]\nquestion = \"x\"\ncount = 2\n": "4 bad-value",
		"[job.go.ask]\nwho = [" + strings.Repeat("\"keeper\",", 21) + "]\nquestion = \"x\"\n": "2 too-many",
		"[job.go]\nask = {}\n":                                                                "2 missing-key",
	} {
		_, found := Parse("piston/trunk.toml", []byte(text), nil)
		var got []string
		for _, f := range found {
			got = append(got, fmt.Sprintf("%d %s", f.Line, f.Code))
		}
		assert.Equal(t, []string{wanted}, got, text)
	}
}

func TestSpansOfDays(t *testing.T) {
	for text, wanted := range map[Duration]time.Duration{"1d": 24 * time.Hour, "2d12h": 60 * time.Hour, "90s": 90 * time.Second,
		"d": 0, "1.5d": 0, "-1d": 0, "1d-1h": 0, "1d1d": 0, "70000d": 0} {
		assert.Equal(t, wanted, text.Value(), text)
	}
}
