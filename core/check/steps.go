package check

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/definition"
)

// otherSystem are programs that are on one system only, and the label of machines that have them.
var otherSystem = map[string]string{"xcodebuild": "macos", "xcrun": "macos", "codesign": "macos",
	"xcode-select": "macos", "agvtool": "macos", "hdiutil": "macos",
	"simctl": "macos", "plutil": "macos", "PlistBuddy": "macos", "/usr/libexec/PlistBuddy": "macos", "altool": "macos",
	"osascript": "macos", "msbuild.exe": "windows"}

// systemTools are tools by the names that jobs ask for them.
var systemTools = map[string]string{"xcode": "macos"}

// systems are labels that name a system.
var systems = []string{"linux", "macos", "windows", "darwin"}

// systemOf is the system that a job's machine must be of; "" when its labels do not say.
func systemOf(j *definition.Job) string {
	for _, label := range j.Machine {
		if slices.Contains(systems, label) {
			if label == "darwin" {
				return "macos"
			}
			return label
		}
	}
	return ""
}

// fetching recognises what needs the network, at the beginning of a command.
var fetching = regexp.MustCompile(`(?:^|[;&|(]\s*|\n\s*)(curl|wget|git (?:clone|fetch|pull|submodule update)|npm ` +
	`(?:ci|install|i)\b|yarn install|pnpm install|pip3? install|pod install|` +
	`flutter pub get|dart pub get|go mod download|cargo fetch|bundle install|gem install|apt(?:-get)? install|brew ` +
	`install)`)

// historical recognises what asks Git for more history than a shallow checkout has.
var historical = regexp.MustCompile(`git\s+(?:-C\s+\S+\s+)?(rev-list\s+[^\n|;]*--count|describe|shortlog|` +
	`tag\s+(?:-l|--list|--sort))|rev-list['",\s]+(?:['"]?HEAD['"]?['",\s]+)?--count|rev-list['",\s]+--count`)

// ways checks how a step goes about its work: on which system, with which network and history, and with which
// variables.
func (c *checker) ways(j *definition.Job, s *definition.Step, r reading) {
	say := func(code string, line int, word, message, fix string) {
		c.keep(c.p.ScriptFinding(code, severities[code], message, fix, definition.Place{Job: j, Step: s}, max(1, line),
			cmp.Or(word, lineOf(s.Script, line))))
	}
	if !s.Advisory && !j.Advisory {
		for _, o := range r.odd {
			say(o.code, o.line, o.word, o.message, o.fix)
		}
	}
	if system := systemOf(j); system != "" {
		for _, name := range r.called {
			if needs, is := otherSystem[name.word]; is && needs != system {
				say("other-system", name.line, name.word,
					fmt.Sprintf("%s is on %s only, and the job asks for a machine of %s", name.word, needs, system),
					fmt.Sprintf("Say machine = [%q], or do it another way.", needs))
			}
		}
	}
	if s.Network == "none" {
		if at := fetching.FindStringSubmatchIndex(s.Script); at != nil {
			word := s.Script[at[2]:at[3]]
			say("no-network", strings.Count(s.Script[:at[2]], "\n")+1, word,
				fmt.Sprintf("%s needs the network, and the step says network = \"none\"", word),
				"Fetch in a step before it, or take network out.")
		}
	}
	if j.History != "full" {
		if at := historical.FindStringIndex(s.Script); at != nil {
			say("shallow-history", strings.Count(s.Script[:at[0]], "\n")+1, "",
				"the checkout holds one commit, so this counts or finds nothing of what came before",
				`Say history = "full" in the job.`)
		}
	}
	c.variables(j, s, r, say)
}

func (c *checker) variables(j *definition.Job, s *definition.Step, r reading,
	say func(code string, line int, word, message, fix string)) {
	if len(r.unset) == 0 {
		return
	}
	set := map[string]bool{}
	for _, env := range []map[string]string{c.p.Env, j.Env, s.Env, j.Variant} {
		for name := range env {
			set[name] = true
		}
	}
	for _, name := range s.AllSecrets() {
		set[access.SecretName(name).Variable()] = true
	}
	for _, name := range r.unset {
		if set[name.word] {
			continue
		}
		message := fmt.Sprintf("$%s is used, and nothing sets it: it is empty", name.word)
		fix := "Set it in env, list the secret in secrets, or write ${" + name.word + ":-} where it may be empty."
		if near := nearest(name.word, sortedKeys(set)); near != "" {
			fix = fmt.Sprintf("Did you mean $%s? %s", near, fix)
		}
		say("unset-variable", name.line, "", message, fix)
	}
}

// otherSystems checks the tools a job asks for against the system it asks for.
func (c *checker) otherSystems(j *definition.Job) {
	system := systemOf(j)
	for _, tool := range sortedKeys(j.Tools) {
		if needs, is := systemTools[tool]; is && system != "" && needs != system {
			c.add("other-system", fmt.Sprintf("%s is on %s only, and the job asks for a machine of %s", tool, needs, system),
				fmt.Sprintf("Say machine = [%q].", needs), definition.Place{Job: j, Keys: []string{"tools", tool}})
		}
	}
}

