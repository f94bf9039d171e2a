package terminal

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/source"
)

// What RUN may be, where a command is about a run: its number, a commit, a branch, a tag or HEAD. Without it, in a work
// tree of the project, it is the commit that is checked out: never an older one, whose result would be taken for this
// one's. Elsewhere it is the latest run.

// AboutRunHelp tells that in a command's help.
const AboutRunHelp = "RUN is a number, a commit, a branch, a tag or HEAD. Without it: in a work tree of the project " +
	"the commit that is\n" +
	"checked out, elsewhere the latest. A push that is still being planned is waited for."

// planningFor bounds how long a push may take to be planned while a command waits for it; reportedWithin how long after
// the command began it may take to be reported.
const (
	planningFor    = 2 * time.Minute
	reportedWithin = 3 * time.Second
	planningLook   = 200 * time.Millisecond
)

// RunsMeant finds the runs a command is about, by number. Of a commit these are the latest of each pipeline.
func RunsMeant(ctx context.Context, cl *client.Client, project, text string) ([]record.RunNumber, error) {
	n, known, err := numberMeant(ctx, cl, project, text)
	if err != nil || known {
		return []record.RunNumber{n}, err
	}
	if strings.ContainsAny(text, " \t\r\n") || strings.HasPrefix(text, "-") {
		return nil, Usage("%q is no run: give a number, a commit, a branch, a tag or HEAD", text)
	}
	commit, err := commitMeant(ctx, cl, project, text)
	if err != nil {
		return nil, err
	}
	if commit != "" {
		return runsOfCommit(ctx, cl, project, commit)
	}
	page, err := cl.Runs(ctx, project, client.RunFilter{Branch: text, Limit: 1})
	if err != nil {
		return nil, err
	}
	if len(page.Runs) == 0 && text != "" {
		return nil, fmt.Errorf("project %s has no run of %q: give a number, a commit or a branch, or call this in its "+
			"work tree", project, text)
	}
	if len(page.Runs) == 0 {
		return nil, fmt.Errorf("project %s has no runs yet", project)
	}
	return []record.RunNumber{page.Runs[0].Number}, nil
}

// shortestCommit is how many digits of a commit name it at least, as Git abbreviates.
const shortestCommit = 7

// numberMeant takes text as a run's number. One commit in twenty-seven begins with seven digits that could be a number
// too: such a one is the run only when the project has it.
func numberMeant(ctx context.Context, cl *client.Client, project, text string) (n record.RunNumber, known bool,
	err error) {
	parsed, err := strconv.ParseInt(text, 10, 64)
	n = record.RunNumber(parsed)
	switch {
	case err != nil || len(text) > 10:
		return 0, false, nil
	case n < 1:
		return 0, false, Usage("%q is no number of a run", text)
	case len(text) < shortestCommit:
		return n, true, nil
	}
	_, err = cl.Run(ctx, project, n)
	if problem := (*client.Problem)(nil); errors.As(err, &problem) && problem.Status == http.StatusNotFound {
		return 0, false, nil
	}
	return n, err == nil, err
}

// theRun finds the one run a command is about: of several of a commit the one that did not go well, else the latest.
func theRun(ctx context.Context, cl *client.Client, project, text string) (record.RunNumber, error) {
	list, err := RunsMeant(ctx, cl, project, text)
	if err != nil || len(list) == 1 {
		return append(list, 0)[0], err
	}
	best := record.RunNumber(0)
	for _, n := range list {
		d, err := cl.Run(ctx, project, n)
		if err != nil {
			return 0, err
		}
		if best = n; d.State == state.Failed || d.State == state.TimedOut {
			break
		}
	}
	Complain("piston: runs %s are of this commit; this is about run %d", numbers(list), best)
	return best, nil
}

func numbers(list []record.RunNumber) string {
	texts := make([]string, len(list))
	for i, n := range list {
		texts[i] = strconv.FormatInt(int64(n), 10)
	}
	return strings.Join(texts, ", ")
}

