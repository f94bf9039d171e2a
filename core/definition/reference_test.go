package definition

import (
	"bytes"
	"encoding/json"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/action"
)

// frames put a key's example where it belongs in a whole file.
var frames = map[string]string{
	"top of the file":                     "%s\n[[job.a.step]]\nscript = \"true\"\n",
	"[version]":                           "[version]\n%s\n[[job.a.step]]\nscript = \"true\"\n",
	"[trigger.push]":                      "[trigger.push]\n%s\n[[job.a.step]]\nscript = \"true\"\n",
	"[trigger.tag]":                       "[trigger.tag]\n%s\n[[job.a.step]]\nscript = \"true\"\n",
	"[trigger.proposal]":                  "[trigger.proposal]\n%s\n[[job.a.step]]\nscript = \"true\"\n",
	"[trigger.schedule.NAME]":             "[trigger.schedule.night]\n%s\n[[job.a.step]]\nscript = \"true\"\n",
	"[trigger.pipeline.NAME]":             "[trigger.pipeline.trunk]\n%s\n[[job.a.step]]\nscript = \"true\"\n",
	"[input.NAME]":                        "[input.channel]\n%s\n[[job.a.step]]\nscript = \"true\"\n",
	"[job.NAME]":                          "[job.core]\n[[job.core.step]]\nscript = \"true\"\n[job.core.hand.library]\nfiles = [\"out/**\"]\n[job.a]\n%s\n[[job.a.step]]\nscript = \"true\"\n",
	"[job.NAME.variants]":                 "[job.a.variants]\n%s\n[[job.a.step]]\nscript = \"true\"\n",
	"[job.NAME.limits]":                   "[job.a.limits]\n%s\n[[job.a.step]]\nscript = \"true\"\n",
	"[job.NAME.retry]":                    "[job.a.retry]\n%s\n[[job.a.step]]\nname = \"fetch\"\nscript = \"true\"\n",
	"a gate, [job.NAME.ask]":              "[job.go.ask]\n%s\n",
	"[job.NAME.cache.NAME]":               "[[job.a.step]]\nscript = \"true\"\n[job.a.cache.c]\n%s\n",
	"[[job.NAME.step]]":                   "[[job.a.step]]\n%s\n",
	"a step's deal":                       "[job.a]\nvariants = { over = { PART = [\"1\", \"2\"] } }\n[[job.a.step]]\n%s\n",
	"a step's raise":                      "[input.size]\n[[job.a.step]]\n%s\n",
	"a step's land":                       "[[job.a.step]]\nraise = { by = \"patch\" }\n[[job.a.step]]\n%s\n",
	"[job.NAME.hand.NAME]":                "[[job.a.step]]\nscript = \"true\"\n[job.a.hand.h]\n%s\n",
	"[job.NAME.keep.NAME]":                "[[job.a.step]]\nscript = \"true\"\n[job.a.keep.k]\n%s\n",
	"piston/app.toml, [app.NAME]":         "[app.a]\n%s\n",
	"piston/app.toml, [app.NAME.build]":   "[app.a.build]\n%s\n",
	"piston/app.toml, [[app.NAME.place]]": "[[app.a.place]]\n%s\n",
	"piston/causes.toml, [[cause]]":       "[[cause]]\n%s\n",

	"piston/app.toml, [app.NAME.checklist]":          "[app.a.checklist]\n%s\n",
	"piston/app.toml, [[app.NAME.checklist.rule]]":   "[app.almanac]\n%s\n",
	"piston/app.toml, [[app.NAME.checklist.accept]]": "[app.a.checklist]\n%s\n",
	"piston/app.toml, [app.NAME.checklist.ask]":      "[app.a.checklist]\n%s\n",
	"a part, piston/parts/NAME.toml":                 "%s\n[[step]]\nscript = \"true\"\n",
}

