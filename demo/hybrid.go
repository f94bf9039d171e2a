package demo

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/hook"
)

// Hybrid is the demo's second project: the pages of a hybrid app, whose dependencies are real ones, from npm. It shows
// what caches and reused steps save where much is fetched.
const Hybrid = "pocket"

// ErrNoNPM says that the second project is left out.
var ErrNoNPM = errors.New("the hybrid app is left out: npm is not here, or its registry cannot be reached")

const registryPing = "https://registry.npmjs.org/-/ping"

// reachesNPM tells whether packages can be fetched.
func reachesNPM(ctx context.Context) bool {
	if _, err := exec.LookPath("npm"); err != nil {
		return false
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, registryPing, http.NoBody)
	if err != nil {
		return false
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return false
	}
	res.Body.Close()
	return res.StatusCode < http.StatusInternalServerError
}

// PlayHybrid plays the second project: cold, with a change that no page reads, and with a page that has changed. It is
// ErrNoNPM when that cannot be.
func (s *Story) PlayHybrid(ctx context.Context) error {
	if !reachesNPM(ctx) {
		return ErrNoNPM
	}
	g := &repository{bare: filepath.Join(s.Folder, Hybrid+".git"), dir: filepath.Join(s.Folder, Hybrid)}
	for _, dir := range []string{g.bare, g.dir} {
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	if err := g.create(ctx); err != nil {
		return err
	}
	if err := s.connect(ctx, Hybrid, g); err != nil {
		return err
	}
	for n, c := range []struct {
		what string
		act  func() error
	}{
		{"the hybrid app: all is fetched from npm and bundled", func() error {
			if err := writeFolder(Hybrid, g.dir); err != nil {
				return err
			}
			return g.commit(ctx, "Show the next high waters")
		}},
		{"a README: nothing that is read has changed", func() error {
			text := "# Tidewick Pocket\n\nThe next high waters, for small screens.\n"
			if err := os.WriteFile(filepath.Join(g.dir, "README.md"), []byte(text), 0o644); err != nil {
				return err
			}
			return g.commit(ctx, "Say what it is")
		}},
		{"a page has changed: it is bundled anew, with what is there", func() error {
			if err := g.replace("web/src/main.tsx", "count={8}", "count={6}"); err != nil {
				return err
			}
			return g.commit(ctx, "Show fewer waters")
		}},
	} {
		if err := c.act(); err != nil {
			return err
		}
		if err := g.git(ctx, "push", "--quiet", "origin", "main"); err != nil {
			return err
		}
		d, err := s.ended(ctx, Hybrid, record.RunNumber(n+1))
		if err != nil {
			return err
		}
		s.Tell("%s: run %d of %s %s in %s%s", c.what, d.Number, Hybrid, d.State,
			quantity.Span(d.Finished.Sub(d.Queued)), savedIn(d))
		if d.State != state.Passed {
			return fmt.Errorf("run %d of %s %s: %s", d.Number, Hybrid, d.State, d.Reason)
		}
	}
	return nil
}

// savedIn tells what was not done again.
func savedIn(d api.RunDetail) (text string) {
	for _, j := range d.Jobs {
		for _, c := range j.Caches {
			if c.Hit {
				text += fmt.Sprintf("; %s of packages were there in %d ms", quantity.Bytes(c.Size), c.TookMs)
			}
		}
		for _, step := range j.Steps {
			if step.State == state.Reused {
				text += fmt.Sprintf("; %s reused, which took %s", step.Name,
					quantity.Span(time.Duration(step.Reuse.TookMs)*time.Millisecond))
			}
		}
	}
	return text
}

// ended waits until a run of a project is over.
func (s *Story) ended(ctx context.Context, project string, number record.RunNumber) (api.RunDetail, error) {
	ctx, cancel := context.WithTimeout(ctx, runsIn)
	defer cancel()
	for {
		d, err := s.Client.Run(ctx, project, number)
		if err == nil && d.State.Over() || err != nil && !client.IsStatus(err, http.StatusNotFound) {
			return d, err
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return d, ctx.Err()
		}
	}
}

// connect registers a project and has its repository report pushes.
func (s *Story) connect(ctx context.Context, project string, g *repository) error {
	_, err := s.Client.AddProject(ctx, api.NewProject{Name: project, Remote: g.bare})
	if err != nil && !client.IsStatus(err, http.StatusConflict) {
		return err
	}
	key, err := s.Client.HookKey(ctx, project)
	if err != nil {
		return err
	}
	return hook.Install(g.bare, s.Binary, hook.Settings{Address: key.Address, Key: key.Key})
}