// notTaken finds the job that makes a file which another uses without taking it: what it hands on or keeps matches.
func (c *checker) notTaken(j *definition.Job, name string) (message, fix string) {
	for _, other := range c.p.JobNames() {
		o := c.p.Job[other]
		if other == j.Name || j.Of != "" && o.Of == j.Of {
			continue
		}
		from := cmp.Or(o.Of, other)
		for _, hand := range sortedKeys(o.Hand) {
			if anyMatches(o.Hand[hand].Files, name) {
				return fmt.Sprintf("job %q makes it and hands it on as %s, and this job does not take it", from, hand),
					fmt.Sprintf("Add take = [%q], and after = [%q].", from+"/"+hand, from)
			}
		}
		for _, keep := range sortedKeys(o.Keep) {
			if anyMatches(o.Keep[keep].Files, name) {
				return fmt.Sprintf("job %q makes it on a machine of its own, and keeps it without handing it on", from),
					fmt.Sprintf("Add to job %s: hand.%s.files = [%q]; and here take = [%q] and after = [%q].", from, keep, name,
						from+"/"+keep, from)
			}
		}
	}
	return "", ""
}

func anyMatches(globs []string, name string) bool {
	return slices.ContainsFunc(globs,
		func(glob string) bool { return doublestar.MatchUnvalidated(path.Clean(glob), name) })
}

// packages are files that people tell apart by their names.
var packages = []string{".apk", ".aab", ".ipa"}

// sameNames warns of variants that keep packages of one name.
func (c *checker) sameNames() {
	seen := map[string]*definition.Job{}
	for _, name := range c.p.JobNames() {
		j := c.p.Job[name]
		if j.Of == "" {
			continue
		}
		for _, keep := range sortedKeys(j.Keep) {
			for i, glob := range j.Keep[keep].Files {
				base := path.Base(glob)
				if !slices.Contains(packages, path.Ext(base)) || strings.ContainsAny(base, "*?[{") {
					continue
				}
				key := j.Of + "/" + base
				if first := seen[key]; first != nil && first != j {
					c.add("same-name", fmt.Sprintf("every variant of job %q keeps a file called %s: who downloads one cannot tell "+
						"which it is", j.Of, base),
						"Put the variant's value into the name, such as "+strings.TrimSuffix(base, path.Ext(base))+"-${"+
							cmp.Or(firstKey(j.Variant), "NAME")+"}"+path.Ext(base)+".",
						definition.Place{Job: j, Keys: []string{"keep", keep, "files", itoa(i)}})
					return
				}
				seen[key] = j
			}
		}
	}
}

func firstKey(m map[string]string) string {
	for _, k := range sortedKeys(m) {
		return k
	}
	return ""
}

// proposalSecrets warns of secrets that a step asks for which proposals start, too: one from outside gets none and
// fails.
func (c *checker) proposalSecrets() {
	if c.p.Trigger.Proposal == nil {
		return
	}
	for _, name := range c.p.JobNames() {
		j := c.p.Job[name]
		if strings.Contains(j.When, "trusted") || strings.Contains(j.When, "trigger") {
			continue
		}
		for _, s := range j.Askers() {
			names := j.SecretsOf(s)
			if len(names) == 0 || s != nil && (strings.Contains(s.When, "trusted") || strings.Contains(s.When, "trigger")) {
				continue
			}
			fix := "Give the step when = 'trusted', if the rest can do without."
			if s == nil {
				fix = "Give the job when = 'trusted', if the rest can do without."
			}
			c.add("secret-in-proposal",
				fmt.Sprintf("%s asks for %s, and proposals start this pipeline: those from outside are given no secret, and fail",
					asker(j, s), strings.Join(names, ", ")),
				fix, secretPlace(j, s, names[0]))
		}
	}
}

// unusedInputs warns of what a person is asked for in vain.
func (c *checker) unusedInputs() {
	if len(c.p.Input) == 0 {
		return
	}
	var all strings.Builder
	for _, name := range c.p.JobNames() {
		j := c.p.Job[name]
		all.WriteString(j.When + "\n")
		for _, s := range j.Step {
			all.WriteString(s.When + "\n" + s.Script + "\n")
			if a, _ := s.Action(); a != nil {
				for _, text := range a.Texts() {
					all.WriteString(text + "\n")
				}
			}
			for _, u := range c.read(s.Script, shellOf(j, s), cmp.Or(s.Dir, j.Dir, ".")).uses {
				all.WriteString(c.tree.text(u.path) + "\n")
				all.WriteString(c.tree.text(c.makefile(u.path)) + "\n")
			}
		}
	}
	text := all.String()
	for _, name := range sortedKeys(c.p.Input) {
		in := c.p.Input[name]
		if !strings.Contains(text, in.Variable()) && !strings.Contains(text, "input."+name) &&
			!strings.Contains(text, `input["`+name) && !strings.Contains(text, "PISTON_INPUT_$") {
			c.add("unused-input", fmt.Sprintf("input %q is asked for, and nothing uses it", name),
				fmt.Sprintf("Use $%s, or remove it.", in.Variable()), definition.Place{Keys: []string{"input", name}})
		}
	}
}
