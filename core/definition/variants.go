package definition

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// maxVariants is how many variants a job may have.
const maxVariants = 200

// variantValueForm keeps values fit for names, paths and environment variables.
var variantValueForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,39}$`)

var referenceForm = regexp.MustCompile(`\$\{([A-Za-z_][A-Za-z0-9_]*)\}`)

// replace puts values where ${NAME} stands for them and returns the names that have none.
func replace(text string, values map[string]string) (replaced string, missing []string) {
	if !strings.Contains(text, "${") {
		return text, nil
	}
	replaced = referenceForm.ReplaceAllStringFunc(text, func(m string) string {
		name := m[2 : len(m)-1]
		if v, ok := values[name]; ok {
			return v
		}
		missing = append(missing, name)
		return m
	})
	return replaced, missing
}

// Fill puts values in the place of the ${NAME} that stand for them in a text; the rest stays as it is written.
func Fill(text string, values map[string]string) string {
	filled, _ := replace(text, values)
	return filled
}

// eachReference visits every text of a step in which ${NAME} may stand. Scripts are not among them.
func (s *Step) eachReference(visit func(text *string, at ...string)) {
	visit(&s.Dir, "dir")
	for i := range s.Secrets {
		visit(&s.Secrets[i], "secrets", strconv.Itoa(i))
	}
	for _, name := range sortedKeys(s.SecretFiles) {
		secret, file := name, s.SecretFiles[name]
		visit(&secret, "secret_files", name)
		visit(&file, "secret_files", name)
		delete(s.SecretFiles, name)
		s.SecretFiles[secret] = file
	}
	for i := range s.TestReports {
		visit(&s.TestReports[i], "test_reports", strconv.Itoa(i))
	}
	for i := range s.Inputs {
		visit(&s.Inputs[i], "inputs", strconv.Itoa(i))
	}
	for i := range s.Outputs {
		visit(&s.Outputs[i], "outputs", strconv.Itoa(i))
	}
	if a, key := s.Action(); a != nil {
		for _, paths := range []map[string]*string{a.Paths(), a.Writes()} {
			for _, name := range sortedKeys(paths) {
				visit(paths[name], append([]string{key}, strings.Split(name, ".")...)...)
			}
		}
	}
}

func (j *Job) eachReference(visit func(text *string, at ...string)) {
	lists := []struct {
		name string
		list []string
	}{{"machine", j.Machine}, {"after", j.After}, {"take", j.Take}}
	for _, l := range lists {
		for i := range l.list {
			visit(&l.list[i], l.name, strconv.Itoa(i))
		}
	}
	visit(&j.Dir, "dir")
	inTable := func(table, name, key string, list []string) {
		for i := range list {
			visit(&list[i], table, name, key, strconv.Itoa(i))
		}
	}
	for _, name := range sortedKeys(j.Cache) {
		inTable("cache", name, "paths", j.Cache[name].Paths)
		inTable("cache", name, "follows", j.Cache[name].Follows)
	}
	for _, name := range sortedKeys(j.Hand) {
		inTable("hand", name, "files", j.Hand[name].Files)
	}
	for _, name := range sortedKeys(j.Keep) {
		inTable("keep", name, "files", j.Keep[name].Files)
		inTable("keep", name, "may_hold", j.Keep[name].MayHold)
	}
	for i, s := range j.Step {
		s.eachReference(func(text *string, at ...string) {
			visit(text, append([]string{"step", strconv.Itoa(i)}, at...)...)
		})
	}
}

// combinations lists the values of each variant, in the order of the names and of the values.
func (v *Variants) combinations() []map[string]string {
	all := []map[string]string{{}}
	for _, name := range sortedKeys(v.Over) {
		var next []map[string]string
		for _, c := range all {
			for _, value := range v.Over[name] {
				more := maps.Clone(c)
				more[name] = value
				next = append(next, more)
			}
		}
		all = next
	}
	return slices.DeleteFunc(all, func(c map[string]string) bool {
		return slices.ContainsFunc(v.Except, func(e map[string]string) bool { return matches(c, e) })
	})
}

func matches(c, except map[string]string) bool {
	for name, value := range except {
		if c[name] != value {
			return false
		}
	}
	return true
}

// size is the product of the numbers of values, or a number above any that is allowed.
func (v *Variants) size() int {
	n := 1
	for _, values := range v.Over {
		if n *= len(values); n > 1_000_000 {
			return n
		}
	}
	return n
}

// layOutVariants makes a job of each combination, and replaces in every job what stands for a value.
func (p *Pipeline) layOutVariants(v *validator) {
	jobs := map[string]*Job{}
	bytes := 0
	variants := map[string][]string{} // by the name of the job as written
	for _, name := range sortedKeys(p.Job) {
		job := p.Job[name]
		if job.Variants == nil {
			jobs[name] = job
			variants[name] = []string{name}
			v.references(job)
			v.actionReferences(p, job)
			dealing(v, job)
			questionReferences(v, p, job)
			continue
		}
		for _, values := range job.Variants.combinations() {
			if bytes += job.scriptBytes(); bytes > maxLaidOut {
				v.add("too-many", fmt.Sprintf("the scripts of all variants come to more than %d MB", maxLaidOut>>20),
					"Leave some out, or put what is long into files of the repository, and call those.", "job", name, "variants")
				return
			}
			one := job.clone()
			one.Of, one.Variant, one.Variants = name, values, nil
			for _, key := range sortedKeys(values) {
				one.Name += "+" + values[key]
			}
			env := maps.Clone(values)
			maps.Copy(env, job.Env)
			one.Env = env
			jobs[one.Name] = one
			variants[name] = append(variants[name], one.Name)
			v.references(one)
			v.actionReferences(p, one)
			dealing(v, one)
			if len(jobs) > maxJobs {
				v.add("too-many", fmt.Sprintf("more than %d jobs with their variants; a pipeline may have %d", maxJobs, maxJobs),
					"Leave some out.", "job", name)
				return
			}
		}
		if len(variants[name]) == 0 {
			v.add("no-variants", fmt.Sprintf("except leaves no variant of job %q", name), "Take something out of except.", "job",
				name, "variants", "except")
		}
	}
	for _, name := range sortedKeys(jobs) {
		job := jobs[name]
		var after []string
		for i, other := range job.After {
			found := append(slices.Clone(variants[other]), other)
			known := false
			for _, name := range found {
				known = known || jobs[name] != nil
				if jobs[name] != nil && !slices.Contains(after, name) {
					after = append(after, name)
				}
			}
			at := []string{"job", job.written, "after", strconv.Itoa(i)}
			of, _, isVariant := strings.Cut(other, "+")
			switch {
			case known:
			case isVariant && len(variants[of]) > 0:
				v.add("unknown-job", fmt.Sprintf("job %q waits for %q, which is no variant of job %q; does except leave it out?",
					job.written, other, of),
					"The variants are: "+strings.Join(variants[of][:min(10, len(variants[of]))], ", ")+".", at...)
			default:
				v.unknownJob(p, job, other, at...)
			}
		}
		job.After = after
	}
	p.Job = jobs
}

func (j *Job) scriptBytes() (n int) {
	for _, s := range j.Step {
		n += len(s.Script)
		if a, _ := s.Action(); a != nil {
			for _, text := range a.Texts() {
				n += len(text)
			}
		}
	}
	return n
}

// clone copies a job through its JSON form, which holds all but what is the same for all variants.
func (j *Job) clone() *Job {
	text, err := json.Marshal(j)
	if err != nil {
		panic(err) // plain data
	}
	c := new(Job)
	if err := json.Unmarshal(text, c); err != nil {
		panic(err)
	}
	c.written = j.written
	for i := range c.Step {
		c.Step[i].written = j.Step[i].written
	}
	return c
}

// references replaces what stands for values, and complains about what stands for none.
func (v *validator) references(job *Job) {
	said := map[string]bool{}
	job.eachReference(func(text *string, at ...string) {
		replaced, missing := replace(*text, job.Variant)
		place := append([]string{"job", job.written}, at...)
		for _, name := range missing {
			if said[name] {
				continue
			}
			said[name] = true
			fix := "${NAME} stands for a value of the job's variants, or a parameter of a part. Scripts get variables by " +
				"themselves."
			if near := nearest(name, sortedKeys(job.Variant)); near != "" {
				fix = fmt.Sprintf("Did you mean ${%s}?", near)
			}
			v.add("unknown-reference", fmt.Sprintf("${%s} stands for nothing here", name), fix, place...)
		}
		if replaced != *text && len(missing) == 0 {
			switch {
			case at[0] == "machine":
				v.label(replaced, place...)
			case len(at) > 2 && (at[2] == "secrets" || at[2] == "may_hold"):
				v.secret(replaced, place...)
			case at[0] != "after" && at[0] != "take" && !(len(at) > 2 && at[2] == "secret_files"):
				v.glob(replaced, place...)
			}
		}
		*text = replaced
	})
}
