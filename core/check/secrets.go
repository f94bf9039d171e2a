package check

import (
	"bytes"
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/mask"
	"gentlepiston.example/piston/core/profile"
)

// Secret is what may be known of a secret: not its value, but who may have it.
type Secret struct {
	Name    string
	Scope   access.Scope
	Expires *time.Time
	Profile profile.Profile // what it says, when the value is one
}

// Occasion is the run in which secrets are asked for.
type Occasion struct {
	Pipeline, Branch, Tag string
}

// expiresSoon is how long before its end a secret's expiry is spoken of.
const expiresSoon = 14 * 24 * time.Hour

func (s *Service) secretNames() []string {
	names := make([]string, len(s.Secrets))
	for i, v := range s.Secrets {
		names[i] = v.Name
	}
	return names
}

// Secrets finds the secrets a step asks for, or the checkout where that is nil, and will not get, and those it will
// soon not get any more. Without an occasion only what holds for every run of the pipeline is said.
func Secrets(p *definition.Pipeline, j *definition.Job, s *definition.Step, known *Service,
	at *Occasion) (found []definition.Finding) {
	for _, name := range j.SecretsOf(s) {
		asks := fmt.Sprintf("%s asks for the secret %s", asker(j, s), name)
		add := func(code, message, fix string) {
			found = append(found, New(p, code, asks+", "+message, fix, secretPlace(j, s, name)))
		}
		i := slices.IndexFunc(known.Secrets, func(v Secret) bool { return v.Name == name })
		if i < 0 {
			message, fix := known.missing(name)
			add("secret-not-set", message, fix)
			continue
		}
		v := known.Secrets[i]
		scope, occasion := v.Scope, at
		if occasion == nil {
			occasion = &Occasion{Pipeline: p.Name}
			scope.Branches, scope.Tags = nil, nil
		}
		if why := scope.Refuses(occasion.Pipeline, occasion.Branch, occasion.Tag); why != "" {
			add("secret-protected", "which it does not get: "+why,
				fmt.Sprintf("Ask for it only there, by when or in another pipeline; or, if this run should have it: piston "+
					"secret change %s %s --branch … --tag … --pipeline …", known.Project, name))
		}
		if v.Expires == nil || known.Now.IsZero() {
			continue
		}
		day := v.Expires.UTC().Format("2 January 2006")
		switch left := v.Expires.Sub(known.Now); {
		case left <= 0:
			add("secret-expired", "which has expired on "+day,
				fmt.Sprintf("Set a new value: piston secret set %s %s --expires DAY. If the old one is still good: piston "+
					"secret change %s %s --expires DAY", known.Project, name, known.Project, name))
		case left < expiresSoon:
			add("secret-expires", fmt.Sprintf("which expires on %s, in %d days", day, int(left.Hours()/24)),
				fmt.Sprintf("Set a new value before: piston secret set %s %s --expires DAY", known.Project, name))
		}
	}
	return found
}

// missing tells what of a secret nobody has set, and what to do.
func (s *Service) missing(name string) (message, fix string) {
	message, fix = "which nobody has set", fmt.Sprintf("piston secret set %s %s", s.Project, name)
	wanted := access.SecretName(name)
	var members []string
	for _, v := range s.Secrets {
		n := access.SecretName(v.Name)
		if n.Variable() == wanted.Variable() && n.Member() != wanted.Member() {
			members = append(members, cmp.Or(n.Member(), v.Name))
		}
	}
	switch {
	case len(members) > 0 && wanted.Member() == "":
		return fmt.Sprintf("which is a set of %s", strings.Join(members, ", ")),
			fmt.Sprintf("Ask for a member of it, such as %s:%s.", name, members[0])
	case len(members) > 0:
		message = fmt.Sprintf("which nobody has set; of %s there are %s", wanted.Variable(), strings.Join(members, ", "))
	}
	if near := nearest(name, s.secretNames()); near != "" {
		fix = fmt.Sprintf("Did you mean %s? Otherwise: %s", near, fix)
	}
	return message, fix
}

// FromOutside is why a proposal is given no secret.
const FromOutside = "this commit is of a proposal from outside"

// RefusedSecrets says that a step, or the checkout, asks for secrets in an untrusted proposal.
func RefusedSecrets(p *definition.Pipeline, j *definition.Job, s *definition.Step, why string) definition.Finding {
	names, fix := j.SecretsOf(s), "Give the step when = 'trusted'."
	if s == nil {
		fix = "Give the job when = 'trusted'."
	}
	return New(p, "secret-refused",
		fmt.Sprintf("%s asks for %s, and %s", asker(j, s), strings.Join(names, ", "), why),
		fix, secretPlace(j, s, names[0]))
}

// asker names who asks for a secret.
func asker(j *definition.Job, s *definition.Step) string {
	if s == nil {
		return fmt.Sprintf("the checkout of job %q", cmp.Or(j.Of, j.Name))
	}
	return fmt.Sprintf("step %q of job %q", s.Name, cmp.Or(j.Of, j.Name))
}

// secretPlace is where a step, or the checkout, asks for a secret.
func secretPlace(j *definition.Job, s *definition.Step, name string) definition.Place {
	if s == nil {
		return definition.Place{Job: j, Keys: []string{"submodules", "key"}}
	}
	if i := slices.Index(s.Secrets, name); i >= 0 {
		return definition.Place{Job: j, Step: s, Keys: []string{"secrets", itoa(i)}}
	}
	return definition.Place{Job: j, Step: s, Keys: []string{"secret_files", name}}
}

