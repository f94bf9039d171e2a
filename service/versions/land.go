package versions

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/action"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/core/versionfile"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// landWithin bounds one try to land: a remote that hangs holds nobody up for longer.
const landWithin = 60 * time.Second

// tries is how often a landing is made anew when the branch moves on meanwhile.
const tries = 20

// Land brings the version that a run was handed out back into the repository: it makes the same edits on the head of
// the branch, commits them, and pushes. What is landed, and where, is what the attempt's step said when the run was
// planned.
func (s *Versions) Land(ctx context.Context, attempt record.AttemptID, ask api.LandRequest) (api.Landed, error) {
	run, job, err := s.RunOf(ctx, attempt)
	if err != nil {
		return api.Landed{}, err
	}
	if ask.Step >= len(job.Step) || job.Step[ask.Step].Land == nil {
		return api.Landed{}, fmt.Errorf("step %d of the job lands nothing: %w", ask.Step, ground.ErrForbidden)
	}
	in := *job.Step[ask.Step].Land
	if !counts(run) {
		return api.Landed{}, fmt.Errorf("a proposal lands nothing: %w; it is landed by whoever merges it", ground.ErrInvalid)
	}
	given, err := s.toLand(ctx, run, in.App)
	if err != nil {
		return api.Landed{}, err
	}
	in.App = given.App
	name, err := version.Parse(given.Name)
	if err != nil {
		return api.Landed{}, err
	}
	before, err := s.Store.LandsBefore(ctx, run.ProjectID, in.App, name.Key(), run.ID)
	if err == nil && in.As == "" {
		return api.Landed{App: in.App, Name: given.Name, After: before.Run}, nil
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return api.Landed{}, err
	}
	ctx, done := context.WithTimeoutCause(ctx, landWithin, fmt.Errorf("it took more than %s", landWithin))
	defer done()
	l := &landing{Versions: s, in: in, run: run, given: given, name: name}
	if err := l.begin(ctx); err != nil {
		return api.Landed{}, err
	}
	defer l.close()
	for range tries {
		out, err := l.try(ctx)
		if !errors.Is(err, source.ErrMoved) {
			return out, err
		}
	}
	return api.Landed{}, fmt.Errorf("%s moves on faster than a commit can be made for it: %w", l.branch, ground.ErrInvalid)
}

// toLand finds what the run was handed out.
func (s *Versions) toLand(ctx context.Context, run store.Run, app string) (*api.Raised, error) {
	had, err := s.Store.VersionsOf(ctx, run.ID)
	if err != nil {
		return nil, err
	}
	if app == "" && len(had) > 0 {
		app = had[0].App
		if slices.ContainsFunc(had, func(v store.Version) bool { return v.App != app }) {
			return nil, fmt.Errorf("the run has raised several apps: %w; say which is to land, by app", ground.ErrInvalid)
		}
	}
	given := Given(had, app)
	if given == nil {
		return nil, fmt.Errorf("the run holds no version of %s: %w; its raise comes first, and a run that was started again "+
			"may have lost its name to another: start a new one", cmp.Or(app, "an app"), ground.ErrInvalid)
	}
	return given, nil
}

// told makes what Git, a remote or a file said that of the step, so that whoever reads its log sees it. When the server
// ends meanwhile, or the runner has gone, it is nothing to tell: it is done again.
func told(ctx context.Context, err error) error {
	if err == nil || errors.Is(err, source.ErrMoved) || errors.Is(ctx.Err(), context.Canceled) {
		return err
	}
	return fmt.Errorf("%w: %w", err, ground.ErrInvalid)
}

// landing is one that is being done.
type landing struct {
	*Versions
	in      action.Land
	run     store.Run
	given   *api.Raised
	name    version.Parts
	project store.Project
	files
	push   *source.Landing
	branch string
	notes  string // in the language of the commits
}

