package runner

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/imprint"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/tree"
	"gentlepiston.example/piston/runner/executor"
	"gentlepiston.example/piston/runner/tier"
	"gentlepiston.example/piston/runner/trees"
	"gentlepiston.example/piston/runner/workspace"
)

// A step that says what it reads is kept as a tree when it has passed: its outputs, and in a file beside them what it
// printed. Where the same is to be done again, that is put back.

// recordFile is that file, a path that no output has.
const recordFile = ".piston-step.json"

// outcome is what is remembered of a step.
type outcome struct {
	Lines  []string        `json:"lines"`
	Tests  *api.TestReport `json:"tests,omitempty"`
	TookMs int64           `json:"took_ms"`
}

// reusable is a step that says what it reads.
type reusable struct {
	*job
	n      int
	step   *definition.Step
	files  []trees.Found // its inputs
	kept   map[string]bool
	about  imprint.Step
	wanted api.CacheWanted
	why    *api.Reuse
	older  *tier.Tree // what it has made before, when that fits; nil otherwise
	found  api.CacheFound
}

// orReuse carries out a step that says what it reads, unless what it makes is there already.
func (j *job) orReuse(ctx context.Context, carrying *executor.Job, n int) error {
	r := &reusable{job: j, n: n, step: j.attempt.Work.Job.Step[n]}
	if err := r.depends(ctx, carrying); err != nil {
		carrying.Sealed = &executor.Sealed{Fails: err}
		defer func() { carrying.Sealed = nil }()
		return carrying.Run(ctx, n)
	}
	r.look(ctx)
	defer func() {
		if r.older != nil {
			r.older.LetGo()
		}
	}()
	if r.older != nil && !j.attempt.Work.Audit {
		err := r.putBack(ctx, carrying)
		if err == nil {
			return nil
		}
		j.attempt.Say(n, "it is not reused: %v", err)
	}
	return r.run(ctx, carrying)
}

// depends gathers all that what the step makes depends on.
func (r *reusable) depends(ctx context.Context, carrying *executor.Job) (err error) {
	var globs []string
	r.kept = map[string]bool{"PISTON_HIDE": true, "PISTON_WORKSPACE": true, "PISTON_JOB": true}
	for _, in := range r.step.Inputs {
		if name, is := strings.CutPrefix(in, "$"); is {
			r.kept[name] = true
		} else {
			globs = append(globs, in)
		}
	}
	if r.files, err = workspace.Inputs(ctx, r.job.files, globs); err != nil {
		return err
	}
	a := imprint.Step{Script: r.step.Script, Shell: r.step.Shell, Dir: carrying.DirOf(r.step), Platform: platform(),
		Isolation: string(r.Isolation), System: installed(), Outputs: r.step.Outputs, Reports: r.step.TestReports,
		Secrets: map[string]int{}}
	if a.Shell == "" {
		a.Shell = r.attempt.Work.Job.Shell
	}
	a.Env = carrying.Environment(r.step)
	r.clean(a.Env)
	for _, name := range []string{"PISTON_WORKSPACE", "PISTON_HIDE", "HOME", "TMPDIR", "PISTON_JOB"} {
		delete(a.Env, name) // places, and by what name it is called
	}
	a.Tools = r.toolsOf()
	for _, name := range r.step.AllSecrets() {
		revision, known := r.attempt.Work.SecretRevisions[name]
		if !known {
			revision = -1 // it is never kept
		}
		a.Secrets[name] = revision
	}
	if a.Files, err = trees.Sums(ctx, r.job.files.Root(), r.asRestored(r.files)); err != nil {
		return err
	}
	r.about = a
	work := r.attempt.Work
	r.wanted = api.CacheWanted{Name: "step " + r.step.Name, Key: string(a.Key()),
		Shape: imprint.StepShape(work.Pipeline, work.Job.Name, r.step.Name), Followed: a.Parts(), Step: true}
	r.why = &api.Reuse{Imprint: r.wanted.Key}
	return nil
}

