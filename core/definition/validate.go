package definition

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/version"
)

// validator collects what is wrong in a file that decodes.
type validator struct {
	ix    *index
	found []Finding
}

// pipeline checks a pipeline as it is written, with its parts put in.
func (v *validator) pipeline(p *Pipeline) {
	if !nameForm.MatchString(p.Name) {
		v.add("bad-name", fmt.Sprintf("the file's name makes the pipeline's name, and %q is none", p.Name), nameFix)
	}
	v.duration(p.Limit, "limit")
	v.env(p.Env, "env")
	if p.Priority < -100 || p.Priority > 100 {
		v.add("bad-value", fmt.Sprintf("priority is %d", p.Priority), "Use a number from -100 to 100.", "priority")
	}
	if p.AtOnce < 0 || p.AtOnce > maxJobs {
		v.add("bad-value", fmt.Sprintf("at_once is %d", p.AtOnce), "Use a number from 1 up, or leave it out.", "at_once")
	}
	if p.Group != "" {
		v.name(p.Group, "group", "group")
	}
	v.oneOf(p.Supersede, []string{SupersedeQueued, SupersedeRunning, SupersedeNone}, "supersede")
	if p.Version != nil {
		v.relative(p.Version.File, "version", "file")
	}
	v.triggers(p)
	v.inputs(p.Input, "input")
	if len(p.Job) == 0 {
		v.add("no-jobs", "the pipeline has no job",
			"Add one, for example:\n        [[job.build.step]]\n        script = \"make\"")
	}
	if len(p.Job) > maxJobs {
		v.add("too-many", fmt.Sprintf("%d jobs; a pipeline may have %d", len(p.Job), maxJobs), "Split the pipeline.", "job")
		return
	}
	for _, name := range sortedKeys(p.Job) {
		v.job(p, name)
	}
	v.raising(p)
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
	shells     = []string{ShellSh, ShellBash, ShellPython}
)

func (v *validator) add(code, message, fix string, at ...string) {
	if len(v.found) > 2*MaxFindings {
		return // nobody reads so many, and each costs
	}
	v.found = append(v.found, v.ix.place(at...).finding(code, message, fix))
}

func (v *validator) job(p *Pipeline, name string) {
	job, at := p.Job[name], []string{"job", name}
	in := func(more ...string) []string { return append(append([]string(nil), at...), more...) }
	if !nameForm.MatchString(name) {
		v.add("bad-name", fmt.Sprintf("%q is no name for a job", name), nameFix, at...)
	}
	v.duration(job.Limit, in("limit")...)
	stays(v, job, in)
	v.env(job.Env, in("env")...)
	for i, label := range job.Machine {
		if !strings.Contains(label, "${") && v.ix.has(in("machine")...) {
			v.label(label, in("machine", strconv.Itoa(i))...)
		}
	}
	for _, tool := range sortedKeys(job.Tools) {
		v.tool(tool, job.Tools[tool], in("tools", tool)...)
	}
	v.oneOf(job.History, []string{"shallow", "full"}, in("history")...)
	v.submodules(job.Submodules, in)
	v.oneOf(job.Shell, shells, in("shell")...)
	if job.Dir != "" {
		v.relative(job.Dir, in("dir")...)
	}
	v.limits(job.Limits, in("limits")...)
	v.retry(job, in)
	v.variants(job, in)
	v.caches(job, in)
	if job.Ask != nil {
		gate(v, job, in)
		return
	}
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
	machines(v, job, in)
	for _, keepName := range sortedKeys(job.Keep) {
		v.files(keepName, "artifact", job.Keep[keepName].Files, `Add files = ["out/app.apk"].`, in("keep", keepName))
		for i, secret := range job.Keep[keepName].MayHold {
			if !strings.Contains(secret, "${") {
				v.secret(secret, in("keep", keepName, "may_hold", strconv.Itoa(i))...)
			}
		}
	}
	for _, handName := range sortedKeys(job.Hand) {
		v.files(handName, "hand", job.Hand[handName].Files, `Add files = ["out/lib/**"].`, in("hand", handName))
	}
}