// secretsAstray warns of secrets whose files are put beside the place where the build looks: .gitignore names that, so
// that the file on somebody's machine is not tracked.
func (c *checker) secretsAstray(j *definition.Job, s *definition.Step) {
	for _, name := range sortedKeys(s.SecretFiles) {
		at := path.Clean(s.SecretFiles[name])
		other := c.tree.hiddenAs(path.Base(at))
		if other == "" || other == at || strings.Contains(s.Script, at) || strings.Contains(s.Script, path.Base(at)) {
			continue
		}
		c.add("secret-elsewhere",
			fmt.Sprintf("the secret %s is put at %s, and .gitignore speaks of %s: is that where the build looks?", name, at,
				other),
			fmt.Sprintf("secret_files = { %s = %q }", name, other),
			definition.Place{Job: j, Step: s, Keys: []string{"secret_files", name}})
	}
}

// maxRules is how many files of rules are read, of at most maxRulesSize bytes.
const maxRules, maxRulesSize = 50, 64 << 10

// hiddenAs is the one path of a name that rules of .gitignore speak of (gitignore(5)); "" when there are several, or
// none.
func (t *Tree) hiddenAs(base string) string {
	if t.hidden == nil {
		t.hidden = map[string]string{}
		files := t.bases[".gitignore"]
		for _, rules := range files[:min(len(files), maxRules)] {
			t.hides(rules)
		}
	}
	return t.hidden[base]
}

// hides notes what the rules of a file hide by its path.
func (t *Tree) hides(rules string) {
	text := t.text(rules)
	if len(text) > maxRulesSize {
		return
	}
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if strings.ContainsAny(line, "*?[!#") || !strings.Contains(line, "/") || strings.HasSuffix(line, "/") {
			continue
		}
		at := path.Join(path.Dir(rules), line)
		if first, twice := t.hidden[path.Base(at)]; twice && first != at {
			at = ""
		}
		t.hidden[path.Base(line)] = at
	}
}

// asked is a secret that a step asks for as a variable, and where.
type asked struct {
	p        *definition.Pipeline
	at       definition.Place
	variable string
}

// unusedSecrets warns of secrets that a step is given as variables and that nothing speaks of, neither its script nor
// any text of the repository. A program that is not of the repository may know the name by itself.
func unusedSecrets(t *Tree, files []File) {
	open := map[string][]asked{}
	for _, f := range files {
		if f.Pipeline == nil {
			continue
		}
		for _, name := range f.Pipeline.JobNames() {
			for _, s := range f.Pipeline.Job[name].Step {
				for _, a := range unspoken(f.Pipeline, f.Pipeline.Job[name], s) {
					open[a.variable] = append(open[a.variable], a)
				}
			}
		}
	}
	if len(open) == 0 {
		return
	}
	for _, text := range t.looked() {
		for variable := range open {
			if strings.Contains(text, variable) {
				delete(open, variable)
			}
		}
	}
	for i := range files {
		for _, variable := range sortedKeys(open) {
			for _, a := range open[variable] {
				if a.p == files[i].Pipeline {
					files[i].Findings = append(files[i].Findings, New(a.p, "unused-secret",
						fmt.Sprintf("step %q is given %s, and nothing in the repository speaks of it", a.at.Step.Name, variable),
						"Take it out of secrets.", a.at))
				}
			}
		}
	}
}

// unspoken are the secrets of a step that its script does not speak of, when that calls nothing that may know them.
func unspoken(p *definition.Pipeline, j *definition.Job, s *definition.Step) (list []asked) {
	if len(s.Secrets) == 0 {
		return nil
	}
	for _, name := range read(s.Script, shellOf(j, s), ".").called {
		if !slices.Contains(asking, name.word) && !slices.Contains(plainPrograms, name.word) {
			return nil
		}
	}
	for i, name := range s.Secrets {
		if variable := access.SecretName(name).Variable(); !strings.Contains(s.Script, variable) {
			list = append(list, asked{p, definition.Place{Job: j, Step: s, Keys: []string{"secrets", itoa(i)}}, variable})
		}
	}
	return list
}

// plainPrograms know of no secret by themselves.
var plainPrograms = []string{"make", "sh", "bash", "touch", "chmod", "ln", "tar", "zip", "unzip", "gzip", "sha256sum",
	"tee", "cd", "export", "set", "exit", "zipalign"}

// MaxLeakFile is the most bytes of a tracked file that is searched for secrets.
const MaxLeakFile = 1 << 20

// Leaks tells whether a tracked file holds a secret that a finder looks for, and where.
func Leaks(finder *mask.Masker, project, file string, text []byte) (definition.Finding, bool) {
	name, at := finder.First(text)
	if at < 0 {
		return definition.Finding{}, false
	}
	f := About("secret-tracked", file, "Git tracks the value of the secret "+name,
		fmt.Sprintf("Take it out, get a new value from whoever issues it, and piston secret set %s %s. The old one stays "+
			"in the history.", cmp.Or(project, "PROJECT"), name))
	f.Line = bytes.Count(text[:at], []byte("\n")) + 1
	return f, true
}
