package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/hook"
	"gentlepiston.example/piston/source"
)

// Story plays the demo against a service on this machine.
type Story struct {
	Folder string // where the demo keeps its repository and what it must remember
	Client *client.Client
	Binary string // the piston program, for the hook
	Tell   func(format string, args ...any)

	people map[string]*client.Client // those who act in the story
	shops  map[string]*standIn       // of stores, by the name of the outlet
	next   record.RunNumber          // number of the next run
	builds int64                     // build numbers issued so far
}

// Outcome is what came of one run of the story.
type Outcome struct {
	What   string      `json:"what"`
	Wanted state.State `json:"wanted"`
	Run    api.Run     `json:"run"`
	Cache  string      `json:"cache"`    // hit, miss, or "" for none
	Reused int         `json:"reused"`   // steps that were not run again
	Saved  int64       `json:"saved_ms"` // what they took when they were
	Tests  string      `json:"tests"`
	Files  []string    `json:"files"`
	Ok     bool        `json:"ok"`
	Why    string      `json:"why,omitempty"`
}

// memory is what the demo must know when it is started again.
type memory struct {
	DepotPort int            `json:"depot_port"`
	ShopPorts map[string]int `json:"shop_ports"`
	Played    bool           `json:"played"`
}

func (s *Story) memoryFile() string { return filepath.Join(s.Folder, "demo.json") }

func (s *Story) remember(m memory) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(s.Folder, 0o700); err != nil {
		return err
	}
	return os.WriteFile(s.memoryFile(), text, 0o600)
}

// Prepare starts what is outside, where it was before: the depot, and stand-ins of two stores. stop ends it. played
// tells that the story has been told.
func (s *Story) Prepare() (depot string, stop func(), played bool, err error) {
	var m memory
	text, err := os.ReadFile(s.memoryFile())
	if err == nil {
		err = json.Unmarshal(text, &m)
	}
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", nil, false, err
	}
	depot, stopDepot, err := startDepot(m.DepotPort)
	if err != nil {
		return "", nil, false, err
	}
	u, err := url.Parse(depot)
	if err != nil {
		return "", nil, false, err
	}
	m.DepotPort, _ = strconv.Atoi(u.Port())
	if err := s.openShops(&m); err != nil {
		stopDepot()
		return "", nil, false, err
	}
	stop = func() {
		s.closeShops()
		stopDepot()
	}
	return depot, stop, m.Played, s.remember(m)
}

// services are what the Android app is configured with, for each flavour: files that must not be in the repository.
var services = map[string]string{
	"harbour":  "{\n  \"push_sender\": \"tidewick-481516\",\n  \"api_key\": \"svc-3vN8pLw2Rt6YbQz1\"\n}\n",
	"open-sea": "{\n  \"push_sender\": \"tidewick-234281\",\n  \"api_key\": \"svc-9kT4mXc7Hs1DfGu5\"\n}\n",
}

// ofReleases is who may use what only a release may.
var ofReleases = access.Scope{Pipelines: []string{"release"}, Branches: []string{"main"}}

// storeKey is what deliveries to the store, a made-up one, are sealed with.
const storeKey = "seal-key-for-deliveries-of-tidewick: 6c1e0f4b97d25a3386bd40c7e2f95a10\n"

// runsIn bounds how long a run of the story may take.
const runsIn = 2 * time.Minute

// Play tells the story: it makes the repository, registers it, sets the secrets, and pushes.
func (s *Story) Play(ctx context.Context, depot string) ([]Outcome, error) {
	g := &repository{bare: filepath.Join(s.Folder, "tidewick.git"), dir: filepath.Join(s.Folder, "tidewick")}
	for _, dir := range []string{g.bare, g.dir} {
		if err := os.RemoveAll(dir); err != nil {
			return nil, err
		}
	}
	s.Tell("making the repository of Tidewick")
	if err := g.create(ctx); err != nil {
		return nil, err
	}
	if err := s.register(ctx, g); err != nil {
		return nil, err
	}
	if err := s.awaitRunner(ctx); err != nil {
		return nil, err
	}
	var outcomes []Outcome
	for _, c := range chapters {
		s.Tell("%s", c.what)
		if err := c.act(ctx, g, depot); err != nil {
			return outcomes, err
		}
		s.next = record.RunNumber(len(outcomes) + 1)
		if c.push != nil {
			if err := g.git(ctx, append([]string{"push", "--quiet", "origin"}, c.push...)...); err != nil {
				return outcomes, err
			}
		}
		if c.call != nil {
			if err := c.call(ctx, s, g); err != nil {
				return outcomes, err
			}
		}
		for _, w := range c.runs {
			o, err := s.follow(ctx, c.what, record.RunNumber(len(outcomes)+1), w)
			if err != nil {
				return outcomes, err
			}
			outcomes = append(outcomes, o)
		}
	}
	m := memory{}
	text, err := os.ReadFile(s.memoryFile())
	if err == nil {
		err = json.Unmarshal(text, &m)
	}
	if err != nil {
		return outcomes, err
	}
	m.Played = true
	return outcomes, s.remember(m)
}

