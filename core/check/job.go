package check

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

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
	c.outlets(j)
	if c.service == nil || j.Ask != nil || j.ByService() {
		return // it takes no machine
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

// outlets looks for those that a job publishes to.
func (c *checker) outlets(j *definition.Job) {
	if c.service == nil || c.service.Outlets == nil {
		return
	}
	for i, s := range j.Step {
		if s.Publish == nil || slices.Contains(c.service.Outlets, s.Publish.To) {
			continue
		}
		mend := fmt.Sprintf("Make it: piston outlet set %s %s.", c.service.Project, s.Publish.To)
		if near := nearest(s.Publish.To, c.service.Outlets); near != "" {
			mend = fmt.Sprintf("Did you mean %q?", near)
		}
		c.add("no-such-outlet", fmt.Sprintf("the project has no outlet %q", s.Publish.To), mend,
			definition.Place{Job: j, Keys: []string{"step", itoa(i), "publish", "to"}})
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
	if a, key := s.Action(); a != nil {
		paths := a.Paths()
		for _, name := range sortedKeys(paths) {
			file := *paths[name]
			c.written(file, b, fmt.Sprintf("no step so far mentions %s, which this one reads", file),
				definition.Place{Job: j, Step: s, Keys: append([]string{key}, strings.Split(name, ".")...)})
		}
		for _, made := range a.Writes() {
			b.words = append(b.words, *made)
		}
		return
	}
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
	if publishes(c.p) {
		debugChecker{c}.called(j, s, r)
	}
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