// asRestored tells of files that are what they were when caches were restored which pieces they are, so that they need
// not be read. Of a tree that does not say so nothing is known.
func (r *reusable) asRestored(files []trees.Found) []trees.Found {
	files = slices.Clone(files)
	for _, c := range r.caches {
		if !slices.ContainsFunc(files, func(f trees.Found) bool { return overlaps(c.roots(), f.Path) }) {
			continue
		}
		if before, err := c.before(); err == nil && before != nil {
			trees.Same(files, before, c.since)
		}
	}
	return files
}

// clean takes from an environment what the step does not say that it reads: what the service says of the run differs
// each time.
func (r *reusable) clean(env map[string]string) {
	maps.DeleteFunc(env, func(name, _ string) bool { return strings.HasPrefix(name, "PISTON_") && !r.kept[name] })
}

// toolsOf are the versions of the tools that the job asks for, and of those that the script names.
func (r *reusable) toolsOf() map[string]string {
	known := r.tools.versions()
	tools := map[string]string{}
	words := programs(r.step.Script)
	for name, version := range known {
		_, asked := r.attempt.Work.Job.Tools[name]
		if asked || slices.Contains(words, name) {
			tools[name] = version
		}
	}
	return tools
}

// programs are the words of a script that may be names of programs.
func programs(script string) []string {
	return strings.FieldsFunc(script, func(c rune) bool { return strings.ContainsRune(" \t\n;|&()<>\"'$`{}", c) })
}

// DependsOn lists the tools, of those that a runner looks for, whose versions it counts when it finds whether a step is
// to be run again, besides those that its job asks for.
func DependsOn(s *definition.Step) (tools []string) {
	if len(s.Inputs) == 0 {
		return nil
	}
	words := programs(s.Script)
	for _, p := range probes {
		if slices.Contains(words, p.Name) {
			tools = append(tools, p.Name)
		}
	}
	return tools
}

// look finds what the step has made before, or how it differs from the last time.
func (r *reusable) look(ctx context.Context) {
	if r.attempt.Work.Fresh {
		return
	}
	c := &cacheState{Cache: &definition.Cache{Name: r.wanted.Name}, wanted: r.wanted}
	err := r.find(ctx, c)
	switch {
	case errors.Is(err, client.ErrNotFound):
		return
	case err != nil:
		r.attempt.Say(r.n, "whether it can be reused is not known: %v", err)
		return
	}
	r.found, r.older, r.why.Run = c.found, c.tree, c.found.Run
	r.why.Differs = c.found.Differs[:min(len(c.found.Differs), differsTold)]
	r.why.More = len(c.found.Differs) - len(r.why.Differs)
}

// putBack puts what the step has made before into the workspace.
func (r *reusable) putBack(ctx context.Context, carrying *executor.Job) error {
	began := time.Now()
	t, rec, err := r.remembered()
	if err != nil {
		return err
	}
	from, err := os.OpenRoot(r.older.Dir(r.older.Layers[0]))
	if err != nil {
		return err
	}
	defer from.Close()
	roots := slices.DeleteFunc(slices.Clone(t.Roots), func(root string) bool { return root == recordFile })
	found, err := trees.Scan(ctx, from, roots)
	if err != nil {
		return err
	}
	if err := r.job.files.Put(ctx, from, roots, found); err != nil {
		return err
	}
	r.why.TookMs = rec.TookMs
	whose := "an earlier trial"
	if r.found.Run != 0 {
		whose = fmt.Sprintf("run %d", r.found.Run)
	}
	reason := fmt.Sprintf("of %s, where it took %s; put back in %s", whose,
		quantity.Span(time.Duration(rec.TookMs)*time.Millisecond), quantity.Span(time.Since(began)))
	carrying.Reused(r.n, rec.Lines, rec.Tests, r.why, reason)
	return nil
}

