package definition

import (
	"encoding/json"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"

	"github.com/invopop/jsonschema"

	"gentlepiston.example/piston/core/action"
	"gentlepiston.example/piston/core/condition"
	"gentlepiston.example/piston/core/fielddoc"
)

// section is one table of the format: where it stands in a file, and the Go type it is read into.
type section struct {
	title string
	about string
	t     reflect.Type
}

var sections = slices.Concat([]section{
	{"top of the file", "One file of `piston/` is one pipeline, named after the file. `piston/app.toml` is not a " +
		"pipeline.", reflect.TypeFor[Pipeline]()},
	{"[version]", "", reflect.TypeFor[Version]()},
	{"[trigger.push]", "A commit whose message has the trailer `Piston-Run: no` starts nothing.", reflect.TypeFor[Push]()},
	{"[trigger.tag]", "", reflect.TypeFor[Tag]()},
	{"[trigger.proposal]",
		"A proposal is reported by a signed webhook, or pushed to `refs/proposals/TARGET/NAME` of a repository with the " +
			"hook. One from outside is untrusted: it never gets a secret.", reflect.TypeFor[Proposal]()},
	{"[trigger.schedule.NAME]", "Times that pass while the service is down are made up for by one run, which says so.",
		reflect.TypeFor[Schedule]()},
	{"[trigger.pipeline.NAME]", "", reflect.TypeFor[Ended]()},
	{"[input.NAME]", "Steps find the value in `PISTON_INPUT_NAME` (in capitals, - as _), conditions in `input.NAME`.",
		reflect.TypeFor[Input]()},
	{"[job.NAME]", "", reflect.TypeFor[Job]()},
	{"[job.NAME.variants]",
		"Each combination is a job of its own, called `JOB+VALUE+VALUE` with the values in the order of their names. In " +
			"paths, `${NAME}` stands for the value; in scripts the variable does.", reflect.TypeFor[Variants]()},
	{"[job.NAME.limits]",
		"Over a limit the job fails and says over which. Where a machine has control groups they bound the whole job at " +
			"once; elsewhere the runner looks every quarter of a second.", reflect.TypeFor[Limits]()},
	{"[job.NAME.retry]", "", reflect.TypeFor[Retry]()},
	{"a gate, [job.NAME.ask]", "A job with `ask` waits for people and holds no machine. It has no steps; besides its " +
		"question it may have `about`, `after`, `when` and `always`. Enough who say yes let the jobs after it begin; " +
		"one who says no ends it. While nothing else of the run is at work, the run is `waiting`: it keeps its place in " +
		"its group, and its limit stands still.", reflect.TypeFor[Ask]()},
	{"[job.NAME.cache.NAME]", "", reflect.TypeFor[Cache]()},
	{"[[job.NAME.step]]", "A step does one thing: it has a script, names a part, or has one of the actions below. " +
		"Whatever it does, it may have `name`, `when`, `always`, `advisory` and `limit`; the other keys belong to scripts.",
		reflect.TypeFor[Step]()},
}, actionSections(), []section{
	{"[job.NAME.hand.NAME]", "", reflect.TypeFor[Hand]()},
	{"[job.NAME.keep.NAME]", "", reflect.TypeFor[Keep]()},
	{"a part, piston/parts/NAME.toml",
		"A part is a piece of a job that several pipelines share. A step with `part = \"NAME\"` is replaced by its steps; " +
			"its caches, tools, hands and artifacts become the job's. `piston explain` shows what comes of it.",
		reflect.TypeFor[Part]()},
	{"piston/app.toml, [app.NAME]",
		"What is true of an app, whichever pipeline builds it. Nobody needs the file: without it there is one app, whose " +
			"versions are found in the usual kinds of files. `piston versions` shows where.", reflect.TypeFor[App]()},
	{"piston/app.toml, [app.NAME.build]", "", reflect.TypeFor[Numbering]()},
	{"piston/app.toml, [app.NAME.notes]", "What those who use the app are told of a release. Without it, and " +
		"where there is no file, the commits since the last release are its draft.", reflect.TypeFor[AppNotes]()},
	{"piston/app.toml, [app.NAME.checklist]", "What the packages of the app must meet, besides what every package must " +
		"(`docs/reference/findings.md`).", reflect.TypeFor[AppChecklist]()},
	{"piston/app.toml, [[app.NAME.checklist.rule]]", "", reflect.TypeFor[OwnRule]()},
	{"piston/app.toml, [[app.NAME.checklist.accept]]", "", reflect.TypeFor[Acceptance]()},
	{"piston/app.toml, [app.NAME.checklist.ask]", "", reflect.TypeFor[RuleAsk]()},
	{"piston/causes.toml, [[cause]]", "What fails with your team, by what it is known and what to do: told with a run " +
		"that failed, before the causes the service knows by itself (`piston causes` lists those).",
		reflect.TypeFor[Cause]()},
	{"piston/app.toml, [[app.NAME.place]]", "Where a version stands that is not found by itself.",
		reflect.TypeFor[AppPlace]()},
})

// actionSections are those of the actions, from their types.
func actionSections() (list []section) {
	for _, kind := range action.Kinds {
		list = append(list, section{"a step's " + kind.Key, kind.About, kind.Type})
		for _, f := range fields(kind.Type) { // tables in it
			if f.Type.Kind() == reflect.Pointer {
				key := f.Tag.Get("toml")
				list = append(list, section{"a step's " + kind.Key + ", " + key, "", f.Type.Elem()})
			}
		}
	}
	return list
}