func (s *Story) register(ctx context.Context, g *repository) error {
	if err := s.connect(ctx, Project, g); err != nil {
		return err
	}
	s.Tell("registered the project, installed the hook, setting secrets")
	if err := s.setSecrets(ctx); err != nil {
		return err
	}
	s.Tell("having two signing keys made, which nobody sees")
	if err := s.keepIdentities(ctx); err != nil {
		return err
	}
	s.Tell("making an outlet, a folder that harbour masters fetch releases from")
	if _, err := s.Client.SetOutlet(ctx, Project, "harbour-depot", api.NewOutlet{Kind: "folder",
		Scope: ofReleases}); err != nil {
		return err
	}
	if err := s.addOutlets(ctx); err != nil {
		return err
	}
	s.Tell("adding people: two keepers, a builder, a reader")
	return s.addPeople(ctx)
}

func (s *Story) setSecrets(ctx context.Context) error {
	said := func(note string, days int, scope *access.Scope) *api.SecretSettings {
		in := &api.SecretSettings{Note: &note, Scope: scope}
		if days > 0 {
			at := time.Now().AddDate(0, 0, days).UTC().Truncate(24 * time.Hour)
			in.Expires = &at
		}
		return in
	}
	list := map[string]api.NewSecret{
		"DEPOT_KEY": {Kind: api.TextSecret, Value: []byte(depotKey),
			Settings: said("Opens the depot of stations; the depot's page gives a new one", 75, nil)},
		"STORE_KEY": {Kind: api.FileSecret, Value: []byte(storeKey),
			Settings: said("Seals deliveries to the store; for releases only", 12,
				&ofReleases)},
	}
	for flavour, text := range services {
		list["SERVICES:"+flavour] = api.NewSecret{Kind: api.FileSecret, Value: []byte(text),
			Settings: said("What the app is configured with; part of the package", 0, nil)}
	}
	for _, name := range slices.Sorted(maps.Keys(list)) {
		if _, err := s.Client.SetSecret(ctx, Project, name, list[name]); err != nil {
			return err
		}
	}
	return nil
}

// wanted is what a run of the story must come to.
type wanted struct {
	pipeline string
	state    state.State
	cache    string
	failedAt string
	files    int
}

// follow waits for a run and compares it with what the story says.
func (s *Story) follow(ctx context.Context, what string, number record.RunNumber, w wanted) (Outcome, error) {
	ctx, cancel := context.WithTimeout(ctx, runsIn)
	defer cancel()
	d, err := s.await(ctx, number, w.state)
	if err != nil {
		return Outcome{}, fmt.Errorf("%s: run %d: %w", what, number, err)
	}
	o := Outcome{What: what, Wanted: w.state, Run: d.Run}
	passed, failed := 0, 0
	for _, j := range d.Jobs {
		for _, c := range j.Caches {
			// The jobs after the first find what that one has saved; the first one's cache tells.
			if o.Cache == "" {
				o.Cache = map[bool]string{true: "hit", false: "miss"}[c.Hit]
			}
		}
		for _, step := range j.Steps {
			if step.State == state.Reused {
				o.Reused++
				o.Saved += step.Reuse.TookMs
			}
		}
		if j.Tests != nil {
			passed, failed = passed+j.Tests.Passed, failed+j.Tests.Failed
		}
	}
	o.Tests = fmt.Sprintf("%d passed, %d failed", passed, failed)
	for _, a := range d.Artifacts {
		if a.Name == "symbols" {
			continue // they are many, and nobody looks for them here
		}
		o.Files = append(o.Files, filepath.Base(a.Path))
	}
	switch {
	case d.Pipeline != w.pipeline:
		o.Why = fmt.Sprintf("pipeline %s, not %s", d.Pipeline, w.pipeline)
	case d.State != w.state:
		o.Why = fmt.Sprintf("%s, not %s: %s %s", d.State, w.state, d.FailedAt, d.Reason)
	case o.Cache != w.cache:
		o.Why = fmt.Sprintf("cache %s, not %s", o.Cache, w.cache)
	case d.FailedAt != w.failedAt:
		o.Why = fmt.Sprintf("failed at %q, not %q", d.FailedAt, w.failedAt)
	case len(o.Files) != w.files:
		o.Why = fmt.Sprintf("%d artifacts, not %d", len(o.Files), w.files)
	case d.BuildNumber != 0 && int64(d.BuildNumber) != s.builds+1:
		o.Why = fmt.Sprintf("build number %d, not %d", d.BuildNumber, s.builds+1)
	default:
		o.Ok = true
	}
	if d.BuildNumber != 0 {
		s.builds = int64(d.BuildNumber)
	}
	end := d.Now
	if d.Finished != nil {
		end = *d.Finished
	}
	s.Tell("  run %d %s in %.1f s", number, d.State, end.Sub(d.Queued).Seconds())
	return o, nil
}

