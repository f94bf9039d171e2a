package definition

import (
	"errors"
	"fmt"
	"path"
	"reflect"
	"sort"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"

	"gentlepiston.example/piston/core/bound"
)

// Folder is where a repository keeps its pipeline files.
const Folder = "piston"

// AppFile is the file of the folder that describes the app and is not a pipeline.
const AppFile = "app.toml"

// IsPipelineFile reports whether a path of a repository names a pipeline file.
func IsPipelineFile(name string) bool {
	return path.Dir(name) == Folder && path.Ext(name) == ".toml" && path.Base(name) != AppFile &&
		path.Base(name) != CausesFile
}

// Files reads a file of the repository that a pipeline refers to; nil text and no error when it is not there.
type Files func(name string) ([]byte, error)

// Parse reads one pipeline file. file is its path in the repository; the pipeline is named after it. parts reads the
// files of parts; it may be nil when there are none.
// The pipeline is nil when any finding is an error. Findings are in the order of their places.
func Parse(file string, text []byte, parts Files) (*Pipeline, []Finding) {
	p := new(Pipeline)
	ix, found := decode(&source{file: file, text: text}, p)
	if ix == nil {
		return nil, Foremost(found)
	}
	p.Name, p.ix = strings.TrimSuffix(path.Base(file), ".toml"), ix
	p.complete()
	if partly := p.putPartsIn(parts); HasErrors(partly) {
		found = append(found, partly...)
		sortFindings(found)
		return nil, Foremost(found)
	}
	p.giveToService()
	v := &validator{ix: p.ix}
	v.pipeline(p)
	if !HasErrors(v.found) {
		p.layOutVariants(v)
		v.graph(p)
	}
	found = append(found, v.found...)
	sortFindings(found)
	if HasErrors(found) {
		return nil, Foremost(found)
	}
	return p, found
}

// Foremost cuts a list of findings after the first that are worth telling.
func Foremost(found []Finding) []Finding {
	if len(found) <= MaxFindings {
		return found
	}
	last := found[MaxFindings]
	last.Line, last.Col, last.Excerpt = 0, 0, ""
	last.Code, last.Fix = "too-many", "Mend these first, then ask again."
	last.Message = fmt.Sprintf("%d more complaints are not told", len(found)-MaxFindings)
	return append(found[:MaxFindings:MaxFindings], last)
}

// sortFindings orders by place.
func sortFindings(found []Finding) {
	sort.SliceStable(found, func(i, j int) bool {
		a, b := found[i], found[j]
		if a.File != b.File {
			return a.File < b.File
		}
		return a.Line < b.Line
	})
}

// decode reads a file into a value and notes where everything is. The index is nil when that fails.
func decode(src *source, into any) (*index, []Finding) {
	if found := readable(src); found != nil {
		return nil, found
	}
	err := toml.Unmarshal(src.text, into)
	ix, indexErr := buildIndex(src)
	if err == nil {
		err = indexErr
	}
	var found []Finding
	if err != nil {
		found = append(found, decodeFinding(src, err))
	}
	// Unknown keys explain many type errors (a misspelt table), so they come along when the text parses at all.
	if indexErr == nil {
		found = append(found, unknownKeys(ix, reflect.TypeOf(into))...)
	}
	if err != nil {
		return nil, found
	}
	return ix, found
}

func readable(src *source) []Finding {
	whole := func(code, message, fix string) []Finding {
		return []Finding{{Code: code, Severity: Error, File: src.file, Message: message, Fix: fix}}
	}
	if len(src.text) > MaxFileSize {
		return whole("file-too-large",
			fmt.Sprintf("the file has more than %d bytes, the most a pipeline file may have", MaxFileSize),
			"Is this a pipeline file? Only pipelines, their parts and app.toml belong in piston/; move other files elsewhere.")
	}
	if m := bound.TOML(src.text); m.Depth > maxDepth || m.Values > maxValues {
		return whole("too-many",
			fmt.Sprintf("the file nests %d deep and holds %d values; it may nest %d deep and hold %d", m.Depth, m.Values,
				maxDepth, maxValues),
			"Is this a pipeline file? Split the pipeline, or make one job of several by variants.")
	}
	if !utf8.Valid(src.text) {
		line, col := 1, 1
		for i := 0; i < len(src.text); {
			r, size := utf8.DecodeRune(src.text[i:])
			if r == utf8.RuneError && size == 1 {
				break
			}
			if r == '\n' {
				line, col = line+1, 0
			}
			i, col = i+size, col+1
		}
		return []Finding{{Code: "not-utf8", Severity: Error, File: src.file, Line: line, Col: col,
			Message: "the file is not UTF-8 text; TOML requires it (TOML 1.0, Spec)",
			Fix:     "Save the file as UTF-8 in your editor."}}
	}
	return nil
}

func decodeFinding(src *source, err error) Finding {
	var decode *toml.DecodeError
	if errors.As(err, &decode) {
		line, col := decode.Position()
		return position{src, line, col}.finding("bad-toml", strings.TrimPrefix(decode.Error(), "toml: "),
			"See the reference of the pipeline file, docs/reference/pipeline.md.")
	}
	return Finding{Code: "bad-toml", Severity: Error, File: src.file, Message: strings.TrimPrefix(err.Error(), "toml: "),
		Fix: "See the reference of the pipeline file, docs/reference/pipeline.md."}
}

// complete fills in what the file may leave out and the names that are keys in it.
func (p *Pipeline) complete() {
	for name, input := range p.Input {
		input.Name = name
	}
	for name, job := range p.Job {
		if job == nil {
			job = new(Job)
			p.Job[name] = job
		}
		job.Name, job.written = name, name
		if job.Ask != nil {
			continue // nothing of it is for a machine
		}
		if len(job.Machine) == 0 {
			job.Machine = []string{DefaultMachine}
		}
		if job.Limit == "" {
			job.Limit = p.Limit
		}
		if job.Limit == "" {
			job.Limit = DefaultLimit
		}
		job.nameItems()
		for i, s := range job.Step {
			s.Line = p.ix.place("job", name, "step", fmt.Sprint(i)).line
		}
	}
}

// nameItems gives what stands in tables by name its name.
func (j *Job) nameItems() {
	for name, c := range j.Cache {
		c.Name = name
	}
	for name, h := range j.Hand {
		h.Name = name
	}
	for name, k := range j.Keep {
		k.Name = name
	}
}

func firstLine(script string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(script), "\n")
	if runes := []rune(line); len(runes) > 60 {
		return string(runes[:59]) + "…"
	}
	return line
}

// JobNames returns the names of the jobs, each after the jobs it waits for, otherwise in alphabetical order.
func (p *Pipeline) JobNames() []string {
	names := sortedKeys(p.Job)
	order := make([]string, 0, len(names))
	placed := make(map[string]bool, len(names))
	for len(order) < len(names) {
		before := len(order)
		for _, name := range names {
			if !placed[name] && allPlaced(p.Job[name].After, placed) {
				placed[name] = true
				order = append(order, name)
			}
		}
		if len(order) == before {
			break // a cycle, which Parse refuses
		}
	}
	return order
}

func allPlaced(names []string, placed map[string]bool) bool {
	for _, n := range names {
		if !placed[n] {
			return false
		}
	}
	return true
}
