package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/cli/terminal"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/check"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/schedule"
	"gentlepiston.example/piston/source"
)

// checked is a work tree and what a check of it came to.
type checked struct {
	tree   *source.WorkTree
	result check.Result
}

// repositoryOf makes a work tree a repository to check: files are as they are on this disk, modes as in the index.
func repositoryOf(w *source.WorkTree) *check.Repository {
	r := &check.Repository{Branches: w.Branches, Tags: w.Tags, Now: time.Now(),
		Read: func(name string) ([]byte, error) {
			text, err := readUpTo(filepath.Join(w.Dir, filepath.FromSlash(name)), definition.MaxFileSize+1)
			if errors.Is(err, os.ErrNotExist) {
				return nil, nil
			}
			return text, err
		},
		OnDisk: func(name string) bool {
			info, err := os.Stat(filepath.Join(w.Dir, filepath.FromSlash(name)))
			return err == nil && info.Mode().IsRegular()
		}}
	for _, e := range w.Entries {
		r.Entries = append(r.Entries,
			check.Entry{Path: e.Path, Executable: e.Mode == "100755", Submodule: e.Mode == "160000", Link: e.Mode == "120000"})
	}
	return r
}

// openTree opens the work tree that a folder is in. Meanwhile it makes ready for a check what each program that checks
// must make once.
func openTree(ctx context.Context, dir string) (*source.WorkTree, error) {
	var ready sync.WaitGroup
	ready.Go(check.Ready)
	w, err := source.OpenWorkTree(ctx, dir)
	ready.Wait()
	if err != nil {
		return nil, terminal.Ending(terminal.ExitFailed, err)
	}
	return w, nil
}

// hasten keeps memory from being collected up to half a gigabyte: a command that only checks is over before that pays.
func hasten() {
	debug.SetGCPercent(-1)
	debug.SetMemoryLimit(512 << 20)
}

// untrackedFlag takes what Git does not track as if it were added.
var untrackedFlag = &cli.BoolFlag{Name: "untracked",
	Usage: "also take files that Git neither tracks nor ignores, which a push would be without"}

// checkTree checks a work tree as a push of it would be: what Git tracks, with its changes. Pipeline files that Git
// does not track yet are checked too, and told.
func checkTree(w *source.WorkTree, known *check.Service, untracked bool) (checked, error) {
	r := repositoryOf(w)
	if untracked {
		for _, e := range w.Loose {
			r.Entries = append(r.Entries, check.Entry{Path: e.Path, Executable: e.Mode == "100755"})
		}
	}
	var loose []definition.Finding
	for _, e := range w.Loose {
		if untracked {
			break
		}
		if definition.IsPipelineFile(e.Path) || strings.HasPrefix(e.Path, definition.PartsFolder+"/") {
			r.Entries = append(r.Entries, check.Entry{Path: e.Path})
			loose = append(loose,
				check.About("not-tracked", e.Path, e.Path+" is on this machine only: Git does not track it", "git add "+e.Path))
		}
	}
	result := check.All(r, known)
	if !untracked {
		result.Findings = append(result.Findings, check.Untracked(r, result.Files, w.LoosePaths(), w.Ignored)...)
	}
	result.Findings = append(result.Findings, loose...)
	if len(result.Files) == 0 && len(result.Findings) == 0 {
		return checked{}, terminal.Ending(terminal.ExitFailed,
			fmt.Errorf("there is no file piston/*.toml in %s; docs/guide.md shows how to begin", w.Dir))
	}
	return checked{w, result}, nil
}

func readUpTo(path string, most int64) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, most))
}

// askFor bounds what a check waits for the service.
const askFor = 4 * time.Second

// serviceOf finds the service that one is signed in to, and the project of a work tree there. The error says in short
// why there is none.
func serviceOf(ctx context.Context, c *cli.Command, w *source.WorkTree) (*client.Client, string, error) {
	cl, err := terminal.Connect()
	if err != nil {
		return nil, "", errors.New("not signed in")
	}
	project := c.String("project")
	if project == "" {
		project, err = terminal.ProjectOf(ctx, cl, w)
	}
	return cl, project, err
}

// askService asks the service what a check may know, when somebody is signed in. note says what was not asked and why.
func askService(ctx context.Context, c *cli.Command, w *source.WorkTree) (known *check.Service, note string) {
	if c.Bool("offline") {
		return nil, ""
	}
	ctx, cancel := context.WithTimeout(ctx, askFor)
	defer cancel()
	cl, project, err := serviceOf(ctx, c, w)
	if err != nil {
		return nil, err.Error() + ": secrets and runners are not checked"
	}
	about, err := cl.Knowledge(ctx, project)
	if err != nil {
		return nil, err.Error() + ": secrets and runners are not checked"
	}
	known = &check.Service{Project: project, LastBuild: about.LastBuild, Outlets: about.Outlets, Now: time.Now()}
	for _, v := range about.Secrets {
		known.Secrets = append(known.Secrets, check.Secret{Name: v.Name, Scope: v.Scope, Expires: v.Expires,
			Profile: v.Profile})
	}
	for _, g := range about.Given {
		known.Given = append(known.Given, check.Given{App: g.App, Platform: g.Platform, Name: g.Name,
			Build: int64(max(g.Last, g.Floor))})
	}
	for _, r := range about.Runners {
		known.Runners = append(known.Runners, schedule.Runner{Name: r.Name, Labels: r.Labels, Tools: r.Tools})
	}
	return known, ""
}
