package definition

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/action"
)

func TestEachActionIsAKeyOfASteps(t *testing.T) {
	require.Len(t, actionFields(), len(action.Kinds))
	for i, kind := range action.Kinds {
		assert.Equal(t, kind.Key, actionFields()[i].Tag.Get("toml"))
		assert.Equal(t, kind.Type, actionFields()[i].Type.Elem())
	}
}

func TestAStepThatIsANote(t *testing.T) {
	p, found := Parse("piston/p.toml", []byte(`env = { MODE = "release" }
[input.size]
[job.a]
variants = { over = { ABI = ["arm", "x86"] } }
[[job.a.step]]
note = { file = "out/${ABI}.md", text = "${ABI} ${MODE} ${PISTON_RUN} ${PISTON_INPUT_SIZE}" }
always = true
limit = "5s"
[[job.a.step]]
part = "sizes"
with = { WHAT = "app" }
`), func(string) ([]byte, error) {
		return []byte("[parameter.WHAT]\n[[step]]\nnote = { text = \"of ${WHAT}\", file = \"out/${WHAT}.md\" }\n"), nil
	})
	require.Empty(t, found)
	s := p.Job["a+x86"].Step[0]
	assert.Equal(t, "out/x86.md", s.Note.File)
	assert.Equal(t, "note", s.Name)
	assert.Contains(t, s.Note.Text, "${ABI}", "texts are filled in when the step runs")
	assert.Equal(t, "out/arm.md", p.Job["a+arm"].Step[0].Note.File)
	of := p.Job["a+arm"].Step[1]
	assert.Equal(t, "out/app.md", of.Note.File)
	assert.Equal(t, "app", of.Env["WHAT"])
	explained := map[string]string{}
	for _, v := range p.Explain() {
		explained[v.Key] = v.Text
	}
	assert.Equal(t, `"out/arm.md"`, explained[`job."a+arm".step[0].note.file`])
}

func TestWhatANoteMayNotSay(t *testing.T) {
	for text, says := range map[string]string{
		"note = {}":              "neither text nor file",
		"note = { txt = \"x\" }": `unknown key "txt"`,
		"note = { text = \"x\" }\nscript = \"true\"":    "the step has script and note",
		"note = { text = \"x\" }\nnetwork = \"none\"":   "network says nothing beside note",
		"note = { text = \"x\" }\nenv = { A = \"b\" }":  "env says nothing beside note",
		"note = { text = \"x\" }\nsecrets = [\"KEY\"]":  "secrets says nothing beside note",
		"note = { text = \"${ABJ}\" }":                  "${ABJ} stands for nothing",
		"note = { text = \"a\\u0000b\" }":               "NUL",
		"note = { file = \"/etc/passwd\" }":             "begins at the root",
		"note = { file = \"../x\" }":                    "leaves the workspace",
		"note = { file = \"out/${ABJ}.md\" }":           "${ABJ} stands for nothing",
		"note = { text = 5 }":                           "text",
		"note = \"x\"":                                  "",
		"part = \"p\"\nnote = { text = \"x\" }":         "the step has part and note",
		"note = { text = \"x\" }\nwith = { A = \"b\" }": "with says nothing beside note",
	} {
		_, found := Parse("piston/p.toml", []byte("[[job.a.step]]\n"+text+"\n"), nil)
		require.NotEmpty(t, found, text)
		assert.Contains(t, found[0].String(), says, text)
		assert.Positive(t, found[0].Line, text)
	}
}

func TestWhatAPackageMayNotSay(t *testing.T) {
	bundle, into := `bundle = "out/t.aab"`, `into = "out/t.apk"`
	for text, says := range map[string]string{
		``:                                       "package names 0 files",
		`modules = ["base.zip"]`:                 `"" is no file of the workspace that ends in .aab`,
		`modules = ["base.zip"], into = "t.zip"`: "ends in .aab",
		`modules = ["../base.zip"], into = "t.aab"`:                 "no glob of files in the workspace",
		`modules = ["b.zip"], ` + into + `, ` + bundle:              "it makes one thing",
		`modules = ["b.zip"], into = "t.aab", device = {}`:          "an app bundle is for all devices",
		bundle + `, into = "/t.apk"`:                                "ends in .apk",
		bundle + `, into = "../t.apk"`:                              "ends in .apk",
		`bundle = "../t.aab", ` + into:                              `"../t.aab" is no file of the workspace`,
		bundle + `, mapping = "m", ` + into:                         "an APK has no mapping",
		bundle + `, device = { processor = "z80" }, ` + into:        `"z80" is no processor`,
		bundle + `, device = { density = -1 }, ` + into:             "no density of -1",
		bundle + `, device = { level = 5000 }, ` + into:             "no level 5000",
		bundle + `, device = { languages = ["--help=;"] }, ` + into: "is no language",
		bundle + `, device = { screen = 3 }, ` + into:               `unknown key "screen"`,
	} {
		_, found := Parse("piston/p.toml", []byte("[[job.a.step]]\npackage = { "+text+" }\n"), nil)
		require.NotEmpty(t, found, text)
		assert.Contains(t, found[0].String(), says, text)
	}
	p, found := Parse("piston/p.toml", []byte(`[job.a]
variants = { over = { ABI = ["arm", "x86"] } }
[[job.a.step]]
package = { modules = ["out/${ABI}/*.zip"], into = "out/${ABI}.aab" }
[[job.a.step]]
sign = { files = ["out/${ABI}.aab"], into = "out/signed/${ABI}" }
[[job.a.step]]
checklist = { files = ["out/signed/${ABI}/*"], symbols = ["${ABI}"] }
`), nil)
	require.Empty(t, found)
	for _, abi := range []string{"arm", "x86"} {
		steps := p.Job["a+"+abi].Step
		assert.Equal(t, []string{"out/" + abi + "/*.zip", "out/" + abi + ".aab", "out/" + abi + ".aab", "out/signed/" + abi,
			"out/signed/" + abi + "/*", abi}, []string{steps[0].Package.Modules[0], steps[0].Package.Into,
			steps[1].Sign.Files[0], steps[1].Sign.Into, steps[2].Checklist.Files[0], steps[2].Checklist.Symbols[0]})
	}
	p, found = Parse("piston/p.toml", []byte("[[job.a.step]]\npackage = { "+bundle+", "+into+
		", device = { processor = \"x86\", languages = [\"pt-rBR\"] } }\n"), nil)
	require.Empty(t, found)
	assert.Equal(t, "x86", p.Job["a"].Step[0].Package.Device.Processor)
}