// needs are the keys a table cannot do without, for examples of its other keys.
var needs = map[string]map[string]string{
	"[trigger.schedule.NAME]": {"cron": `cron = "0 4 * * *"`},
	"[job.NAME.variants]":     {"over": `over = { ABI = ["arm64-v8a", "x86_64"], KIND = ["debug", "release"] }`},
	"[job.NAME.retry]":        {"times": `times = 1`, "exit_codes": `exit_codes = [1]`},
	"[job.NAME.cache.NAME]":   {"paths": `paths = ["d"]`, "follows": `follows = ["l"]`},
	"a gate, [job.NAME.ask]":  {"who": `who = ["keeper"]`, "question": `question = "Go on?"`},
	"[[job.NAME.step]]":       {"script": `script = "true"`},
	"[job.NAME.hand.NAME]":    {"files": `files = ["a"]`},
	"[job.NAME.keep.NAME]":    {"files": `files = ["a"]`},
}

// stations is the part that examples of steps name.
const stations = "[parameter.FOLDER]\ndefault = \"depot\"\n[[step]]\nscript = \"true\"\n"

func exampleParts(name string) ([]byte, error) {
	if name == PartFile("stations") {
		return []byte(stations), nil
	}
	return nil, nil
}

// hasVerb tells whether an example of a step says what it does.
func hasVerb(sample string) bool {
	for _, kind := range action.Kinds {
		if strings.Contains(sample, kind.Key+" = {") {
			return true
		}
	}
	return strings.Contains(sample, "part = ")
}

func TestEveryExampleOfTheReferenceIsAccepted(t *testing.T) {
	tried, texts := 0, textsOfFields()
	for _, s := range sections {
		for _, f := range fields(s.t) {
			key, sample := f.Tag.Get("toml"), texts.Of(s.t, f.Name).Sample
			assert.NotEmpty(t, texts.Of(s.t, f.Name).Words, "%s of %s has no word in the reference", key, s.title)
			if sample == "" {
				continue
			}
			for other, line := range needs[s.title] {
				if !strings.Contains("\n"+sample, "\n"+other+" ") && !(other == "script" && hasVerb(sample)) {
					sample += "\n" + line
				}
			}
			frame := frames[s.title]
			if frame == "" && strings.HasPrefix(s.title, "a step's ") {
				frame = frames["[[job.NAME.step]]"]
			}
			text := strings.Replace(frame, "%s", sample, 1)
			file, parts := "piston/p.toml", Files(exampleParts)
			if s.t == reflect.TypeFor[Part]() {
				part := text
				text, parts = "[[job.a.step]]\npart = \"tried\"\n", func(string) ([]byte, error) { return []byte(part), nil }
			}
			if s.t == reflect.TypeFor[Cause]() {
				for _, needed := range []string{"name", "title", "says", "example"} {
					if also := map[string]string{"name": `"a"`, "title": `"b"`, "says": `["chart .*"]`, "example": "[]"}[needed]; !strings.Contains(text,
						needed+" =") {
						text += needed + " = " + also + "\n"
					}
				}
			}
			_, found := Parse(file, []byte(text), parts)
			if strings.HasPrefix(s.title, AppsPath) {
				_, found = ParseApps([]byte(text))
			}
			if strings.HasPrefix(s.title, CausesPath) {
				_, found = ParseCauses(CausesPath, []byte(text))
			}
			assert.Empty(t, found, "%s of %s:\n%s", key, s.title, text)
			tried++
		}
	}
	assert.Greater(t, tried, 60)
}

func TestTheReferenceNamesEveryKey(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, WriteReference(&b))
	for _, s := range sections {
		assert.Contains(t, b.String(), "## "+s.title)
		for _, f := range fields(s.t) {
			assert.Contains(t, b.String(), "| `"+f.Tag.Get("toml")+"` |")
		}
	}
}

func TestTheSchemaIsStrictToo(t *testing.T) {
	text, err := Schema()
	require.NoError(t, err)
	var schema struct {
		Schema               string `json:"$schema"`
		AdditionalProperties *bool  `json:"additionalProperties"`
		Properties           map[string]struct {
			Description string `json:"description"`
		} `json:"properties"`
	}
	require.NoError(t, json.Unmarshal(text, &schema))
	assert.Contains(t, schema.Schema, "2020-12")
	require.NotNil(t, schema.AdditionalProperties)
	assert.False(t, *schema.AdditionalProperties)
	for _, f := range fields(sections[0].t) {
		assert.NotEmpty(t, schema.Properties[f.Tag.Get("toml")].Description, f.Name)
	}
}