func (v *validator) submodules(s *Submodules, in func(...string) []string) {
	if s == nil {
		return
	}
	if s.Key == "" || len(s.Hosts) == 0 {
		v.add("missing-key", "submodules needs both key and hosts",
			`Name the secret that holds the private key, and each host as ssh-keyscan prints it.`, in("submodules")...)
		return
	}
	v.secret(s.Key, in("submodules", "key")...)
	for i, entry := range s.Hosts {
		if _, _, err := HostKey(entry); err != nil {
			v.add("bad-value", fmt.Sprintf("%q is no host's key: %v", entry, err),
				"Write a line that ssh-keyscan prints, such as git.tidewick.example ssh-ed25519 AAAA…",
				in("submodules", "hosts", strconv.Itoa(i))...)
		}
	}
}

// files checks a named list of globs.
func (v *validator) files(name, what string, globs []string, fix string, at []string) {
	v.name(name, what, at...)
	if len(globs) == 0 {
		v.add("missing-key", fmt.Sprintf("%s %q names no files", what, name), fix, at...)
	}
	for i, glob := range globs {
		v.glob(glob, append(append([]string(nil), at...), "files", strconv.Itoa(i))...)
	}
}

func (v *validator) retry(job *Job, in func(...string) []string) {
	r := job.Retry
	if r == nil {
		return
	}
	v.duration(r.Wait, in("retry", "wait")...)
	if r.Times < 1 || r.Times > 10 {
		v.add("bad-value", fmt.Sprintf("retry.times is %d", r.Times), "Use a number from 1 to 10.", in("retry", "times")...)
	}
	if len(r.ExitCodes) == 0 && len(r.Steps) == 0 {
		v.add("missing-key", "retry names no cause, so nothing would be tried again",
			"Add exit_codes = [75] or steps = [\"fetch\"].", in("retry")...)
	}
	for i, code := range r.ExitCodes {
		if code < 1 || code > 255 {
			v.add("bad-value", fmt.Sprintf("%d is no exit code of a failed step", code), "Use a number from 1 to 255.",
				in("retry", "exit_codes", strconv.Itoa(i))...)
		}
	}
	var names []string
	for _, s := range job.Step {
		names = append(names, s.Name)
	}
	for i, name := range r.Steps {
		if !slices.Contains(names, name) {
			v.add("unknown-step", fmt.Sprintf("the job has no step %q", name),
				"Steps of the job: "+strings.Join(names, ", ")+".", in("retry", "steps", strconv.Itoa(i))...)
		}
	}
}

func (v *validator) variants(job *Job, in func(...string) []string) {
	d := job.Variants
	if d == nil {
		return
	}
	if len(d.Over) == 0 {
		v.add("missing-key", "variants has nothing to vary", `Add over = { ABI = ["arm64-v8a", "x86_64"] }.`,
			in("variants")...)
	}
	if n := d.size(); n > maxVariants {
		v.add("too-many", fmt.Sprintf("%d combinations of values; a job may have %d variants", n, maxVariants),
			"Leave out values, or split the job.", in("variants", "over")...)
		return
	}
	for _, name := range sortedKeys(d.Over) {
		at := in("variants", "over", name)
		v.env(map[string]string{name: ""}, in("variants", "over")...)
		if len(d.Over[name]) == 0 {
			v.add("missing-key", fmt.Sprintf("%s has no values", name), "Add some, or remove it.", at...)
		}
		for i, value := range d.Over[name] {
			place := append(append([]string(nil), at...), strconv.Itoa(i))
			switch {
			case !variantValueForm.MatchString(value):
				v.add("bad-value", fmt.Sprintf("%q cannot be a variant's value", value),
					"Use 1 to 40 letters, digits, dots, - and _, beginning with a letter or digit.", place...)
			case slices.Index(d.Over[name], value) < i:
				v.add("bad-value", fmt.Sprintf("%q is there twice", value), "Remove one.", place...)
			}
		}
	}
	for i, except := range d.Except {
		for _, name := range sortedKeys(except) {
			if !slices.Contains(d.Over[name], except[name]) {
				v.add("bad-value", fmt.Sprintf("except leaves out %s = %q, which is no value of it", name, except[name]),
					"Values are in over.", in("variants", "except", strconv.Itoa(i), name)...)
			}
		}
	}
}