// textsOfFields reads what the keys mean.
func textsOfFields() fielddoc.Texts { return fielddoc.Read(Source, action.Source) }

// WriteReference writes the reference of the pipeline file, in Markdown.
func WriteReference(w io.Writer) error {
	var b strings.Builder
	texts := textsOfFields()
	b.WriteString("# The pipeline file\n\nMade from the program by `make reference`; do not edit. TOML 1.0, read " +
		"strictly: a key that is not\n" +
		"listed here is an error. Values reach a script as environment variables or files only, never as part of its text.\n")
	for _, s := range sections {
		fmt.Fprintf(&b, "\n## %s\n\n", s.title)
		if s.about != "" {
			fmt.Fprintf(&b, "%s\n\n", s.about)
		}
		b.WriteString("| key | type | meaning |\n| --- | --- | --- |\n")
		for _, f := range fields(s.t) {
			words := texts.Of(s.t, f.Name).Words
			fmt.Fprintf(&b, "| `%s` | %s | %s |\n", f.Tag.Get("toml"), typeWord(f.Type), words)
		}
		for _, f := range fields(s.t) {
			if ex := texts.Of(s.t, f.Name).Sample; ex != "" {
				fmt.Fprintf(&b, "\n```toml\n%s\n```\n", ex)
			}
		}
	}
	b.WriteString("\n## Conditions\n\n`when` is an expression of the Common Expression Language " +
		"([CEL](https://github.com/google/cel-spec)) that is true or false. It may use:\n\n| name | type | meaning |\n| " +
		"--- | --- | --- |\n")
	for _, word := range condition.Words {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", word.Name, word.Type, word.Means)
	}
	b.WriteString(environment)
	_, err := io.WriteString(w, b.String())
	return err
}

const environment = `
## What a step finds

Each step runs by ` + "`sh -e`" + ` in the workspace, in a sandbox: its own processes, ` + "`/tmp`" +
	` and home; a read-only system; nothing of
the runner or of other jobs. Everything it has started is gone when it ends.

| variable | value |
| --- | --- |
| ` + "`PISTON_PROJECT`, `PISTON_RUN`, `PISTON_PIPELINE`, `PISTON_JOB`, `PISTON_ATTEMPT`" + ` | what is being run |
| ` + "`PISTON_TRIGGER`" + ` | ` + "`push`, `tag`, `proposal`, `schedule`, `pipeline` or `person`" + ` |
| ` + "`PISTON_BRANCH`, `PISTON_TAG`, `PISTON_COMMIT`" + ` | of what; branch or tag may be empty |
| ` + "`PISTON_TARGET`, `PISTON_TRUSTED`" + ` | for a proposal: where it wants to; ` + "`false`" +
	` when it is from outside |
| ` + "`PISTON_INPUT_…`" + ` | the inputs, each by its name in capitals |
| ` + "`PISTON_BUILD_NUMBER`" + ` | the run's number from the ledger, never issued twice |
| ` + "`PISTON_VERSION_NAME`" + ` | from the file that ` + "`[version]`" + ` names |
| ` + "`PISTON_WORKSPACE`" + ` | folder of the workspace |
| ` + "`PISTON_HIDE`" + ` | file to append further secrets to, one a line |
| ` + "`TRACEPARENT`" + ` | what a program's own spans belong to (W3C Trace Context); not for steps with ` +
	"`inputs`" + ` |
| ` + "`CI`" + ` | ` + "`true`" + ` |

A secret listed in ` + "`secrets`" +
	` is a variable of its name; one that was set as a file is a file, and the variable holds its path.
Wherever a secret appears in what the job prints, in a test report or in the name of an artifact, it is hidden: raw,
in Base64, hexadecimal, percent-encoded, escaped, line by line. A step that gets hold of further secrets, such as a
token it exchanged one for, appends each as a line to the file that ` + "`PISTON_HIDE`" + ` names before it prints
anything; from then on they are hidden too.
`

func fields(t reflect.Type) (list []reflect.StructField) {
	for i := range t.NumField() {
		if f := t.Field(i); f.IsExported() && f.Tag.Get("toml") != "-" {
			list = append(list, f)
		}
	}
	return list
}

func typeWord(t reflect.Type) string {
	switch {
	case t == reflect.TypeFor[Duration]():
		return "span of time"
	case t == reflect.TypeFor[Size]():
		return "size"
	case t.Kind() == reflect.Slice && t.Elem().Kind() == reflect.String:
		return "list of texts"
	case t.Kind() == reflect.Map && t.Elem().Kind() == reflect.String:
		return "table of texts"
	case t.Kind() == reflect.String:
		return "text"
	case t.Kind() == reflect.Int:
		return "number"
	case t.Kind() == reflect.Interface:
		return "text, number, true or false"
	case t.Kind() == reflect.Slice && t.Elem().Kind() == reflect.Int:
		return "list of numbers"
	case t.Kind() == reflect.Bool:
		return "true or false"
	case t.Kind() == reflect.Slice:
		return "list of tables"
	}
	return "table"
}

// Schema is the JSON Schema (2020-12) of the format, for editors.
func Schema() ([]byte, error) {
	texts := textsOfFields()
	r := &jsonschema.Reflector{FieldNameTag: "toml", RequiredFromJSONSchemaTags: true, DoNotReference: true,
		Anonymous:     true,
		LookupComment: func(t reflect.Type, name string) string { return texts.Of(t, name).Words }}
	s := r.Reflect(&Pipeline{})
	s.Title = "Pipeline file of Gentle Piston"
	return json.MarshalIndent(s, "", "  ")
}