// propose reports a proposal from outside, as a host of repositories would.
func (s *Story) propose(ctx context.Context, g *repository, name, ref string) error {
	head, err := g.output(ctx, "rev-parse", "HEAD")
	if err != nil {
		return err
	}
	key, err := s.Client.HookKey(ctx, Project)
	if err != nil {
		return err
	}
	body, err := json.Marshal(api.ProposalEvent{Type: "proposal", Timestamp: time.Now().UTC(),
		Data: api.ProposalData{Proposal: name, Target: "main", Commit: head, Ref: ref}})
	if err != nil {
		return err
	}
	_, err = hook.Send(ctx, hook.Settings{Address: key.Address, Key: key.Key}, "proposal-"+name, body, 0)
	return err
}

// awaitRunner waits until there is somebody to do the work.
func (s *Story) awaitRunner(ctx context.Context) error {
	for {
		list, err := s.Client.Runners(ctx, api.Page{})
		if err != nil || len(list) > 0 {
			return err
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// awaitVersion waits until a run has raised its version.
func (s *Story) awaitVersion(ctx context.Context, number record.RunNumber) error {
	for {
		d, err := s.Client.Run(ctx, Project, number)
		if err != nil && !client.IsStatus(err, 404) || err == nil && (d.BuildNumber != 0 || d.State.Over()) {
			return err
		}
		select {
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// awaitLanding waits until the release is over, and takes in what it has landed.
func (s *Story) awaitLanding(ctx context.Context, g *repository, release record.RunNumber) error {
	if _, err := s.await(ctx, release, ""); err != nil {
		return err
	}
	return g.git(ctx, "pull", "--quiet", "--tags", "origin", "main")
}

// awaitRun waits until there is a run of a number.
func (s *Story) awaitRun(ctx context.Context, number record.RunNumber) error {
	for {
		_, err := s.Client.Run(ctx, Project, number)
		if err == nil || !client.IsStatus(err, 404) {
			return err
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

var errOver = errors.New("the run is over")

// await follows a run by the event stream until it is over, or in a state that is waited for, telling each change.
func (s *Story) await(ctx context.Context, number record.RunNumber, waitsFor state.State) (d api.RunDetail,
	err error) {
	told := map[string]bool{}
	look := func() error {
		d, err = s.Client.Run(ctx, Project, number)
		if client.IsStatus(err, 404) {
			return nil // not planned yet
		}
		if err != nil {
			return err
		}
		for _, j := range d.Jobs {
			for _, step := range j.Steps {
				line := fmt.Sprintf("  %s › %s %s", j.Name, step.Name, step.State)
				if step.State != state.Queued && step.State != state.Running && !told[line] {
					told[line] = true
					s.Tell("%s", line)
				}
			}
		}
		if d.State.Over() || d.State == waitsFor {
			return errOver
		}
		return nil
	}
	err = s.Client.Stream(ctx, client.Topic{Project: Project}, "", func(e client.Event) error { return look() })
	if errors.Is(err, errOver) {
		err = nil
	}
	return d, err
}

// repository is the demo's: a bare one that is pushed to, and a work tree.
type repository struct{ bare, dir string }

func (g *repository) create(ctx context.Context) error {
	if err := os.MkdirAll(g.dir, 0o755); err != nil {
		return err
	}
	for _, args := range [][]string{
		{"init", "--quiet", "--bare", "--initial-branch=main", g.bare},
		{"init", "--quiet", "--initial-branch=main"},
		{"remote", "add", "origin", g.bare},
	} {
		if err := g.git(ctx, args...); err != nil {
			return err
		}
	}
	return nil
}

func (g *repository) git(ctx context.Context, args ...string) error {
	_, err := g.output(ctx, args...)
	return err
}

// branch begins a branch at another.
func (g *repository) branch(ctx context.Context, name, at string) error {
	return g.git(ctx, "checkout", "--quiet", "--force", "-b", name, at)
}

func (g *repository) output(ctx context.Context, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Dir = g.dir
	cmd.Env = source.Environment(map[string]string{"user.name": "Wren Halloway", "user.email": "wren@tidewick.example",
		"protocol.file.allow": "always", "core.hooksPath": "hooks"})
	cmd.Env = append(cmd.Env, "GIT_ALLOW_PROTOCOL=file")
	out, err := cmd.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("git %s: %w: %s", strings.Join(args, " "), err, strings.TrimSpace(string(out)))
	}
	return strings.TrimSpace(string(out)), nil
}

func (g *repository) commit(ctx context.Context, message string) error {
	if err := g.git(ctx, "add", "--all"); err != nil {
		return err
	}
	return g.git(ctx, "commit", "--quiet", "--message", message)
}

// draw writes a file of so many bytes that no compression makes smaller, the same every time.
func (g *repository) draw(file string, size int) error {
	path := filepath.Join(g.dir, file)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	pen, sheet := rand.NewPCG(54, 8), make([]byte, size) // degrees north, east
	for i := range sheet {
		sheet[i] = byte(pen.Uint64())
	}
	return os.WriteFile(path, sheet, 0o644)
}

// replace changes a text in a file; it must be there.
func (g *repository) replace(file, before, after string) error {
	path := filepath.Join(g.dir, file)
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	if !strings.Contains(string(text), before) {
		return fmt.Errorf("the demo's %s holds no %q", file, before)
	}
	return os.WriteFile(path, []byte(strings.Replace(string(text), before, after, 1)), 0o644)
}