// commitMeant finds the commit that is meant; "" when it is no commit that is known here.
func commitMeant(ctx context.Context, cl *client.Client, project, text string) (string, error) {
	tree := treeOf(ctx, cl, project)
	if tree != nil {
		name := text
		if name == "" {
			name = "HEAD"
		}
		id, err := tree.Resolve(ctx, name)
		if err == nil || text == "" || text == "HEAD" {
			return id, err
		}
	}
	switch {
	case text == "HEAD":
		return "", fmt.Errorf("HEAD means the commit of a work tree, and this folder is in none of project %s", project)
	case len(text) >= 7 && strings.Trim(text, "0123456789abcdef") == "":
		return text, nil
	}
	return "", nil
}

// treeOf is the work tree this is called in, when it is one of the project; else nil.
func treeOf(ctx context.Context, cl *client.Client, project string) *source.WorkTree {
	tree, err := source.OpenWorkTree(ctx, ".")
	if err != nil {
		return nil
	}
	p, err := cl.Project(ctx, project)
	if err != nil {
		return nil
	}
	if is, err := IsOf(ctx, tree); err != nil || !is(p.Remote) {
		return nil
	}
	return tree
}

// IsOf asks a work tree where it is pushed to, and gives what tells whether it is of a remote.
func IsOf(ctx context.Context, w *source.WorkTree) (is func(remote string) bool, err error) {
	clean := func(s string) string { return strings.TrimSuffix(strings.TrimSuffix(s, "/"), ".git") }
	origin, err := w.Origin(ctx)
	return func(remote string) bool {
		return remote == w.Dir || origin != "" && clean(remote) == clean(origin)
	}, err
}

// runsOfCommit finds the latest run of each pipeline for a commit, waiting while a push of it is being planned.
func runsOfCommit(ctx context.Context, cl *client.Client, project, commit string) ([]record.RunNumber, error) {
	began := time.Now()
	for said := false; ; {
		pushes, err := pushesOf(ctx, cl, project, commit)
		if err != nil {
			return nil, err
		}
		list, err := latestOfEach(ctx, cl, project, commit, pushes)
		if err != nil {
			return nil, err
		}
		waits := slices.ContainsFunc(pushes, func(p api.Push) bool { return p.State == "waiting" })
		patience := reportedWithin
		if waits {
			patience = planningFor
		}
		switch {
		case len(list) > 0 && !waits:
			return list, nil
		case time.Since(began) < patience && (waits || len(pushes) == 0):
		case waits:
			return nil, fmt.Errorf("the push of %.12s is not planned yet: %s; piston pushes %s tells more", commit,
				pushes[0].Note, project)
		case len(pushes) > 0:
			return nil, fmt.Errorf("%.12s was pushed, and no pipeline of %s starts on that: piston explain tells which do on "+
				"what", commit, project)
		default:
			return nil, fmt.Errorf("project %s has no run of %.12s: is it pushed? piston runs %s lists those it has", project,
				commit, project)
		}
		if !said && waits {
			Complain("piston: the push of %.12s is being planned", commit)
			said = true
		}
		select {
		case <-time.After(planningLook):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

func pushesOf(ctx context.Context, cl *client.Client, project, commit string) ([]api.Push, error) {
	if len(commit) != 40 && len(commit) != 64 {
		return nil, nil // how a commit begins: only runs can be found by that
	}
	page, err := cl.Pushes(ctx, project, client.PushFilter{Commit: commit, Limit: 20})
	return page.Pushes, err
}

// latestOfEach lists the latest run of each pipeline, oldest first: of a commit, and of what was pushed as it, such as
// a proposal that was merged.
func latestOfEach(ctx context.Context, cl *client.Client, project, commit string,
	pushes []api.Push) ([]record.RunNumber, error) {
	page, err := cl.Runs(ctx, project, client.RunFilter{Commit: commit, Limit: 100})
	if err != nil {
		return nil, err
	}
	latest := map[string]record.RunNumber{}
	for _, r := range page.Runs {
		latest[r.Pipeline] = max(latest[r.Pipeline], r.Number)
	}
	for _, p := range pushes {
		for _, r := range p.Runs {
			latest[r.Pipeline] = max(latest[r.Pipeline], r.Number)
		}
	}
	var list []record.RunNumber
	for _, n := range latest {
		list = append(list, n)
	}
	slices.Sort(list)
	return list, nil
}

var ErrNoProject = errors.New("no project of the service has this repository; name it with --project")
