package definition

import (
	"fmt"
	"path"
	"regexp"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
)

// validator collects what is wrong in a file that decodes.
type validator struct {
	src   source
	ix    *index
	found []Finding
}

func validate(src source, ix *index, p *Pipeline) []Finding {
	v := &validator{src: src, ix: ix}
	if !nameForm.MatchString(p.Name) {
		v.add("bad-name", fmt.Sprintf("the file's name makes the pipeline's name, and %q is none", p.Name), nameFix)
	}
	v.duration(p.Limit, "limit")
	v.env(p.Env, "env")
	if p.Version != nil {
		v.relative(p.Version.File, "version", "file")
	}
	if p.Trigger.Push != nil {
		v.globs(p.Trigger.Push.Branches, "trigger", "push", "branches")
	}
	if p.Trigger.Tag != nil {
		v.globs(p.Trigger.Tag.Names, "trigger", "tag", "names")
	}
	if len(p.Job) == 0 {
		v.add("no-jobs", "the pipeline has no job", "Add one, for example:\n        [[job.build.step]]\n        script = \"make\"")
	}
	for _, name := range sortedKeys(p.Job) {
		v.job(p, name)
	}
	v.cycles(p)
	return v.found
}

var (
	nameForm   = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_-]{0,62}$`)
	envForm    = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)
	nameFix    = "Use 1 to 63 letters, digits, - and _, beginning with a letter or digit."
	maxLimit   = 7 * 24 * time.Hour
	labelForm  = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)
	maxJobs    = 1000
	maxSteps   = 500
	maxNameLen = 200
)

// SecretNameForm is what a secret's name looks like: a portable environment variable (POSIX.1-2017, 8.1).
var SecretNameForm = envForm

func (v *validator) add(code, message, fix string, at ...string) {
	v.found = append(v.found, v.src.at(v.ix.place(at...), code, message, fix))
}

func (v *validator) job(p *Pipeline, name string) {
	job, at := p.Job[name], []string{"job", name}
	in := func(more ...string) []string { return append(append([]string(nil), at...), more...) }
	if !nameForm.MatchString(name) {
		v.add("bad-name", fmt.Sprintf("%q is no name for a job", name), nameFix, at...)
	}
	if len(p.Job) > maxJobs {
		v.add("too-many", fmt.Sprintf("%d jobs; a pipeline may have %d", len(p.Job), maxJobs), "Split the pipeline.", at...)
		return
	}
	v.duration(job.Limit, in("limit")...)
	v.env(job.Env, in("env")...)
	for i, label := range job.Machine {
		if !labelForm.MatchString(label) {
			v.add("bad-label", fmt.Sprintf("%q is no label of a machine", label),
				"Use lower-case letters, digits, dots, - and _, such as linux or arm64.", in("machine", strconv.Itoa(i))...)
		}
	}
	for i, other := range job.After {
		if _, ok := p.Job[other]; !ok {
			fix := "Jobs of this file: " + strings.Join(sortedKeys(p.Job), ", ") + "."
			if near := nearest(other, sortedKeys(p.Job)); near != "" {
				fix = fmt.Sprintf("Did you mean %q?", near)
			}
			v.add("unknown-job", fmt.Sprintf("job %q waits for %q, which is not in this file", name, other), fix, in("after", strconv.Itoa(i))...)
		}
	}
	if job.History != "" && job.History != "shallow" && job.History != "full" {
		v.add("bad-value", fmt.Sprintf("history is %q", job.History), `Use "shallow" or "full".`, in("history")...)
	}
	v.caches(job, in)
	if len(job.Step) == 0 {
		v.add("no-steps", fmt.Sprintf("job %q has no step", name),
			fmt.Sprintf("Add one:\n        [[job.%s.step]]\n        script = \"make\"", name), at...)
	}
	if len(job.Step) > maxSteps {
		v.add("too-many", fmt.Sprintf("%d steps; a job may have %d", len(job.Step), maxSteps), "Split the job.", at...)
	}
	for i := range job.Step {
		v.step(job.Step[i], in("step", strconv.Itoa(i)))
	}
	for _, keepName := range sortedKeys(job.Keep) {
		keep := job.Keep[keepName]
		v.name(keepName, "artifact", in("keep", keepName)...)
		if len(keep.Files) == 0 {
			v.add("missing-key", fmt.Sprintf("artifact %q names no files", keepName), `Add files = ["out/app.apk"].`, in("keep", keepName)...)
		}
		for i, glob := range keep.Files {
			v.glob(glob, in("keep", keepName, "files", strconv.Itoa(i))...)
		}
	}
}

func (v *validator) caches(job *Job, in func(...string) []string) {
	for _, cacheName := range sortedKeys(job.Cache) {
		cache := job.Cache[cacheName]
		v.name(cacheName, "cache", in("cache", cacheName)...)
		if len(cache.Paths) == 0 {
			v.add("missing-key", fmt.Sprintf("cache %q has no paths", cacheName), `Add paths = ["folder"].`, in("cache", cacheName)...)
		}
		if len(cache.Follows) == 0 {
			v.add("missing-key", fmt.Sprintf("cache %q follows nothing, so it could never change", cacheName),
				`Add follows = ["the.lock"], the file that decides what is in the folder.`, in("cache", cacheName)...)
		}
		for i, p := range cache.Paths {
			v.relative(p, in("cache", cacheName, "paths", strconv.Itoa(i))...)
		}
		for i, glob := range cache.Follows {
			v.glob(glob, in("cache", cacheName, "follows", strconv.Itoa(i))...)
		}
	}
}

func (v *validator) step(s *Step, at []string) {
	in := func(more ...string) []string { return append(append([]string(nil), at...), more...) }
	if strings.TrimSpace(s.Script) == "" {
		v.add("missing-key", "the step has no script", `Add script = "make".`, at...)
	}
	if strings.ContainsRune(s.Script, 0) {
		v.add("bad-value", "the script holds a NUL character", "Remove it.", in("script")...)
	}
	if strings.ContainsAny(s.Name, "\n\r\x00") || len(s.Name) > maxNameLen {
		v.add("bad-name", "a step's name is one line of at most 200 bytes", "Shorten the name.", in("name")...)
	}
	v.env(s.Env, in("env")...)
	v.duration(s.Limit, in("limit")...)
	if s.Dir != "" {
		v.relative(s.Dir, in("dir")...)
	}
	if s.Network != "" && s.Network != "none" && s.Network != "host" {
		v.add("bad-value", fmt.Sprintf("network is %q", s.Network), `Use "host" or "none".`, in("network")...)
	}
	for i, name := range s.Secrets {
		v.secret(name, in("secrets", strconv.Itoa(i))...)
	}
	for _, name := range sortedKeys(s.SecretFiles) {
		v.secret(name, in("secret_files", name)...)
		v.relative(s.SecretFiles[name], in("secret_files", name)...)
	}
	for i, glob := range s.TestReports {
		v.glob(glob, in("test_reports", strconv.Itoa(i))...)
	}
}

func (v *validator) name(name, what string, at ...string) {
	if !nameForm.MatchString(name) {
		v.add("bad-name", fmt.Sprintf("%q is no name for a %s", name, what), nameFix, at...)
	}
}

func (v *validator) secret(name string, at ...string) {
	if !SecretNameForm.MatchString(name) || strings.HasPrefix(name, reservedPrefix) {
		v.add("bad-name", fmt.Sprintf("%q is no name for a secret", name),
			"Use letters, digits and _, not beginning with a digit or with PISTON_.", at...)
	}
}

// reservedPrefix begins the variables the service itself sets.
const reservedPrefix = "PISTON_"

func (v *validator) env(env map[string]string, at ...string) {
	for _, name := range sortedKeys(env) {
		place := append(append([]string(nil), at...), name)
		switch {
		case !envForm.MatchString(name):
			v.add("bad-name", fmt.Sprintf("%q is no name for an environment variable", name),
				"Use letters, digits and _, not beginning with a digit.", place...)
		case strings.HasPrefix(name, reservedPrefix):
			v.add("bad-name", fmt.Sprintf("%s: names beginning with PISTON_ are set by the service", name), "Choose another name.", place...)
		case strings.ContainsRune(env[name], 0):
			v.add("bad-value", fmt.Sprintf("the value of %s holds a NUL character", name), "Remove it.", place...)
		}
	}
}

func (v *validator) duration(d Duration, at ...string) {
	if d == "" {
		return
	}
	value, err := time.ParseDuration(string(d))
	if err != nil || value <= 0 || value > maxLimit {
		v.add("bad-duration", fmt.Sprintf("%q is no span of time between 1ns and 7 days", string(d)),
			`Write a number with a unit: "90s", "30m", "1h30m".`, at...)
	}
}

func (v *validator) globs(globs []string, at ...string) {
	for i, glob := range globs {
		if glob == "" || !doublestar.ValidatePattern(glob) {
			v.add("bad-glob", fmt.Sprintf("%q is no glob", glob), "Check brackets and braces; ** crosses slashes.",
				append(append([]string(nil), at...), strconv.Itoa(i))...)
		}
	}
}

// glob checks a pattern of workspace files.
func (v *validator) glob(glob string, at ...string) {
	if !v.relative(glob, at...) {
		return
	}
	if !doublestar.ValidatePattern(glob) {
		v.add("bad-glob", fmt.Sprintf("%q is no glob", glob), "Check brackets and braces; ** crosses slashes.", at...)
	}
}

// relative checks a path that must stay in the workspace.
func (v *validator) relative(p string, at ...string) bool {
	clean := path.Clean(p)
	switch {
	case p == "":
		v.add("bad-path", "the path is empty", "Name a file or folder of the repository.", at...)
	case path.IsAbs(p):
		v.add("bad-path", fmt.Sprintf("%q begins at the root of the machine", p), "Use a path from the top of the repository.", at...)
	case clean == ".." || strings.HasPrefix(clean, "../"):
		v.add("bad-path", fmt.Sprintf("%q leaves the workspace", p), "Use a path inside the repository.", at...)
	case strings.ContainsAny(p, "\x00\n"):
		v.add("bad-path", "the path holds a NUL or a line break", "Remove it.", at...)
	case clean == ".git" || strings.HasPrefix(clean, ".git/"):
		v.add("bad-path", fmt.Sprintf("%q is in the repository's own .git folder", p), "Use a path of the work tree.", at...)
	default:
		return true
	}
	return false
}

// cycles finds jobs that wait for each other and names the whole circle.
func (v *validator) cycles(p *Pipeline) {
	const (
		fresh = iota
		open
		done
	)
	mark := map[string]int{}
	var visit func(name string, trail []string)
	visit = func(name string, trail []string) {
		mark[name] = open
		trail = append(trail, name)
		for i, next := range p.Job[name].After {
			if p.Job[next] == nil {
				continue
			}
			switch mark[next] {
			case fresh:
				visit(next, trail)
			case open:
				from := 0
				for trail[from] != next {
					from++
				}
				v.add("cycle", "jobs wait for each other: "+strings.Join(append(append([]string(nil), trail[from:]...), next), " → "),
					"Remove one of these after entries.", "job", name, "after", strconv.Itoa(i))
			}
		}
		mark[name] = done
	}
	for _, name := range sortedKeys(p.Job) {
		if mark[name] == fresh {
			visit(name, nil)
		}
	}
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}