// remembered reads what was remembered of the step.
func (r *reusable) remembered() (t *tree.Tree, rec outcome, err error) {
	if len(r.older.Layers) != 1 {
		return nil, rec, errors.New("it is in several layers here")
	}
	written, err := r.older.Written()
	if err == nil {
		t, _, err = tree.Decode(written)
	}
	var text []byte
	if err == nil {
		text, err = os.ReadFile(filepath.Join(r.older.Dir(r.older.Layers[0]), recordFile))
	}
	if err == nil {
		err = json.Unmarshal(text, &rec)
	}
	return t, rec, err
}

// run carries the step out, in a view of its inputs, and keeps what it makes.
func (r *reusable) run(ctx context.Context, carrying *executor.Job) error {
	if len(r.why.Differs) > 0 {
		r.attempt.Say(r.n, "it is run, since %s since run %d (piston why tells more)", differ(r.why.Differs), r.why.Run)
	}
	view, err := workspace.NewView(ctx, r.job.files, r.n, r.files, carrying.DirOf(r.step), r.step.Outputs)
	if err != nil {
		carrying.Sealed = &executor.Sealed{Fails: err}
		defer func() { carrying.Sealed = nil }()
		return carrying.Run(ctx, r.n)
	}
	defer func() {
		if err := view.Remove(); err != nil {
			r.Log.Warn("a view of a workspace could not be removed", "error", err)
		}
	}()
	began := time.Now()
	sealed := &executor.Sealed{View: view, Why: r.why, Env: r.clean, Reads: r.reads}
	sealed.Passed = func(ctx context.Context) {
		took := time.Since(began)
		if r.older != nil {
			r.compare(ctx, view)
			return
		}
		if err := r.keep(ctx, sealed, took); err != nil {
			r.attempt.Say(r.n, "what it makes is not kept: %v", err)
		}
	}
	carrying.Sealed = sealed
	defer func() { carrying.Sealed = nil }()
	return carrying.Run(ctx, r.n)
}

// keep keeps what the step has made, for whoever is to do the same.
func (r *reusable) keep(ctx context.Context, s *executor.Sealed, took time.Duration) error {
	switch {
	case s.Long:
		return errors.New("it prints too much")
	case slices.Contains(slices.Collect(maps.Values(r.about.Secrets)), -1):
		return errors.New("in a trial nobody tells which value of a secret it was given")
	}
	text, err := json.Marshal(outcome{s.Lines, s.Tests, took.Milliseconds()})
	if err != nil {
		return err
	}
	if err := s.View.Root().WriteFile(recordFile, text, 0o600); err != nil {
		return err
	}
	roots := []string{recordFile}
	for _, f := range s.View.Outputs {
		roots = append(roots, f.Path)
	}
	found, err := trees.Scan(ctx, s.View.Root(), roots)
	if err != nil {
		return err
	}
	sv := &saving{cacheState: &cacheState{Cache: &definition.Cache{Name: r.wanted.Name, Paths: roots}, wanted: r.wanted},
		root: s.View.Root(), found: found}
	about := api.CacheSaved{CacheWanted: r.wanted, Job: r.attempt.Work.Job.Name}
	if r.attempt.Service != nil {
		err = r.attempt.Insist(ctx, "keeping what a step makes", func() error { return r.store(ctx, sv, &about) })
	} else {
		sv.tree = trees.Tree(trees.Roots(roots), found)
		sv.written, _ = sv.tree.Encode()
	}
	if err == nil {
		err = r.attempt.Insist(ctx, "keeping what a step makes", func() error {
			sv.cacheState.found, err = r.attempt.Post.SaveTree(ctx, r.attempt.ID(), about, sv.written)
			return err
		})
	}
	if err != nil {
		return err
	}
	return r.keepMade(sv, s.View)
}