func (l *landing) begin(ctx context.Context) (err error) {
	if l.project, l.repo, err = l.repository(ctx, l.run.ProjectID); err != nil {
		return told(ctx, err)
	}
	main, err := l.repo.MainBranch()
	if err != nil {
		return told(ctx, err)
	}
	l.branch = cmp.Or(l.in.Branch, l.run.Branch, main)
	if l.run.Branch != "" && l.run.Branch != main && l.branch != l.run.Branch {
		return fmt.Errorf("a run of %s lands on that branch only, not on %s: %w; one of %s may land elsewhere",
			l.run.Branch, l.branch, ground.ErrForbidden, main)
	}
	if strings.Contains(l.in.Message, "{notes}") {
		if l.notes, err = l.notesOf(ctx, l.run, l.given); err != nil {
			return err
		}
	}
	to := source.Remote{Address: cmp.Or(l.project.PushTo, l.project.Remote), Host: l.project.PushHost}
	if l.in.Key != "" {
		key, err := l.secrets.Own(ctx, l.run, l.in.Key)
		if err != nil {
			return err
		}
		to.Token, to.Key = key, []byte(key+"\n")
	}
	signer := ""
	if l.in.Sign != "" {
		if signer, err = l.secrets.Own(ctx, l.run, l.in.Sign); err != nil {
			return err
		}
	}
	if l.push, err = l.repo.OpenLanding(ctx, l.folder(), to); err != nil || signer == "" {
		return told(ctx, err)
	}
	if err := l.push.SignBy([]byte(signer + "\n")); err != nil {
		l.close()
		return fmt.Errorf("%w: %w", err, ground.ErrInvalid)
	}
	return nil
}

func (l *landing) close() {
	if err := l.push.Close(); err != nil {
		l.Log.Warn("what a landing made could not be removed", "error", err)
	}
}

// try makes the commit on the branch's head as it is now, and pushes it.
func (l *landing) try(ctx context.Context) (api.Landed, error) {
	if err := l.repo.Fetch(ctx, l.project.Remote); err != nil {
		return api.Landed{}, told(ctx, err)
	}
	reader, err := l.repo.Reader(ctx)
	if err != nil {
		return api.Landed{}, err
	}
	defer reader.Close()
	l.reader = reader
	head, err := reader.Commit("refs/heads/" + l.branch)
	if errors.Is(err, source.ErrNoObject) {
		return api.Landed{}, fmt.Errorf("the branch %s is gone: %w", l.branch, ground.ErrInvalid)
	}
	if err != nil {
		return api.Landed{}, err
	}
	out := api.Landed{App: l.in.App, Name: l.given.Name, Branch: l.branch}
	if l.in.Tag {
		out.Tag = l.tagName()
		if l.run.Tag == out.Tag { // the run is of that tag: it names what was built
			out.Tag = ""
		} else if done, err := l.isDone(ctx, out); err != nil || done.Commit != "" {
			return done, err
		}
	}
	from, onBranch := head.ID, true
	now, err := l.places(ctx, l.in.App, head.ID)
	if err != nil {
		return api.Landed{}, err
	}
	switch above, err := l.overtaken(ctx, now); {
	case err != nil:
		return api.Landed{}, err
	case above: // the branch says a later one of ours: only the tag is to come
		from, onBranch = l.run.Commit, false
		out.Note = fmt.Sprintf("%s says %s already, so that it was left as it is", l.branch, now.Current().Name)
		if now, err = l.places(ctx, l.in.App, from); err != nil {
			return api.Landed{}, err
		}
	}
	return l.send(ctx, out, from, onBranch, now)
}

// send commits on top of from, and pushes.
func (l *landing) send(ctx context.Context, out api.Landed, from string, onBranch bool,
	now versionfile.Found) (api.Landed, error) {
	next, err := l.given.Next()
	if err != nil {
		return api.Landed{}, err
	}
	changes, _ := now.Changes(next)
	edited, err := versionfile.EditAll(l.tree(ctx, from), changes)
	if err != nil {
		return api.Landed{}, told(ctx, err)
	}
	out.Files = sorted(edited)
	out.Commit = from
	by := source.Person{Name: cmp.Or(l.project.Bot.Name, "Piston"),
		Email: cmp.Or(l.project.Email, "piston@"+l.project.Name+".invalid")}
	if len(edited) > 0 {
		if out.Commit, err = l.push.Commit(ctx, from, edited, by, l.message()); err != nil {
			return api.Landed{}, told(ctx, err)
		}
	}
	var refs []string
	switch {
	case l.in.As == action.AsProposal:
		out.Branch = "raise/" + l.given.Name
		refs = []string{out.Commit + ":refs/heads/" + out.Branch}
		if source.IsLocal(l.project.Remote) {
			refs = append(refs, out.Commit+":refs/proposals/"+l.branch+"/raise-"+l.given.Name)
		}
	case onBranch && len(edited) > 0:
		refs = []string{out.Commit + ":refs/heads/" + l.branch}
	}
	if out.Tag != "" {
		if err := l.push.Tag(ctx, out.Tag, out.Commit, l.message()); err != nil {
			return api.Landed{}, told(ctx, err)
		}
		refs = append(refs, "refs/tags/"+out.Tag+":refs/tags/"+out.Tag)
	}
	if len(refs) == 0 {
		out.Note = "the branch says so already"
		return out, l.noted(ctx, out)
	}
	// Before the push, since the push is known of at once.
	if !l.in.Starts && out.Commit != from {
		if err := l.Store.AddOwnCommit(ctx, l.project.ID, out.Commit); err != nil {
			return api.Landed{}, err
		}
	}
	if err := l.push.Push(ctx, refs...); err != nil {
		return api.Landed{}, told(ctx, err)
	}
	return out, l.noted(ctx, out)
}

