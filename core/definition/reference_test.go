package definition

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// frames put a key's example where it belongs in a whole file.
var frames = map[string]string{
	"top of the file":       "%s\n[[job.a.step]]\nscript = \"true\"\n",
	"[version]":             "[version]\n%s\n[[job.a.step]]\nscript = \"true\"\n",
	"[trigger.push]":        "[trigger.push]\n%s\n[[job.a.step]]\nscript = \"true\"\n",
	"[trigger.tag]":         "[trigger.tag]\n%s\n[[job.a.step]]\nscript = \"true\"\n",
	"[job.NAME]":            "[job.core]\n[[job.core.step]]\nscript = \"true\"\n[job.a]\n%s\n[[job.a.step]]\nscript = \"true\"\n",
	"[job.NAME.cache.NAME]": "[[job.a.step]]\nscript = \"true\"\n[job.a.cache.c]\n%s\n",
	"[[job.NAME.step]]":     "[[job.a.step]]\n%s\n",
	"[job.NAME.keep.NAME]":  "[[job.a.step]]\nscript = \"true\"\n[job.a.keep.k]\n%s\n",
}

// needs are the keys a table cannot do without, for examples of its other keys.
var needs = map[string]map[string]string{
	"[job.NAME.cache.NAME]": {"paths": `paths = ["d"]`, "follows": `follows = ["l"]`},
	"[[job.NAME.step]]":     {"script": `script = "true"`},
	"[job.NAME.keep.NAME]":  {"files": `files = ["a"]`},
}

func TestEveryExampleOfTheReferenceIsAccepted(t *testing.T) {
	tried := 0
	for _, s := range sections {
		for _, f := range fields(s.t) {
			key, sample := f.Tag.Get("toml"), f.Tag.Get("sample")
			assert.NotEmpty(t, f.Tag.Get("doc"), "%s of %s has no word in the reference", key, s.title)
			if sample == "" {
				continue
			}
			for other, line := range needs[s.title] {
				if other != key {
					sample += "\n" + line
				}
			}
			text := strings.Replace(frames[s.title], "%s", sample, 1)
			_, found := Parse("piston/p.toml", []byte(text))
			assert.Empty(t, found, "%s of %s:\n%s", key, s.title, text)
			tried++
		}
	}
	assert.Greater(t, tried, 20)
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
