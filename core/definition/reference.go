package definition

import (
	"encoding/json"
	"fmt"
	"io"
	"reflect"
	"strings"

	"github.com/invopop/jsonschema"
)

// section is one table of the format: where it stands in a file, and the Go type it is read into.
type section struct {
	title string
	about string
	t     reflect.Type
}

var sections = []section{
	{"top of the file", "One file of `piston/` is one pipeline, named after the file. `piston/app.toml` is not a pipeline.", reflect.TypeFor[Pipeline]()},
	{"[version]", "", reflect.TypeFor[Version]()},
	{"[trigger.push]", "", reflect.TypeFor[Push]()},
	{"[trigger.tag]", "", reflect.TypeFor[Tag]()},
	{"[job.NAME]", "", reflect.TypeFor[Job]()},
	{"[job.NAME.cache.NAME]", "", reflect.TypeFor[Cache]()},
	{"[[job.NAME.step]]", "", reflect.TypeFor[Step]()},
	{"[job.NAME.keep.NAME]", "", reflect.TypeFor[Keep]()},
}

// WriteReference writes the reference of the pipeline file, in Markdown.
func WriteReference(w io.Writer) error {
	var b strings.Builder
	b.WriteString("# The pipeline file\n\nMade from the program by `make reference`; do not edit. TOML 1.0, read strictly: a key that is not\n" +
		"listed here is an error. Values reach a script as environment variables or files only, never as part of its text.\n")
	for _, s := range sections {
		fmt.Fprintf(&b, "\n## %s\n\n", s.title)
		if s.about != "" {
			fmt.Fprintf(&b, "%s\n\n", s.about)
		}
		b.WriteString("| key | type | meaning |\n| --- | --- | --- |\n")
		for _, f := range fields(s.t) {
			fmt.Fprintf(&b, "| `%s` | %s | %s |\n", f.Tag.Get("toml"), typeWord(f.Type), f.Tag.Get("doc"))
		}
		for _, f := range fields(s.t) {
			if ex := f.Tag.Get("sample"); ex != "" {
				fmt.Fprintf(&b, "\n```toml\n%s\n```\n", ex)
			}
		}
	}
	b.WriteString(environment)
	_, err := io.WriteString(w, b.String())
	return err
}

const environment = `
## What a step finds

Each step runs by ` + "`sh -e`" + ` in the workspace, in a sandbox: its own processes, ` + "`/tmp`" + ` and home; a read-only system; nothing of
the runner or of other jobs. Everything it has started is gone when it ends.

| variable | value |
| --- | --- |
| ` + "`PISTON_PROJECT`, `PISTON_RUN`, `PISTON_PIPELINE`, `PISTON_JOB`, `PISTON_ATTEMPT`" + ` | what is being run |
| ` + "`PISTON_TRIGGER`" + ` | ` + "`push`, `tag` or `person`" + ` |
| ` + "`PISTON_BRANCH`, `PISTON_TAG`, `PISTON_COMMIT`" + ` | of what; branch or tag may be empty |
| ` + "`PISTON_BUILD_NUMBER`" + ` | the run's number from the ledger, never issued twice |
| ` + "`PISTON_VERSION_NAME`" + ` | from the file that ` + "`[version]`" + ` names |
| ` + "`PISTON_WORKSPACE`" + ` | folder of the workspace |
| ` + "`CI`" + ` | ` + "`true`" + ` |

A secret listed in ` + "`secrets`" + ` is a variable of its name; one that was set as a file is a file, and the variable holds its path.
`

func fields(t reflect.Type) (list []reflect.StructField) {
	for i := range t.NumField() {
		if f := t.Field(i); f.Tag.Get("toml") != "-" {
			list = append(list, f)
		}
	}
	return list
}

func typeWord(t reflect.Type) string {
	switch {
	case t == reflect.TypeFor[Duration]():
		return "span of time"
	case t.Kind() == reflect.Slice && t.Elem().Kind() == reflect.String:
		return "list of texts"
	case t.Kind() == reflect.Map && t.Elem().Kind() == reflect.String:
		return "table of texts"
	case t.Kind() == reflect.String:
		return "text"
	case t.Kind() == reflect.Bool:
		return "true or false"
	case t.Kind() == reflect.Slice:
		return "list of tables"
	}
	return "table"
}

// Schema is the JSON Schema (2020-12) of the format, for editors.
func Schema() ([]byte, error) {
	r := &jsonschema.Reflector{FieldNameTag: "toml", RequiredFromJSONSchemaTags: true, DoNotReference: true, Anonymous: true,
		LookupComment: func(t reflect.Type, name string) string {
			for t.Kind() == reflect.Pointer {
				t = t.Elem()
			}
			if t.Kind() != reflect.Struct {
				return ""
			}
			f, _ := t.FieldByName(name)
			return f.Tag.Get("doc")
		}}
	s := r.Reflect(&Pipeline{})
	s.Title = "Pipeline file of Gentle Piston"
	return json.MarshalIndent(s, "", "  ")
}