func sorted(files map[string][]byte) (names []string) {
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// noted writes what has landed.
func (l *landing) noted(ctx context.Context, out api.Landed) error {
	return l.Tx(ctx, func(q ground.Q) error {
		if l.in.As == "" {
			if err := q.NoteLanded(ctx, l.run.ID, l.in.App, out.Commit); err != nil {
				return err
			}
		}
		return q.Tell(ctx, fact.Fact{Kind: fact.VersionLand, Project: l.project.Name, Subject: l.in.App + " " + out.Name,
			After: out})
	})
}

// fill puts what they stand for in the marks of a text.
func (l *landing) fill(text string) string {
	return strings.NewReplacer("{name}", l.given.Name, "{build}", l.given.Env["PISTON_BUILD_NUMBER"], "{run}",
		fmt.Sprint(l.run.Number), "{app}", l.in.App, "{notes}", l.notes).Replace(text)
}

func (l *landing) tagName() string {
	name := l.in.TagName
	if name == "" && l.in.App != definition.SoleApp && l.severalApps() {
		name = "{app}/v{name}"
	}
	return l.fill(cmp.Or(name, "v{name}"))
}

// severalApps tells whether the repository has more apps than one, as of the run's commit.
func (l *landing) severalApps() bool {
	apps, err := l.apps(l.run.Commit)
	return err == nil && len(apps.App) > 1
}

// message is the commit's, with the run it is of as a trailer.
func (l *landing) message() string {
	text := strings.TrimSpace(l.fill(cmp.Or(l.in.Message, "Raise the version to {name} ({build})")))
	return text + "\n" + l.trailer()
}

func (l *landing) trailer() string {
	return fmt.Sprintf("\n%s: %s/%d\n", version.RunTrailer, l.project.Name, l.run.Number)
}

// isDone finds what an earlier try has pushed whose answer was lost: the tag, on a commit with this run's trailer.
func (l *landing) isDone(ctx context.Context, out api.Landed) (api.Landed, error) {
	if !action.IsRefName(out.Tag) {
		return api.Landed{}, fmt.Errorf("no tag can be named %.60q: %w", out.Tag, ground.ErrInvalid)
	}
	at, err := l.reader.Commit("refs/tags/" + out.Tag)
	switch {
	case errors.Is(err, source.ErrNoObject):
		return api.Landed{}, nil
	case err != nil:
		return api.Landed{}, err
	case strings.Contains(at.Message, l.trailer()):
		out.Commit, out.Note = at.ID, "it had landed already"
		return out, l.noted(ctx, out)
	}
	return api.Landed{}, fmt.Errorf("the tag %s exists already, on commit %.12s by %s: %w; remove it, or choose tag_name",
		out.Tag, at.ID, at.Author, ground.ErrInvalid)
}

// overtaken tells whether the branch says a later version that the service has landed. What somebody else has raised
// the same places to since the run's commit is an error that says who.
func (l *landing) overtaken(ctx context.Context, now versionfile.Found) (bool, error) {
	then, err := l.places(ctx, l.in.App, l.run.Commit)
	if err != nil {
		return false, err
	}
	was, is := then.Current(), now.Current()
	if is.Name.Compare(was.Name) == 0 || is.Name.Compare(l.name) == 0 {
		return false, nil
	}
	ours, err := l.Store.IsLanded(ctx, l.run.ProjectID, l.in.App, is.Name.Key())
	if err != nil {
		return false, err
	}
	if ours {
		return is.Name.Compare(l.name) > 0, nil
	}
	for _, p := range now.Places {
		if p.Kind != versionfile.Name || p.Value != is.Name.String() {
			continue
		}
		who, by, err := l.repo.LastChange(ctx, "refs/heads/"+l.branch, p.File, p.Line)
		if err != nil {
			return false, err
		}
		return false, fmt.Errorf("%s:%d on %s says %s since commit %.12s by %s, and said %s when this run began: %w; "+
			"start a new run, which goes on from there", p.File, p.Line, l.branch, p.Value, by, who, was.Name,
			ground.ErrInvalid)
	}
	return false, nil
}
