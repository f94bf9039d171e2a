package demo

import (
	"context"
	"os"
	"path/filepath"

	"gentlepiston.example/piston/core/state"
)

// chapter is one push of the story.
type chapter struct {
	what string
	act  func(ctx context.Context, g *repository, depot string) error
	push []string
	runs []wanted
}

var chapters = []chapter{
	{
		what: "first push: nothing is cached yet",
		act: func(ctx context.Context, g *repository, depot string) error {
			if err := writeTree(g.dir, depot); err != nil {
				return err
			}
			return g.commit(ctx, "Predict tides for six harbours")
		},
		push: []string{"main"},
		runs: []wanted{{"trunk", state.Passed, "miss", "", 2}},
	},
	{
		what: "a change: the stations come from the cache",
		act: func(ctx context.Context, g *repository, _ string) error {
			if err := g.replace("android/res/values/strings.xml", ">Tidewick<", ">Tidewick Almanac<"); err != nil {
				return err
			}
			return g.commit(ctx, "Call the app by its full name")
		},
		push: []string{"main"},
		runs: []wanted{{"trunk", state.Passed, "hit", "", 2}},
	},
	{
		what: "a branch with a mistake: the tests find it",
		act: func(ctx context.Context, g *repository, _ string) error {
			if err := g.git(ctx, "checkout", "--quiet", "-b", "work/faster-extremes"); err != nil {
				return err
			}
			if err := g.replace("core/tide.c", "(c->speed * hour - c->phase) * radians_per_degree);\n    }\n    return height;",
				"(c->speed * hour + c->phase) * radians_per_degree);\n    }\n    return height;"); err != nil {
				return err
			}
			return g.commit(ctx, "Fold the phase into the height's sum")
		},
		push: []string{"work/faster-extremes"},
		runs: []wanted{{"trunk", state.Failed, "hit", "core › unit tests", 0}},
	},
	{
		what: "its fix",
		act: func(ctx context.Context, g *repository, _ string) error {
			if err := g.replace("core/tide.c", "hour + c->phase", "hour - c->phase"); err != nil {
				return err
			}
			return g.commit(ctx, "Put the phase's sign right again")
		},
		push: []string{"work/faster-extremes"},
		runs: []wanted{{"trunk", state.Passed, "hit", "", 2}},
	},
	{
		what: "a release: the branch is merged",
		act: func(ctx context.Context, g *repository, _ string) error {
			if err := g.git(ctx, "checkout", "--quiet", "main"); err != nil {
				return err
			}
			if err := g.git(ctx, "merge", "--quiet", "--no-ff", "--message", "Merge work/faster-extremes", "work/faster-extremes"); err != nil {
				return err
			}
			if err := g.replace("VERSION", "1.4.0", "1.5.0"); err != nil {
				return err
			}
			return g.commit(ctx, "Raise the version to 1.5.0")
		},
		push: []string{"main"},
		runs: []wanted{{"trunk", state.Passed, "hit", "", 2}},
	},
	{
		what: "and tagged v1.5.0",
		act: func(ctx context.Context, g *repository, _ string) error {
			return g.git(ctx, "tag", "--annotate", "--message", "Tidewick 1.5.0", "v1.5.0")
		},
		push: []string{"v1.5.0"},
		runs: []wanted{{"release", state.Passed, "hit", "", 2}},
	},
	{
		what: "a pipeline file with a slip: said at once",
		act: func(ctx context.Context, g *repository, _ string) error {
			if err := g.git(ctx, "checkout", "--quiet", "-b", "try/nightly"); err != nil {
				return err
			}
			if err := os.WriteFile(filepath.Join(g.dir, "piston", "nightly.toml"), []byte(nightly), 0o644); err != nil {
				return err
			}
			return g.commit(ctx, "Build every night, too")
		},
		push: []string{"try/nightly"},
		runs: []wanted{{"nightly", state.Failed, "", "piston/nightly.toml:5", 0}},
	},
}

// nightly has a key misspelt.
const nightly = `about = "Every night: the whole almanac of the year"

[job.almanac]
limit = "20m"
machines = ["linux"]

[[job.almanac.step]]
script = "make test"
`