func (v *validator) caches(job *Job, in func(...string) []string) {
	for _, cacheName := range sortedKeys(job.Cache) {
		cache := job.Cache[cacheName]
		v.name(cacheName, "cache", in("cache", cacheName)...)
		if len(cache.Paths) == 0 {
			v.add("missing-key", fmt.Sprintf("cache %q has no paths", cacheName), `Add paths = ["folder"].`,
				in("cache", cacheName)...)
		}
		if len(cache.Follows) == 0 {
			v.add("missing-key", fmt.Sprintf("cache %q follows nothing, so it could never change", cacheName),
				`Add follows = ["the.lock"], the file that decides what is in the folder.`, in("cache", cacheName)...)
		}
		for i, p := range cache.Paths {
			if v.relative(p, in("cache", cacheName, "paths", strconv.Itoa(i))...) && path.Clean(p) == "." {
				v.add("bad-path", fmt.Sprintf("cache %q keeps the whole workspace, the checkout with it", cacheName),
					"Name the folders that are worth keeping.", in("cache", cacheName, "paths", strconv.Itoa(i))...)
			}
		}
		for i, glob := range cache.Follows {
			v.glob(glob, in("cache", cacheName, "follows", strconv.Itoa(i))...)
		}
	}
}

func (v *validator) step(s *Step, at []string) {
	in := func(more ...string) []string { return append(append([]string(nil), at...), more...) }
	if verbs := s.verbs(); len(verbs) == 0 || verbs[0] == "script" && strings.TrimSpace(s.Script) == "" {
		v.add("missing-key", "the step has no script", `Add script = "make".`, at...)
	}
	v.verb(s, in)
	if len(s.Script) > MaxScript {
		v.add("too-many", fmt.Sprintf("the script has %d bytes; it may have %d", len(s.Script), MaxScript),
			"Put it into a file of the repository, and call that.", in("script")...)
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
	v.oneOf(s.Network, []string{"outside", "none", "host"}, in("network")...)
	v.oneOf(s.Shell, shells, in("shell")...)
	for i, name := range s.Secrets {
		if !strings.Contains(name, "${") {
			v.secret(name, in("secrets", strconv.Itoa(i))...)
		}
	}
	v.secretsOnce(s, in)
	for _, name := range sortedKeys(s.SecretFiles) {
		if !strings.Contains(name, "${") {
			v.secret(name, in("secret_files", name)...)
		}
		v.relative(s.SecretFiles[name], in("secret_files", name)...)
	}
	if s.TestsOptional && len(s.TestReports) == 0 {
		v.add("bad-value", "tests_optional says nothing without test_reports", "Add test_reports, or remove it.",
			in("tests_optional")...)
	}
	for i, glob := range s.TestReports {
		v.glob(glob, in("test_reports", strconv.Itoa(i))...)
	}
	reuse(v, s, in)
}

var variableForm = regexp.MustCompile(`^\$[A-Za-z_][A-Za-z0-9_]*$`)

// reuse looks at what a step says it reads and makes.
func reuse(v *validator, s *Step, in func(...string) []string) {
	if len(s.Inputs) == 0 {
		if len(s.Outputs) > 0 {
			v.add("missing-key", "the step has outputs and no inputs, so nobody can tell when they would be the same",
				`Add inputs = ["core/**"], all that the step reads.`, in("outputs")...)
		}
		return
	}
	if s.Script == "" && s.Part == "" {
		v.add("bad-value", "only a script can be reused", "Remove inputs and outputs.", in("inputs")...)
	}
	if s.Network != "" && s.Network != "none" {
		v.add("bad-value", "a step with inputs has no network: what that gives nobody can compare",
			"Fetch in a step before it, or remove inputs.", in("network")...)
	}
	for i, glob := range s.Inputs {
		switch {
		case !strings.HasPrefix(glob, "$"):
			v.glob(glob, in("inputs", strconv.Itoa(i))...)
		case !strings.HasPrefix(glob, "${") && !variableForm.MatchString(glob):
			v.add("bad-value", fmt.Sprintf("%q is no variable", glob), `Write it as "$PISTON_VERSION_NAME".`,
				in("inputs", strconv.Itoa(i))...)
		}
	}
	for i, glob := range s.Outputs {
		v.glob(glob, in("outputs", strconv.Itoa(i))...)
	}
}

// secretsOnce refuses secrets that would be the same variable, and files at the same path.
func (v *validator) secretsOnce(s *Step, in func(...string) []string) {
	variables, paths := map[string]string{}, map[string]string{}
	for i, name := range s.Secrets {
		variable := access.SecretName(name).Variable()
		if first, twice := variables[variable]; twice {
			v.add("bad-value", fmt.Sprintf("%s and %s would both be the variable %s", first, name, variable),
				"Ask for one of them, or put them into files by secret_files.", in("secrets", strconv.Itoa(i))...)
		}
		variables[variable] = name
	}
	for _, name := range sortedKeys(s.SecretFiles) {
		at := path.Clean(s.SecretFiles[name])
		if first, twice := paths[at]; twice {
			v.add("bad-value", fmt.Sprintf("%s and %s would both be the file %s", first, name, at),
				"Give each a path of its own.", in("secret_files", name)...)
		}
		paths[at] = name
		if at == ".git" || strings.HasPrefix(at, ".git/") {
			v.add("bad-path", fmt.Sprintf("the secret %s cannot be put into .git", name),
				"Choose another path in the workspace.", in("secret_files", name)...)
		}
	}
}

func (v *validator) label(label string, at ...string) {
	if !labelForm.MatchString(label) {
		v.add("bad-label", fmt.Sprintf("%q is no label of a machine", label),
			"Use lower-case letters, digits, dots, - and _, such as linux or arm64.", at...)
	}
}

func (v *validator) tool(name, wanted string, at ...string) {
	if !labelForm.MatchString(name) {
		v.add("bad-name", fmt.Sprintf("%q is no name for a tool", name),
			"Use the name of its command, in lower-case letters, such as clang.", at...)
		return
	}
	if _, err := version.ParseWanted(wanted); err != nil {
		v.add("bad-version", fmt.Sprintf("%s: %v", name, err),
			`Write a version ("17"), bounds (">=14", ">=3.20, <4") or "*".`, at...)
	}
}

// oneOf checks a word that may be left out.
func (v *validator) oneOf(word string, words []string, at ...string) {
	if word == "" || slices.Contains(words, word) {
		return
	}
	quoted := make([]string, len(words))
	for i, w := range words {
		quoted[i] = strconv.Quote(w)
	}
	v.add("bad-value", fmt.Sprintf("%s is %q", at[len(at)-1], word), "Use "+strings.Join(quoted, " or ")+".", at...)
}

func (v *validator) name(name, what string, at ...string) {
	if !nameForm.MatchString(name) {
		v.add("bad-name", fmt.Sprintf("%q is no name for a %s", name, what), nameFix, at...)
	}
}

func (v *validator) secret(name string, at ...string) {
	if access.SecretName(name).Check() != nil {
		v.add("bad-name", fmt.Sprintf("%q is no name for a secret", name),
			"Use letters, digits and _, not beginning with a digit or with PISTON_; behind a colon, the name of a member of "+
				"a set.", at...)
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
			v.add("bad-name", fmt.Sprintf("%s: names beginning with PISTON_ are set by the service", name),
				"Choose another name.", place...)
		case strings.ContainsRune(env[name], 0):
			v.add("bad-value", fmt.Sprintf("the value of %s holds a NUL character", name), "Remove it.", place...)
		}
	}
}

func (v *validator) duration(d Duration, at ...string) {
	if d == "" {
		return
	}
	value, err := quantity.ParseSpan(string(d))
	if err != nil || value <= 0 || value > maxLimit {
		v.add("bad-duration", fmt.Sprintf("%q is no span of time between 1ns and 7 days", string(d)),
			`Write a number with a unit: "90s", "30m", "1h30m".`, at...)
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
