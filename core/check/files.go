package check

import (
	"fmt"
	"iter"
	"net/netip"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/pointer"
	"gentlepiston.example/piston/core/reach"
)

// scriptFiles looks into the shell scripts that a step calls: where they go, and how their lines end.
func (c *checker) scriptFiles(_ *definition.Job, _ *definition.Step, r reading) {
	for _, u := range r.uses {
		if u.kind != program && u.kind != input || c.looked[u.path] {
			continue
		}
		if c.looked == nil {
			c.looked = map[string]bool{}
		}
		c.looked[u.path] = true
		text := c.tree.text(u.path)
		first, rest, _ := strings.Cut(text, "\n")
		shell := ""
		switch {
		case strings.HasSuffix(first, "\r") && strings.HasPrefix(first, "#!"):
			c.keep(inFile("crlf", u.path, 1, first,
				"its first line ends with a carriage return, so the system looks for an interpreter of that name",
				"Save it with line ends of Unix (LF), and add to .gitattributes: "+u.path+" eol=lf"))
			continue
		case strings.HasPrefix(first, "#!") && strings.Contains(first, "bash"):
			shell = definition.ShellBash
		case strings.HasPrefix(first, "#!") && strings.HasSuffix(strings.TrimSpace(first), "sh"), path.Ext(u.path) == ".sh":
			shell = definition.ShellSh
		default:
			continue
		}
		if len(text) > definition.MaxScript || rest == "" {
			continue
		}
		inner := c.read(text, shell, u.dir)
		for _, v := range inner.uses {
			if v.kind == folder && !c.tree.hasFolder(v.path) && inner.count(v.word) < 2 && v.after == "" &&
				!inner.guarded[v.path] && r.opaque == u.path {
				c.keep(inFile("no-folder", u.path, v.line, lineOf(text, v.line),
					fmt.Sprintf("it goes into %q, which is not in the repository; it is called in %s", v.path, u.dir),
					c.mendFolder(v.path)))
			}
		}
		for _, o := range inner.odd {
			if o.code == "not-in-sh" || o.code == "crlf" {
				c.keep(inFile(o.code, u.path, o.line, lineOf(text, o.line), o.message, o.fix))
			}
		}
	}
}

// inFile is a finding about a line of a file that is no pipeline's.
func inFile(code, file string, line int, excerpt, message, fix string) definition.Finding {
	f := whole(code, file, message, fix)
	f.Line, f.Excerpt = line, strings.TrimRight(excerpt, "\r")
	if len(f.Excerpt) > 160 {
		f.Excerpt = f.Excerpt[:160]
	}
	return f
}

// unusedParts warns of parts that no pipeline uses. A pipeline that cannot be read may use any.
func unusedParts(t *Tree, files []File) (found []definition.Finding) {
	var all strings.Builder
	for _, f := range files {
		if f.Pipeline == nil {
			return nil
		}
		all.WriteString(t.text(f.Path) + "\n")
	}
	var parts []string
	for _, e := range t.Entries {
		if path.Dir(e.Path) == definition.PartsFolder && path.Ext(e.Path) == ".toml" {
			parts = append(parts, e.Path)
			all.WriteString(t.text(e.Path) + "\n")
		}
	}
	for _, file := range parts {
		name := strings.TrimSuffix(path.Base(file), ".toml")
		if !regexp.MustCompile(`part\s*=\s*["']` + regexp.QuoteMeta(name) + `["']`).MatchString(all.String()) {
			found = append(found,
				whole("unused-part", file, "no pipeline uses this part", "Use it by part = \""+name+"\", or remove it."))
		}
	}
	return found
}

// How much of a work tree is read to look for marks and pointers: enough for any app, and bounded.
const (
	maxLooked     = 20_000
	maxLookedSize = 256 << 10
)

// Files in which a mark of a merge, or a path of somebody's machine, is none: texts about them, and what programs
// write.
var passedOver = regexp.MustCompile(`(?i)\.(md|markdown|rst|txt|adoc|patch|diff|lock|sum|min\.js|map|svg|snap)$|(^|` +
	`/)(node_modules|vendor|third_party|Pods|fixtures|testdata)/|(^|/)package-lock\.json$`)

var mergeStart, mergeEnd = regexp.MustCompile(`(?m)^<{7} \S`), regexp.MustCompile(`(?m)^>{7} \S`)

// pictures and the like are looked at for pointers only.
var large = regexp.MustCompile(`(?i)\.(png|jpe?g|webp|gif|ico|icns|ttf|otf|woff2?|mp3|m4a|ogg|wav|mp4|mov|aar|jar|` +
	`so|a|dylib|zip|gz|pdf|tflite|bin|dat|psd|sketch)$`)

// buildFiles are those in which an absolute path decides what is built.
var buildFiles = regexp.MustCompile(`(?i)(^|/)(Makefile|GNUmakefile|CMakeLists\.txt|Podfile|Gemfile|Cartfile|` +
	`meson\.build|BUILD)$|\.(gradle|kts|mk|cmake|xcconfig|pbxproj|properties|sh|bash|podspec|toml|csproj)$`)

