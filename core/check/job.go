package check

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"
	"github.com/bmatcuk/doublestar/v4"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/schedule"
)

// before is what the steps so far may have made.
type before struct {
	opaque string   // a program that may have made anything, or ""
	words  []string // what scripts mention
	texts  []string // what the files they run say
	put    []string // globs of what caches, hands and secrets put there
	wrong  bool     // a step cannot work
}

// mentions tells whether a step so far says a name; also when looking for it would take too long, since then nothing is
// to be said.
func (c *checker) mentions(b *before, name string) bool {
	if !c.spend(b.size()) {
		return true
	}
	base := path.Base(name)
	if len(base) < 3 {
		base = name
	}
	return slices.ContainsFunc(b.words, func(w string) bool { return strings.Contains(w, base) }) ||
		slices.ContainsFunc(b.texts, func(t string) bool { return strings.Contains(t, base) })
}

// size is what looking through it takes.
func (b *before) size() (n int) {
	n = 4 * len(b.words)
	for _, t := range b.texts {
		n += len(t)
	}
	return n
}

func (b *before) has(name string) bool {
	return slices.ContainsFunc(b.put, func(glob string) bool {
		glob = path.Clean(glob)
		return doublestar.MatchUnvalidated(glob, name) || doublestar.MatchUnvalidated(glob+"/**", name) ||
			strings.HasPrefix(glob, name+"/")
	})
}

func (c *checker) job(j *definition.Job) {
	c.needs(j)
	c.otherSystems(j)
	b := &before{}
	for _, name := range sortedKeys(j.Cache) {
		c.cache(j, j.Cache[name])
		b.put = append(b.put, j.Cache[name].Paths...)
	}
	for _, take := range c.p.Takes(j) {
		from, name, _ := strings.Cut(take, "/")
		b.put = append(b.put, c.p.Job[from].Hand[name].Files...)
	}
	for _, s := range j.Step {
		n := len(c.found)
		c.step(j, s, b)
		b.wrong = b.wrong || slices.ContainsFunc(c.found[n:],
			func(f definition.Finding) bool { return f.Severity == definition.Error })
	}
	for _, name := range sortedKeys(j.Keep) {
		for i, glob := range j.Keep[name].Files {
			at := definition.Place{Job: j, Keys: []string{"keep", name, "files", itoa(i)}}
			c.written(glob, b, "no step of the job mentions where the artifact "+name+" would be", at)
			c.wanted(name, glob, at)
		}
	}
	for _, name := range sortedKeys(j.Hand) {
		for i, glob := range j.Hand[name].Files {
			c.written(glob, b, "no step of the job mentions where what it hands on as "+name+" would be",
				definition.Place{Job: j, Keys: []string{"hand", name, "files", itoa(i)}})
		}
	}
}

// needs checks what a job asks of the service: secrets, labels, tools.
func (c *checker) needs(j *definition.Job) {
	if c.service == nil {
		return
	}
	if why := schedule.Lacking(j.Machine, j.Tools, c.service.Runners); why != "" && len(c.service.Runners) > 0 {
		key, mend := "machine", "Start such a runner, or correct machine."
		if strings.Contains(why, "tool ") {
			key, mend = "tools", "Install it where a runner finds it on its PATH, tell the runner by --tool NAME=COMMAND how "+
				"to find it, or correct tools."
		}
		c.add("nobody-can", fmt.Sprintf("job %q would wait: %s", cmp.Or(j.Of, j.Name), why), mend,
			definition.Place{Job: j, Keys: []string{key}})
	}
	for _, s := range j.Askers() {
		for _, f := range Secrets(c.p, j, s, c.service, nil) {
			c.keep(f)
		}
	}
}

func (c *checker) cache(j *definition.Job, cache *definition.Cache) {
	for i, glob := range cache.Follows {
		if !c.matches(glob) && !c.tree.inSubmodule(path.Clean(glob)) {
			c.add("follows-nothing",
				fmt.Sprintf("cache %q follows %q, which %s; it would never be used", cache.Name, glob, c.missing(path.Clean(glob))),
				c.mend(path.Clean(glob)),
				definition.Place{Job: j, Keys: []string{"cache", cache.Name, "follows", itoa(i)}})
		}
	}
	for i, p := range cache.Paths {
		if clean := path.Clean(p); clean != "." && (c.tree.has(clean) || c.tree.hasFolder(clean)) {
			c.add("never-cached", fmt.Sprintf("cache %q keeps %q, which is in the repository", cache.Name, p),
				"Name what the build downloads or makes.",
				definition.Place{Job: j, Keys: []string{"cache", cache.Name, "paths", itoa(i)}})
		}
	}
}