// keepMade keeps it on this machine, too; the view is about to be removed.
func (r *reusable) keepMade(sv *saving, view *workspace.View) error {
	making, err := r.tier.Make()
	if err != nil {
		return err
	}
	defer r.tier.Drop(making)
	size := int64(0)
	for i := range sv.found {
		size += sv.found[i].Size
	}
	if err := moveTo(making.Dir, view.Part("src"), sv.tree.Roots, r.job.files.Account()); err != nil {
		return err
	}
	layer := making.Layer(r.job.files.Account().ID(), size)
	t, err := r.tier.Keep(sv.cacheState.found.Tree, []tier.Layer{layer}, sv.written)
	if err == nil {
		t.LetGo()
	}
	return err
}

// compare tells of a step that was run although it need not be what came out otherwise.
func (r *reusable) compare(ctx context.Context, view *workspace.View) {
	unlike, err := r.unlike(ctx, view)
	switch {
	case err != nil:
		r.attempt.Say(r.n, "what it makes cannot be compared: %v", err)
	case unlike == "":
		r.attempt.Say(r.n, "audit: it makes the same as run %d, byte by byte", r.found.Run)
	default:
		r.why.Unlike = r.attempt.Hide(unlike[:min(len(unlike), mostUnlike)])
		r.attempt.Say(r.n, "audit: it is not reproducible: %s", unlike)
	}
}

// mostUnlike is the most bytes that are told of it.
const mostUnlike = 900

// unlike says where what it has made first differs from what it made before; "" nowhere.
func (r *reusable) unlike(ctx context.Context, view *workspace.View) (string, error) {
	t, _, err := r.remembered()
	if err != nil {
		return "", err
	}
	from, err := os.OpenRoot(r.older.Dir(r.older.Layers[0]))
	if err != nil {
		return "", err
	}
	defer from.Close()
	older, err := trees.Scan(ctx, from, t.Roots)
	if err != nil {
		return "", err
	}
	before := map[string]trees.Found{}
	for _, f := range older {
		if f.Path != recordFile {
			before[f.Path] = f
		}
	}
	for _, f := range view.Outputs {
		was, has := before[f.Path]
		delete(before, f.Path)
		switch {
		case !has:
			return f.Path + " was not made before", nil
		case was.Kind != f.Kind || was.Target != f.Target:
			return f.Path + " is of another kind", nil
		case f.Kind != tree.File:
			continue
		}
		at, err := trees.FirstDifference(from, view.Root(), f.Path)
		if err != nil {
			return "", err
		}
		if at >= 0 {
			return fmt.Sprintf("%s differs from its byte %d on", f.Path, at), nil
		}
	}
	for _, name := range slices.Sorted(maps.Keys(before)) {
		return name + " is not made any more", nil
	}
	return "", nil
}

// inVain are how programs say that a file is not there.
var inVain = []string{"no such file", "not found", "cannot find", "can't find", "could not find", "cannot open",
	"can't open", "does not exist", "no rule to make target", "unable to open", "enoent"}

// mostLooked is how many files of a workspace are looked at for one that a step looked for.
const mostLooked = 50_000

// aroundNames tells what stands around the names of files in what programs print.
func aroundNames(c rune) bool { return strings.ContainsRune(" \t:;,'\"`()[]<>‘’“”", c) }

// reads finds, among lines of a step that failed, a file that it looked for in vain and that is there, but not
// among its inputs; "" when there is none.
func (r *reusable) reads(lines []logline.Line) string {
	inputs := map[string]bool{}
	for _, f := range r.files {
		inputs[f.Path] = true
	}
	for _, l := range lines {
		low := strings.ToLower(l.Text)
		if !slices.ContainsFunc(inVain, func(say string) bool { return strings.Contains(low, say) }) {
			continue
		}
		for _, word := range strings.FieldsFunc(l.Text, aroundNames) {
			word = strings.TrimPrefix(strings.TrimPrefix(word, r.box.Inside("src")+"/"), "./")
			if at := workspace.Named(r.job.files.FS(), word, r.about.Dir, mostLooked); at != "" && !inputs[at] {
				return at
			}
		}
	}
	return ""
}
