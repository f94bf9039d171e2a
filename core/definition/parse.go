package definition

import (
	"errors"
	"fmt"
	"path"
	"sort"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"
)

// Folder is where a repository keeps its pipeline files.
const Folder = "piston"

// AppFile is the file of the folder that describes the app and is not a pipeline.
const AppFile = "app.toml"

// IsPipelineFile reports whether a path of a repository names a pipeline file.
func IsPipelineFile(name string) bool {
	return path.Dir(name) == Folder && path.Ext(name) == ".toml" && path.Base(name) != AppFile
}

// Parse reads one pipeline file. file is its path in the repository; the pipeline is named after it.
// The pipeline is nil when any finding is an error.
func Parse(file string, text []byte) (*Pipeline, []Finding) {
	src := source{file: file, text: text}
	if found := readable(src); found != nil {
		return nil, found
	}
	p := new(Pipeline)
	if err := toml.Unmarshal(text, p); err != nil {
		// Unknown keys explain many type errors (a misspelt table), so they come along when the text parses at all.
		found := []Finding{decodeFinding(src, err)}
		if ix, ixErr := buildIndex(text); ixErr == nil {
			found = append(found, unknownKeys(src, ix)...)
		}
		return nil, found
	}
	ix, err := buildIndex(text)
	if err != nil {
		return nil, []Finding{decodeFinding(src, err)}
	}
	found := unknownKeys(src, ix)
	p.Name = strings.TrimSuffix(path.Base(file), ".toml")
	p.complete(ix)
	found = append(found, validate(src, ix, p)...)
	sort.SliceStable(found, func(i, j int) bool { return found[i].Line < found[j].Line })
	if HasErrors(found) {
		return nil, found
	}
	return p, found
}

func readable(src source) []Finding {
	whole := func(code, message, fix string) []Finding {
		return []Finding{{Code: code, Severity: Error, File: src.file, Message: message, Fix: fix}}
	}
	if len(src.text) > MaxFileSize {
		return whole("file-too-large",
			fmt.Sprintf("the file has %d bytes; a pipeline file may have %d", len(src.text), MaxFileSize),
			"Is this a pipeline file? Only pipelines and app.toml belong in piston/; move other files elsewhere.")
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

func decodeFinding(src source, err error) Finding {
	var decode *toml.DecodeError
	if errors.As(err, &decode) {
		line, col := decode.Position()
		return src.at(position{line, col}, "bad-toml", strings.TrimPrefix(decode.Error(), "toml: "),
			"See the reference of the pipeline file, docs/reference/pipeline.md.")
	}
	return Finding{Code: "bad-toml", Severity: Error, File: src.file, Message: strings.TrimPrefix(err.Error(), "toml: "),
		Fix: "See the reference of the pipeline file, docs/reference/pipeline.md."}
}

// complete fills in what the file may leave out and the names that are keys in it.
func (p *Pipeline) complete(ix *index) {
	for name, job := range p.Job {
		if job == nil {
			continue
		}
		job.Name = name
		if len(job.Machine) == 0 {
			job.Machine = []string{DefaultMachine}
		}
		if job.Limit == "" {
			job.Limit = p.Limit
		}
		if job.Limit == "" {
			job.Limit = DefaultLimit
		}
		for cacheName, c := range job.Cache {
			c.Name = cacheName
		}
		for keepName, k := range job.Keep {
			k.Name = keepName
		}
		for i, s := range job.Step {
			s.Line = ix.place("job", name, "step", fmt.Sprint(i)).line
			if s.Name == "" {
				s.Name = firstLine(s.Script)
			}
		}
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
	names := make([]string, 0, len(p.Job))
	for name := range p.Job {
		names = append(names, name)
	}
	sort.Strings(names)
	var order []string
	placed := map[string]bool{}
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