// matches tells whether a glob matches a tracked file, or would take too long to match.
func (c *checker) matches(glob string) bool {
	glob = path.Clean(glob)
	if !strings.ContainsAny(glob, `*?[{\`) {
		return c.tree.has(glob)
	}
	cost := 16 << (2 * strings.Count(glob, "{")) // each brace tries its choices
	for _, e := range c.tree.Entries {
		if !c.spend(cost) || doublestar.MatchUnvalidated(glob, e.Path) {
			return true
		}
	}
	return false
}

func (c *checker) step(j *definition.Job, s *definition.Step, b *before) {
	dir, at := s.Dir, definition.Place{Job: j, Step: s, Keys: []string{"dir"}}
	if dir == "" && j.Dir != "" {
		dir, at = j.Dir, definition.Place{Job: j, Keys: []string{"dir"}}
	}
	dir = path.Clean(dir)
	astray := dir != "." && !c.tree.hasFolder(dir) && !c.mentions(b, dir) && !b.has(dir)
	if astray {
		c.add("no-folder", fmt.Sprintf("the folder %q is not in the repository, and no earlier step mentions it", dir),
			c.mendFolder(dir), at)
	}
	r := c.read(s.Script, shellOf(j, s), dir)
	if r.fault != nil {
		c.keep(c.p.ScriptFinding("bad-script", severities["bad-script"], "the script is not valid: "+r.fault.Text,
			"Mend it; for what only bash knows, say shell = \"bash\".", definition.Place{Job: j, Step: s},
			int(max(1, r.fault.Pos.Line())), lineOf(s.Script, int(r.fault.Pos.Line()))))
	}
	own := *b // what this script may find there
	own.put = slices.Concat(b.put, slices.Collect(maps.Values(s.SecretFiles)))
	for _, u := range r.uses {
		if !astray { // from a folder that is not there, nothing is
			c.use(j, s, u, &own, r)
		}
	}
	c.machinePaths(j, s)
	c.ways(j, s, r)
	c.secretsAstray(j, s)
	c.scriptFiles(j, s, r)
	b.words = append(b.words, r.words...)
	for _, u := range r.uses {
		name := u.path
		if u.kind == makes {
			name = c.makefile(u.path)
		}
		if text := c.tree.text(name); u.kind != folder && text != "" {
			b.texts = append(b.texts, text)
		}
	}
	if r.opaque != "" {
		b.opaque = r.opaque
	}
	for i, glob := range s.TestReports {
		c.written(glob, b, "no step so far mentions where the test reports would be",
			definition.Place{Job: j, Step: s, Keys: []string{"test_reports", itoa(i)}})
	}
}

func shellOf(j *definition.Job, s *definition.Step) string {
	if s.Shell != "" {
		return s.Shell
	}
	return j.Shell
}

func lineOf(text string, n int) string {
	lines := strings.Split(text, "\n")
	if n < 1 || n > len(lines) {
		return ""
	}
	return strings.TrimSpace(lines[n-1])
}

// use checks one thing that a script needs.
func (c *checker) use(j *definition.Job, s *definition.Step, u use, b *before, r reading) {
	say := func(code, message, fix string) {
		c.keep(c.p.ScriptFinding(code, severities[code], message, fix, definition.Place{Job: j, Step: s}, u.line, u.word))
	}
	if b.has(u.path) || r.guarded[u.path] || c.full() {
		return
	}
	switch u.kind {
	case makes:
		c.make(u, b, say)
		return
	case folder:
		fromTop := c.tree.hasFolder(path.Clean(u.word)) && u.dir != "."
		if !c.tree.hasFolder(u.path) && !c.mentions(b, u.path) && r.count(u.word) < 2 &&
			(fromTop || b.opaque == "" && u.after == "") {
			say("no-folder", fmt.Sprintf("the script goes into %q, which is not in the repository", u.path),
				c.mendFolder(u.path))
		}
		return
	}
	if e, tracked := c.tree.files[u.path]; tracked || c.tree.inSubmodule(u.path) {
		if tracked && u.kind == program && !e.Executable && !r.modes[u.path] && !c.mentions(b, u.path) {
			say("not-executable", fmt.Sprintf("%s is in the repository, but not as a program", u.path),
				fmt.Sprintf("git update-index --chmod=+x %s, and commit; or call it through its interpreter.", u.path))
		}
		return
	}
	if c.mentions(b, u.path) || r.count(u.word) > 1 {
		return
	}
	if message, fix := c.notTaken(j, u.path); message != "" {
		say("not-taken", fmt.Sprintf("the script needs %s: %s", u.path, message), fix)
		return
	}
	maker := u.after
	if maker == "" {
		maker = b.opaque
	}
	other := c.elsewhere(u.path)
	elsewhere := strings.HasSuffix(u.path, "/"+other) ||
		strings.HasSuffix(other, "/"+u.path) // so that only the folder is wrong
	onDisk := c.tree.OnDisk != nil && c.tree.OnDisk(u.path)
	switch {
	case maker == "" || other != "" && (elsewhere || u.kind == program) || onDisk:
		code := "no-file"
		if onDisk {
			code = "not-tracked"
		}
		say(code, fmt.Sprintf("the script needs %s, which %s", u.path, c.missing(u.path)), c.mend(u.path))
	case !c.tree.folders[path.Dir(u.path)]:
		// A folder that is not in the repository, and a program that may have made it: very likely it does.
	default:
		say("maybe-no-file", fmt.Sprintf("the script needs %s, which %s; could %s have made it?", u.path, c.missing(u.path),
			maker), c.mend(u.path))
	}
}

// makefile finds the file that make reads in a folder (POSIX.1-2017, make, -f), "" when there is none.
func (c *checker) makefile(dir string) string {
	for _, name := range []string{"GNUmakefile", "makefile", "Makefile"} {
		if full := path.Join(dir, name); c.tree.has(full) {
			return full
		}
	}
	return ""
}

var targetForm = regexp.MustCompile(`(?m)^([^\s#:=][^:=#]*?)\s*::?(?:[^=]|$)`)

func (c *checker) make(u use, b *before, say func(code, message, fix string)) {
	file := c.makefile(u.path)
	if file == "" {
		if !c.tree.inSubmodule(u.path) && b.opaque == "" && u.after == "" && !c.mentions(b, path.Join(u.path, "Makefile")) {
			fix, unknown := "Correct the folder.", path.Join(u.path, "Makefile")
			if c.tree.OnDisk != nil && c.tree.OnDisk(unknown) {
				fix = "git add " + unknown + ": there is one on this machine, and Git does not track it."
			} else if other := c.elsewhere(path.Join(u.path, "Makefile")); other != "" {
				fix = fmt.Sprintf("There is %s: is dir = %q missing?", other, path.Dir(other))
			}
			where := "at the top of the repository"
			if u.path != "." {
				where = "in " + u.path
			}
			say("no-file", "make finds no Makefile "+where, fix)
		}
		return
	}
	written, all := c.tree.targets(file)
	if u.target == "" || !all {
		return
	}
	var targets []string
	for _, target := range written {
		// A pattern (GNU make, Pattern Rules): % stands for any text that is not empty.
		if before, after, is := strings.Cut(target, "%"); !is {
			targets = append(targets, target)
		} else if len(u.target) > len(before)+len(after) && strings.HasPrefix(u.target, before) &&
			strings.HasSuffix(u.target, after) {
			return
		}
	}
	if slices.Contains(targets, u.target) || c.tree.has(path.Join(u.path, u.target)) {
		return
	}
	fix := "Targets are: " + strings.Join(visible(targets), ", ") + "."
	if near := nearest(u.target, targets); near != "" {
		fix = fmt.Sprintf("Did you mean %q?", near)
	}
	say("no-target", fmt.Sprintf("%s has no target %q", file, u.target), fix)
}

// targets lists those of a makefile; all is false when there may be others, which it includes or computes. Each is
// looked through once: all variants of a job ask the same.
func (t *Tree) targets(file string) (list []string, all bool) {
	if known, done := t.made[file]; done {
		return known, known != nil
	}
	text := t.text(file)
	list, all = []string{}, text != "" && !strings.Contains(text, "include") && !strings.Contains(text, "$(eval")
	if all {
		for _, m := range targetForm.FindAllStringSubmatch(text, -1) {
			all = all && !strings.Contains(m[1], "$")
			list = append(list, strings.Fields(m[1])...)
		}
	}
	if !all {
		list = nil
	}
	t.made[file] = list
	return list, all
}

func visible(targets []string) []string {
	list := slices.DeleteFunc(slices.Clone(targets), func(t string) bool { return strings.HasPrefix(t, ".") })
	slices.Sort(list)
	return slices.Compact(list)
}

// written checks that some step could write what a glob names.
func (c *checker) written(glob string, b *before, message string, at definition.Place) {
	base, rest := doublestar.SplitPattern(path.Clean(glob))
	if base == "." {
		base = ""
	}
	parts := strings.Split(strings.Trim(base+"/"+rest, "/"), "/")
	if b.wrong { // a step that fails writes nothing, and that it does is said already
		return
	}
	if top := parts[0] + "/"; len(parts) > 1 &&
		slices.ContainsFunc(b.words, func(w string) bool { return strings.HasPrefix(strings.TrimPrefix(w, "./"), top) }) {
		return
	}
	for _, part := range parts {
		if plain := strings.Trim(part, "*?"); len(plain) >= 3 && !strings.ContainsAny(plain, "*?[{") &&
			(c.mentions(b, plain) || b.has(part)) {
			return
		}
	}
	if c.tree.has(path.Clean(glob)) || b.opaque == "" && len(b.words) == 0 || conventional(parts) && b.opaque != "" {
		return
	}
	if c.matches(glob) {
		return
	}
	fix := "The glob counts from the top of the workspace."
	var tops []string
	for _, w := range b.words {
		if top, _, nested := strings.Cut(strings.TrimPrefix(w, "./"), "/"); nested {
			tops = append(tops, top)
		}
	}
	if near := nearest(parts[0], tops); near != "" {
		fix += fmt.Sprintf(" Did you mean %s?", path.Join(append([]string{near}, parts[1:]...)...))
	}
	if s := at.Step; s != nil && s.Dir != "" {
		fix += fmt.Sprintf(" Is it %s?", path.Join(s.Dir, glob))
	} else if at.Job.Dir != "" {
		fix += fmt.Sprintf(" Is it %s?", path.Join(at.Job.Dir, glob))
	}
	for _, w := range b.words {
		if name := path.Base(w); strings.EqualFold(name, path.Base(glob)) {
			fix += fmt.Sprintf(" A step says %s, in other letters.", w)
			break
		}
	}
	c.add("artifact-unwritten", message+": "+glob, fix, at)
}

// onTheWay are folders and files that a build needs and nobody wants to have of it.
var onTheWay = regexp.MustCompile(`(^|/)(node_modules|\.gradle|\.git|intermediates|DerivedData|Pods)(/|$)|\.(o|d|` +
	`class|pyc)$`)

// fewSources is how many files of the repository may be among what is kept.
const fewSources = 3

// wanted warns of an artifact that takes in what is in the repository anyway, or what is left over on the way.
func (c *checker) wanted(name, glob string, at definition.Place) {
	say := func(what string) {
		c.add("keeps-sources", fmt.Sprintf("artifact %q keeps %s: %s", name, what, glob),
			"Name what somebody will want to have, such as out/*.apk.", at)
	}
	if onTheWay.MatchString(glob) {
		say("what a build needs on its way")
		return
	}
	glob = path.Clean(glob)
	if !strings.Contains(glob, "*") {
		return
	}
	n := 0
	for _, e := range c.tree.Entries {
		if !c.spend(16 << (2 * strings.Count(glob, "{"))) {
			return
		}
		if doublestar.MatchUnvalidated(glob, e.Path) {
			if n++; n == fewSources {
				say("files of the repository")
				return
			}
		}
	}
}

// conventional folders are where build programs write unless told otherwise.
func conventional(parts []string) bool {
	return slices.ContainsFunc(parts, func(p string) bool {
		return slices.Contains([]string{"build", "dist", "target", "DerivedData", "node_modules", "bin", "obj"}, p)
	})
}

var machinePath = regexp.MustCompile(`(?:^|[\s"'=:(])(/Users/[^\s"':$]+|/home/[^\s"':$]+|/root/[^\s"':$]+|` +
	`/Volumes/[^\s"':$]+|~/[^\s"':$]+|[A-Za-z]:\\[^\s"']+)`)

func (c *checker) machinePaths(j *definition.Job, s *definition.Step) {
	const fix = "Use a path from the top of the workspace, or $HOME for what the step makes itself."
	for n, line := range strings.Split(s.Script, "\n") {
		if m := machinePath.FindStringSubmatch(line); m != nil && !strings.HasPrefix(strings.TrimSpace(line), "#") {
			if strings.HasPrefix(m[1], "~/") && c.p.Allows("machine-path") {
				continue
			}
			c.keep(c.p.ScriptFinding("machine-path", severities["machine-path"],
				fmt.Sprintf("%s exists on somebody's machine, not in the sandbox of a step", m[1]), fix,
				definition.Place{Job: j, Step: s}, n+1, m[1]))
		}
	}
	for _, name := range sortedKeys(s.Env) {
		if m := machinePath.FindStringSubmatch(s.Env[name]); m != nil {
			c.add("machine-path", fmt.Sprintf("%s exists on somebody's machine, not in the sandbox of a step", m[1]), fix,
				definition.Place{Job: j, Step: s, Keys: []string{"env", name}})
		}
	}
}

// missing says in which way a file is not there.
func (c *checker) missing(name string) string {
	if c.tree.OnDisk != nil && c.tree.OnDisk(name) {
		return "is on this machine, but not in the repository: Git does not track it"
	}
	return "is not in the repository"
}

// mend proposes what was meant.
func (c *checker) mend(name string) string {
	if c.tree.OnDisk != nil && c.tree.OnDisk(name) {
		return fmt.Sprintf("git add %s. If it must not be in the repository: piston secret set PROJECT NAME --file %s, "+
			"and name it in secret_files.", name, name)
	}
	if other := c.elsewhere(name); other != "" {
		if strings.HasSuffix(name, "/"+other) {
			return fmt.Sprintf("There is %s at the top of the repository: is the folder it is called from the right one?", other)
		}
		if suffix := strings.TrimSuffix(other, name); suffix != other && suffix != "" {
			return fmt.Sprintf("There is %s: is dir = %q missing?", other, strings.TrimSuffix(suffix, "/"))
		}
		return fmt.Sprintf("There is %s: is that the one?", other)
	}
	if !c.spend(16 * len(c.tree.Entries)) {
		return "Add it to the repository, or correct the path."
	}
	var names []string
	for _, e := range c.tree.Entries {
		if path.Dir(e.Path) == path.Dir(name) {
			names = append(names, e.Path)
		}
	}
	if near := nearest(name, names); near != "" {
		return fmt.Sprintf("Did you mean %s?", near)
	}
	if near := nearest(path.Base(name), sortedKeys(c.tree.bases)); near != "" {
		return fmt.Sprintf("There is %s: is that the one?", c.tree.bases[near][0])
	}
	return "Add it to the repository, or correct the path."
}

func (c *checker) mendFolder(name string) string {
	var names []string
	if !c.spend(64 * len(c.tree.folders)) {
		return "Correct the path; it counts from the top of the repository."
	}
	for _, dir := range sortedKeys(c.tree.folders) {
		if path.Base(dir) == path.Base(name) {
			return fmt.Sprintf("There is %s: is that the one?", dir)
		}
		names = append(names, dir)
	}
	if near := nearest(name, names); near != "" {
		return fmt.Sprintf("Did you mean %s?", near)
	}
	return "Correct the path; it counts from the top of the repository."
}

// elsewhere finds a file of the same base name in another folder: the likeliest one.
func (c *checker) elsewhere(name string) string {
	list := c.tree.bases[path.Base(name)]
	best := ""
	for _, other := range list {
		if strings.HasSuffix(name, "/"+other) {
			return other
		}
		if strings.HasSuffix(other, "/"+name) || best == "" || len(other) < len(best) {
			best = other
		}
	}
	return best
}

// longestMeant is the longest name that is compared: to compare two takes the product of their lengths.
const longestMeant = 300

// nearest returns the candidate a person most likely meant, or "" when none is close.
func nearest(word string, candidates []string) string {
	best, distance := "", max(2, len(word)/4)+1
	for _, c := range candidates {
		if len(c) >= len(word)+distance || len(word) >= len(c)+distance || len(c) > longestMeant {
			continue // the lengths alone tell that it is further away
		}
		if d := levenshtein.ComputeDistance(strings.ToLower(word), strings.ToLower(c)); d < distance {
			best, distance = c, d
		}
	}
	return best
}