// wholeTree looks at every tracked text of a work tree on this disk: reading them all from Git would hold up planning.
func wholeTree(t *Tree) (found []definition.Finding) {
	found = lockFiles(t)
	shallow := false
	for i, e := range t.Entries {
		if i == maxLooked {
			break
		}
		if e.Submodule {
			continue
		}
		text := t.text(e.Path)
		switch {
		case pointer.Is(text):
			found = append(found,
				whole("lfs-pointer", e.Path,
					"this is a pointer of Git LFS, not the file itself; a job has the file where .gitattributes says filter=lfs "+
						"and the remote serves it",
					"git lfs pull brings it here. Where the remote does not serve it, track the file itself: git lfs untrack, and "+
						"commit it."))
			continue
		case large.MatchString(e.Path) || len(text) > maxLookedSize || passedOver.MatchString(e.Path) ||
			strings.IndexByte(text, 0) >= 0:
			continue
		}
		if f, is := leaked(e.Path, text); is {
			found = append(found, f)
		}
		found = append(found, t.letters(e.Path, text)...)
		if at := firstOf(mergeStart, text, "<<<<<<< "); at != nil && mergeEnd.MatchString(text) {
			line := strings.Count(text[:at[0]], "\n") + 1
			found = append(found,
				inFile("merge-marker", e.Path, line, lineOf(text, line), "a merge was not settled here", "Settle it, and commit."))
		}
		if !buildFiles.MatchString(e.Path) || definition.IsPipelineFile(e.Path) ||
			path.Dir(e.Path) == definition.PartsFolder {
			continue
		}
		for n, l := range strings.Split(text, "\n") {
			if m := machinePath.FindStringSubmatch(l); m != nil && !strings.HasPrefix(m[1], "~/") &&
				!strings.HasPrefix(strings.TrimSpace(l), "#") && !strings.HasPrefix(strings.TrimSpace(l), "//") {
				found = append(found,
					inFile("machine-path", e.Path, n+1, l, m[1]+" exists on somebody's machine, not on a runner",
						"Use a path of the repository, or a variable."))
				break
			}
		}
		if at := firstOf(historical, text, "git", "rev-list"); at != nil && !shallow && path.Ext(e.Path) != ".sh" {
			shallow = true
			line := strings.Count(text[:at[0]], "\n") + 1
			found = append(found,
				inFile("shallow-history", e.Path, line, lineOf(text, line),
					"this asks Git for history; in a job's checkout, which holds one commit, it counts or finds nothing of what "+
						"came before",
					`Say history = "full" in the jobs that build with it, and allow = ["shallow-history"] in the pipeline; or take `+
						`PISTON_BUILD_NUMBER.`))
		}
	}
	return found
}

// firstOf finds the first place that an expression knows, if the text has one of the words that begin each such. Most
// texts have none, and looking for a word is many times faster.
func firstOf(e *regexp.Regexp, text string, words ...string) []int {
	if !slices.ContainsFunc(words, func(w string) bool { return strings.Contains(text, w) }) {
		return nil
	}
	return e.FindStringIndex(text)
}

// maxUntracked is how many untracked files are looked for in what is tracked.
const maxUntracked = 200

// Untracked finds, of the files that Git does not track, those that something tracked speaks of by name: a forgotten
// git add, or a rule of .gitignore that hides too much, passes here and fails at the push. loose are the paths of those
// that Git would track, ignored of those that it is told not to.
func Untracked(r *Repository, pipelines []File, loose, ignored []string) (found []definition.Finding) {
	t := NewTree(r)
	missing := absent{}
	for _, file := range loose[:min(len(loose), maxUntracked)] {
		missing.add(file, "not-tracked", file+" is named here, and Git does not track it: a push would be without it",
			"git add "+file)
	}
	given := secretFiles(pipelines)
	for _, file := range ignored {
		if len(missing) < maxUntracked && !given[path.Base(file)] &&
			(settings.MatchString(file) || sources.MatchString(file)) && !ownFiles.MatchString(file) {
			missing.add(file, "ignored-file", file+" is named here, and .gitignore hides it: a push would be without it",
				fmt.Sprintf("If it may be in the repository: git add -f %s. If it is a secret: piston secret set, and "+
					"secret_files = { NAME = %q }.", file, file))
		}
	}
	texts := t.looked()
	for e, text := range texts {
		if buildFiles.MatchString(e.Path) || path.Ext(e.Path) == ".py" {
			missing.dropMade(text)
		}
	}
	for e, text := range texts {
		found = append(found, missing.in(e.Path, text)...)
	}
	return tidy(found)
}

// looked visits the texts in which others are spoken of, of pipelines aside, whose needs are checked closer.
func (t *Tree) looked() iter.Seq2[Entry, string] {
	return func(yield func(Entry, string) bool) {
		for i, e := range t.Entries {
			if i == maxLooked {
				return
			}
			if e.Submodule || large.MatchString(e.Path) || passedOver.MatchString(e.Path) || path.Base(e.Path) == ".gitignore" ||
				strings.HasPrefix(e.Path, definition.Folder+"/") {
				continue
			}
			if text := t.text(e.Path); len(text) <= maxLookedSize && !yield(e, text) {
				return
			}
		}
	}
}

