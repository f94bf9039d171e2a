package demo

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// Marsh is the demo's project with a history: some 150 short runs, truly executed, whose times are set back over three
// weeks afterwards.
const Marsh = "saltmarsh"

const (
	marshRuns = 150
	marshFor  = 21 * 24 * time.Hour
	// atWork is how many runs are in the queue at most while more are pushed.
	atWork = 15
	// together is how many changes come with the last push: before the one that breaks it, and after.
	together = 3
)

// insertion is the change that makes the notebook slow: right, and of the wrong order.
const insertion = `void sort_sightings(struct sighting *list, int n) {
	for (int i = 1; i < n; i++) {
		struct sighting s = list[i];
		int at = i;
		for (; at > 0 && by_minute(&list[at - 1], &s) > 0; at--)
			list[at] = list[at - 1];
		list[at] = s;
	}
}
`

const quick = `void sort_sightings(struct sighting *list, int n) {
	qsort(list, n, sizeof *list, by_minute);
}
`

// watchers are who commits to the notebook.
var watchers = []string{"Ines Falk <ines@saltmarsh.example>", "Jory Penhale <jory@saltmarsh.example>",
	"Tamsin Oake <tamsin@saltmarsh.example>"}

// birds are what the small commits are about.
var birds = []string{"avocet", "bittern", "curlew", "dunlin", "egret", "fulmar", "godwit", "harrier", "knot", "lapwing",
	"marsh tit", "oystercatcher", "plover", "redshank", "sanderling", "teal", "whimbrel"}

// turns are the commits that matter, by their place in the history.
var turns = map[int]struct {
	what string
	act  func(g *repository) error
}{
	20: {"Move tags to a file of their own", func(g *repository) error {
		return g.replace("Makefile", " src/tags.c", "")
	}},
	23: {"Build the tags, too", func(g *repository) error {
		return g.replace("Makefile", "src/notebook.c", "src/notebook.c src/tags.c")
	}},
	64: {"Keep sightings in order as they come in", func(g *repository) error {
		return g.replace("src/notebook.c", quick, insertion)
	}},
	marshRuns: {"Tidy up the Makefile", func(g *repository) error {
		return g.replace("Makefile", " src/tags.c", "")
	}},
}

// PlayMarsh plays the history, and has setBack set its times back.
func (s *Story) PlayMarsh(ctx context.Context, setBack func(ctx context.Context, project string, over time.Duration,
) error) error {
	// What the story of Tidewick took is much of a minute: its keepers are warned.
	if _, err := s.Client.SetBudget(ctx, Project, api.NewBudget{Minutes: 1, WarnAt: 10}); err != nil {
		return err
	}
	began := time.Now()
	g := &repository{bare: filepath.Join(s.Folder, Marsh+".git"), dir: filepath.Join(s.Folder, Marsh)}
	for _, dir := range []string{g.bare, g.dir} {
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	if err := g.create(ctx); err != nil {
		return err
	}
	if err := s.connect(ctx, Marsh, g); err != nil {
		return err
	}
	if err := writeFolder(Marsh, g.dir); err != nil {
		return err
	}
	for n := 1; n <= marshRuns; n++ {
		if err := s.sight(ctx, g, n); err != nil {
			return err
		}
		if n%atWork == 0 || n == marshRuns {
			if err := s.settleMarsh(ctx, record.RunNumber(n)); err != nil {
				return err
			}
		}
	}
	ran := time.Since(began)
	tries, err := s.whatBroke(ctx)
	if err != nil {
		return err
	}
	if err := setBack(ctx, Marsh, marshFor); err != nil {
		return err
	}
	s.Tell("%d runs of %s in %.0f s, set back over three weeks: a slow step, a flaky case, a failure seen before, and by "+
		"%d tries which of %d changes broke it", marshRuns, Marsh, ran.Seconds(), tries, 2*together+1)
	return nil
}

// sight commits and pushes the n-th change. With the last come others, so that it is not plain which one breaks it.
func (s *Story) sight(ctx context.Context, g *repository, n int) error {
	first, last := n, n
	if n == marshRuns {
		first, last = n-together, n+together
	}
	for i := first; i <= last; i++ {
		if err := g.sight(ctx, i); err != nil {
			return err
		}
	}
	return g.git(ctx, "push", "--quiet", "origin", "main")
}

// sight commits the n-th change.
func (g *repository) sight(ctx context.Context, n int) error {
	bird := birds[n%len(birds)]
	what := fmt.Sprintf("Note where the %s was seen", bird)
	if turn, is := turns[n]; is {
		what = turn.what
		if err := turn.act(g); err != nil {
			return err
		}
	} else if err := os.WriteFile(filepath.Join(g.dir, "sightings.txt"), fmt.Appendf(nil, "%d %s\n", n, bird),
		0o644); err != nil {
		return err
	}
	if err := g.git(ctx, "add", "--all"); err != nil {
		return err
	}
	by := watchers[n%len(watchers)]
	return g.git(ctx, "commit", "--quiet", "--message", what, "--author", by)
}

// whatBroke asks with which change the last run began to fail, and waits until that is known. It gives how many tries
// that took.
func (s *Story) whatBroke(ctx context.Context) (int, error) {
	if _, err := s.Client.BeginBisection(ctx, Marsh, marshRuns, api.NewBisection{}); err != nil {
		return 0, err
	}
	for {
		list, err := s.Client.Bisections(ctx, Marsh, marshRuns)
		if err != nil {
			return 0, err
		}
		if len(list) > 0 && list[0].Ended != nil {
			return len(list[0].Tries), nil
		}
		select {
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// settleMarsh waits until runs up to one are over, and has tried again what a test has failed, as people do.
func (s *Story) settleMarsh(ctx context.Context, last record.RunNumber) error {
	for n := max(1, last-atWork+1); n <= last; n++ {
		d, err := s.ended(ctx, Marsh, n)
		if err != nil {
			return err
		}
		if d.State != state.Failed || d.Failure == nil || len(d.Failure.Tests) == 0 {
			continue
		}
		if _, err := s.Client.Restart(ctx, Marsh, n, api.Restart{Failed: true}); err != nil {
			return err
		}
		if _, err := s.ended(ctx, Marsh, n); err != nil {
			return err
		}
	}
	return nil
}
