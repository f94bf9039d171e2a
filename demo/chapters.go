package demo

import (
	"context"
	"os"
	"path/filepath"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/state"
)

// chapter is one push of the story.
type chapter struct {
	what string
	act  func(ctx context.Context, g *repository, depot string) error
	push []string
	call func(ctx context.Context, s *Story, g *repository) error // after the push
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
			if err := g.branch(ctx, "work/faster-extremes", "main"); err != nil {
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
		what: "the branch is merged",
		act: func(ctx context.Context, g *repository, _ string) error {
			if err := g.git(ctx, "checkout", "--quiet", "main"); err != nil {
				return err
			}
			if err := g.git(ctx, "merge", "--quiet", "--no-ff", "--message", "Merge work/faster-extremes",
				"work/faster-extremes"); err != nil {
				return err
			}
			if err := g.replace("core/tide.h", "/* metres */", "/* metres above chart datum */"); err != nil {
				return err
			}
			return g.commit(ctx, "Say from where heights count")
		},
		push: []string{"main"},
		runs: []wanted{{"trunk", state.Passed, "hit", "", 2}},
	},
	{
		what: "a release by hand: two people agree, and its version lands though somebody has pushed meanwhile",
		act:  func(context.Context, *repository, string) error { return nil },
		call: func(ctx context.Context, s *Story, g *repository) error {
			_, err := s.Client.StartRun(ctx, Project,
				api.StartRun{Pipeline: "release", Inputs: map[string]string{"size": "minor"}})
			if err != nil {
				return err
			}
			if err := s.awaitVersion(ctx, s.next); err != nil {
				return err
			}
			if err := g.replace("README.md", "is made up.", "is made up, the tides too."); err != nil {
				return err
			}
			if err := g.commit(ctx, "Say what is made up"); err != nil {
				return err
			}
			if err := g.git(ctx, "push", "--quiet", "origin", "main"); err != nil {
				return err
			}
			for _, said := range [][2]string{{"wren", "the springs are right"}, {"maro", "fine on the small screen"}} {
				if err := s.says(ctx, said[0], s.next, said[1]); err != nil {
					return err
				}
			}
			if err := s.awaitLanding(ctx, g, s.next); err != nil {
				return err
			}
			return s.firstAtTheStores(ctx)
		},
		runs: []wanted{{"release", state.Passed, "miss", "", 5}, {"announce", state.Passed, "", "", 1}},
	},
	{
		what: "a proposal from inside: built as if merged",
		act: func(ctx context.Context, g *repository, _ string) error {
			if err := g.branch(ctx, "feet", "main"); err != nil {
				return err
			}
			if err := g.replace("android/res/values/strings.xml", "</resources>",
				"    <string name=\"unit\">Feet</string>\n</resources>"); err != nil {
				return err
			}
			return g.commit(ctx, "Show heights in feet where people want that")
		},
		push: []string{"HEAD:refs/proposals/main/feet"},
		runs: []wanted{{"trunk", state.Passed, "hit", "", 2}},
	},
	{
		what: "one from outside that asks for the feed key: refused",
		act: func(ctx context.Context, g *repository, _ string) error {
			if err := g.branch(ctx, "curious", "main"); err != nil {
				return err
			}
			if err := g.replace("piston/trunk.toml", "[[job.core.step]]\nname = \"unit tests\"",
				curious+"\n[[job.core.step]]\nname = \"unit tests\""); err != nil {
				return err
			}
			return g.commit(ctx, "Make the tests faster")
		},
		push: []string{"HEAD:refs/outside/41"},
		call: func(ctx context.Context, s *Story, g *repository) error {
			return s.propose(ctx, g, "41", "refs/outside/41")
		},
		runs: []wanted{{"trunk", state.Failed, "", "piston/trunk.toml:26", 0}},
	},
	{
		what: "two pushes while the project is held: only the newer is built",
		act:  func(ctx context.Context, g *repository, _ string) error { return g.branch(ctx, "work/colours", "main") },
		call: func(ctx context.Context, s *Story, g *repository) error {
			if _, err := s.Client.Hold(ctx, Project, "the depot is being moved"); err != nil {
				return err
			}
			for _, change := range [][2]string{{"Almanac<", "Almanac <"}, {"Almanac <", "Tides<"}} {
				if err := g.replace("android/res/values/strings.xml", change[0], change[1]); err != nil {
					return err
				}
				if err := g.commit(ctx, "Try another name"); err != nil {
					return err
				}
				if err := g.git(ctx, "push", "--quiet", "origin", "work/colours"); err != nil {
					return err
				}
			}
			if err := s.awaitRun(ctx, s.next+1); err != nil {
				return err
			}
			_, err := s.Client.Hold(ctx, Project, "")
			return err
		},
		runs: []wanted{{"trunk", state.Cancelled, "", "", 0}, {"trunk", state.Passed, "hit", "", 2}},
	},
	{
		what: "a build for testers, started by hand",
		act:  func(ctx context.Context, g *repository, _ string) error { return nil },
		call: func(ctx context.Context, s *Story, _ *repository) error {
			_, err := s.Client.StartRun(ctx, Project,
				api.StartRun{Pipeline: "testers",
					Inputs: map[string]string{"channel": "friends", "note": "Are the springs right?", "ios": "false"}})
			return err
		},
		runs: []wanted{{"testers", state.Passed, "hit", "", 4}},
	},
	{
		what: "a pipeline file with a slip: said at once",
		act: func(ctx context.Context, g *repository, _ string) error {
			if err := g.branch(ctx, "try/yearly", "main"); err != nil {
				return err
			}
			if err := os.WriteFile(filepath.Join(g.dir, "piston", "yearly.toml"), []byte(yearly), 0o644); err != nil {
				return err
			}
			return g.commit(ctx, "Build the almanac of the year, too")
		},
		push: []string{"try/yearly"},
		runs: []wanted{{"yearly", state.Failed, "", "piston/yearly.toml:5", 0}},
	},
	{
		what: "a branch that asks for the store's key: it is for releases",
		act: func(ctx context.Context, g *repository, _ string) error {
			if err := g.branch(ctx, "work/deliver-early", "main"); err != nil {
				return err
			}
			if err := g.replace("piston/trunk.toml", "[job.ios.keep.ipa]", early+"\n[job.ios.keep.ipa]"); err != nil {
				return err
			}
			return g.commit(ctx, "Seal what is built on every push")
		},
		push: []string{"work/deliver-early"},
		runs: []wanted{{"trunk", state.Failed, "", "piston/trunk.toml:103", 0}},
	},
	{
		what: "mended, it goes to both stores, and to all",
		act: func(ctx context.Context, g *repository, _ string) error {
			if err := g.git(ctx, "checkout", "--quiet", "--force", "main"); err != nil {
				return err
			}
			if err := g.replace("android/res/values/strings.xml", "Almanac<", "Tide almanac<"); err != nil {
				return err
			}
			return g.commit(ctx, "Say in its name what the almanac is of")
		},
		push: []string{"main"},
		call: func(ctx context.Context, s *Story, g *repository) error {
			if err := s.awaitRun(ctx, s.next); err != nil {
				return err
			}
			_, err := s.Client.StartRun(ctx, Project,
				api.StartRun{Pipeline: "release", Inputs: map[string]string{"size": "patch"}})
			if err != nil {
				return err
			}
			for _, said := range [][2]string{{"maro", "the name is right now"}, {"wren", "and so are the springs"}} {
				if err := s.says(ctx, said[0], s.next+1, said[1]); err != nil {
					return err
				}
			}
			if err := s.awaitLanding(ctx, g, s.next+1); err != nil {
				return err
			}
			return s.thenAtTheStores(ctx)
		},
		runs: []wanted{{"trunk", state.Passed, "hit", "", 2}, {"release", state.Passed, "hit", "", 5},
			{"announce", state.Passed, "", "", 1}},
	},
	{
		what: "a release that has grown, and may do more than was agreed: the checklist stops it",
		act: func(ctx context.Context, g *repository, _ string) error {
			if err := g.git(ctx, "checkout", "--quiet", "--force", "main"); err != nil {
				return err
			}
			if err := g.replace("android/AndroidManifest.xml", "    <application",
				"    <uses-permission android:name=\"android.permission.ACCESS_FINE_LOCATION\" />\n    <application"); err != nil {
				return err
			}
			if err := g.draw("android/charts/north-coast.bin", 14_000); err != nil {
				return err
			}
			return g.commit(ctx, "Draw the charts of the north coast, and show where one is")
		},
		push: []string{"main"},
		call: func(ctx context.Context, s *Story, _ *repository) error {
			if err := s.awaitRun(ctx, s.next); err != nil {
				return err
			}
			_, err := s.Client.StartRun(ctx, Project,
				api.StartRun{Pipeline: "release", Inputs: map[string]string{"size": "patch"}})
			return err
		},
		runs: []wanted{{"trunk", state.Passed, "hit", "", 2}, {"release", state.Failed, "hit", "apps › checklist", 4}},
	},
	{
		what: "mended, the next release waits for a second keeper's word",
		act: func(ctx context.Context, g *repository, _ string) error {
			if err := g.git(ctx, "revert", "--no-edit", "HEAD"); err != nil {
				return err
			}
			return g.git(ctx, "commit", "--quiet", "--amend", "--message", "Leave the north coast for later")
		},
		push: []string{"main"},
		call: func(ctx context.Context, s *Story, _ *repository) error {
			if err := s.awaitRun(ctx, s.next); err != nil {
				return err
			}
			_, err := s.people["ines"].StartRun(ctx, Project,
				api.StartRun{Pipeline: "release", Inputs: map[string]string{"size": "patch"}})
			if err != nil {
				return err
			}
			return s.says(ctx, "wren", s.next+1, "the north coast can wait")
		},
		runs: []wanted{{"trunk", state.Passed, "hit", "", 2}, {"release", state.Waiting, "hit", "", 5}},
	},
}

// curious is a step that would print a secret.
const curious = `[[job.core.step]]
name = "look around"
script = "env | sort"
secrets = ["DEPOT_KEY"]
`

// early is a step that wants what it is not given.
const early = `[[job.ios.step]]
name = "seal"
script = "tools/seal-delivery out/delivery.txt out/ios/tidewick.ipa"
secrets = ["STORE_KEY"]
`

// yearly has a key misspelt.
const yearly = `about = "Every year: the whole almanac"

[job.almanac]
limit = "20m"
machines = ["linux"]

[[job.almanac.step]]
script = "make test"
`