// secretFiles are the names, without folders, of the files that steps are given.
func secretFiles(pipelines []File) map[string]bool {
	names := map[string]bool{}
	for _, f := range pipelines {
		if f.Pipeline == nil {
			continue
		}
		for _, j := range f.Pipeline.Job {
			for _, s := range j.Step {
				for _, at := range s.SecretFiles {
					names[path.Base(at)] = true
				}
			}
		}
	}
	return names
}

var (
	// ownFiles are those that each person has for themselves.
	ownFiles = regexp.MustCompile(`(?i)(^|/)(local\.properties|\.env(\.[\w.]+)?|[^/]*\.lock)$|(^|/)(node_modules|` +
		`\.gradle|\.idea|\.vscode|Pods|build|out|dist)/`)
	// settings are what a build reads and does not make.
	settings = regexp.MustCompile(`(?i)\.(json|properties|plist|xcconfig|entitlements|keystore|jks|p12|pem|` +
		`mobileprovision)$`)
	// sources are what a build may make as well.
	sources = regexp.MustCompile(`(?i)\.(c|cc|cpp|h|hpp|m|mm|swift|kt|java|dart|js|jsx|ts|tsx)$`)
)

// absent are files that are not tracked, by their names without folders, and what is said of one that is spoken of.
type absent map[string]definition.Finding

func (n absent) add(file, code, message, fix string) {
	if base := path.Base(file); len(base) > 3 && !definition.IsPipelineFile(file) &&
		path.Dir(file) != definition.PartsFolder {
		n[base] = whole(code, "", message, fix)
	}
}

// dropMade forgets ignored sources that a build file speaks of: it may be what makes them.
func (n absent) dropMade(text string) {
	for base, f := range n {
		if f.Code == "ignored-file" && sources.MatchString(base) && strings.Contains(text, base) {
			delete(n, base)
		}
	}
}

// in finds those that a text speaks of, each once.
func (n absent) in(file, text string) (found []definition.Finding) {
	for _, base := range sortedKeys(n) {
		at := strings.Index(text, base)
		if at < 0 || at > 0 && isWord(text[at-1]) || at+len(base) < len(text) && isWord(text[at+len(base)]) {
			continue
		}
		line := strings.Count(text[:at], "\n") + 1
		found = append(found, inFile(n[base].Code, file, line, lineOf(text, line), n[base].Message, n[base].Fix))
		delete(n, base)
	}
	return found
}

func isWord(c byte) bool {
	return c == '_' || c == '-' || c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z'
}

var moduleURL = regexp.MustCompile(`(?m)^\s*url\s*=\s*(\S+)\s*$`)

// submodules warns of addresses that runners do not fetch from.
func submodules(t *Tree, files []File) (found []definition.Finding) {
	opened := map[string]bool{}
	for _, f := range files {
		for _, host := range hostsOpened(f.Pipeline) {
			opened[host] = true
		}
	}
	text := t.text(".gitmodules")
	for _, at := range moduleURL.FindAllStringSubmatchIndex(text, -1) {
		address := text[at[2]:at[3]]
		to, keyed := reach.BySSH(address)
		why, fix := "", "Use its https address; or register it as a project that lends its source (piston project lend), "+
			"which makes this right."
		switch {
		case keyed && opened[to.Host]:
			continue
		case keyed:
			why, fix = "is fetched by ssh, and no job says with which key",
				"Name the key and the host in the job's submodules; or u"+fix[1:]
		default:
			why = refusedAddress(address)
		}
		if why == "" {
			continue
		}
		line := strings.Count(text[:at[2]], "\n") + 1
		found = append(found, inFile("submodule-refused", ".gitmodules", line, lineOf(text, line), address+" "+why, fix))
	}
	return found
}

// hostsOpened lists the hosts that jobs of a pipeline have a key for, with their ports.
func hostsOpened(p *definition.Pipeline) (hosts []string) {
	if p == nil {
		return nil
	}
	for _, j := range p.Job {
		if j.Submodules == nil {
			continue
		}
		for _, entry := range j.Submodules.Hosts {
			if host, _, err := definition.HostKey(entry); err == nil {
				hosts = append(hosts, host)
			}
		}
	}
	return hosts
}

// refusedAddress says why a runner does not fetch from an address; "" when it may. A path is another project's, or
// nobody's.
func refusedAddress(address string) string {
	switch {
	case strings.HasPrefix(address, "."), path.IsAbs(address):
		return ""
	case !strings.Contains(address, "://"):
		return "is no address"
	}
	u, err := url.Parse(address)
	switch {
	case err != nil:
		return "is no address"
	case u.Scheme != "https":
		return "is not fetched by https"
	case u.User != nil:
		return "holds a user or password, which everybody reads"
	}
	if ip, err := netip.ParseAddr(u.Hostname()); u.Hostname() == "localhost" || err == nil && !reach.World(ip) {
		return "is inside, where runners do not go for a repository"
	}
	return ""
}
