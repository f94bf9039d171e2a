package checkout

import (
	"context"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"gentlepiston.example/piston/runner/attempt"
	"gentlepiston.example/piston/runner/sandbox"
)

// whereLent is where the mirror is for steps, seen from .git/objects. On the machine itself nothing is there, and git
// is told by its environment.
const whereLent = "../../../" + sandbox.Lent

// lean has the checkout's repository take from the mirror the objects that are there (gitrepository-layout(5),
// objects/info/alternates). For a whole history it knows the branches, too, so that git asks for what is new.
func (c *Checkout) lean(full bool) error {
	if c.Mirror == nil {
		return nil
	}
	if err := c.Files.Write(".git/objects/info/alternates", whereLent+"\n"); err != nil || !full {
		return err
	}
	_, refs := c.Mirror.Has()
	var lines strings.Builder
	for name, id := range refs {
		fmt.Fprintf(&lines, "%s %s\n", id, name)
	}
	return c.Files.Write(".git/packed-refs", lines.String())
}

// had is which commits need not be fetched again.
func (c *Checkout) had() []string {
	if c.Mirror == nil {
		return nil
	}
	tips, _ := c.Mirror.Has()
	return tips
}

// has tells whether a commit need not be fetched.
func (c *Checkout) has(commit string) bool { return slices.Contains(c.had(), commit) }

// keep copies what was fetched to the mirror. That this fails is said and no more: the job has what it needs.
func (c *Checkout) keep(ctx context.Context, full bool) {
	if c.Mirror == nil {
		return
	}
	if err := c.keepPacks(ctx, full); err != nil {
		c.Attempt.Say(attempt.Outside, "what was checked out is not kept on this machine: %v", err)
	}
}

func (c *Checkout) keepPacks(ctx context.Context, full bool) error {
	root, err := c.Files.OpenFolder(".git/objects/pack")
	if err != nil {
		return err
	}
	defer root.Close()
	if !full {
		return c.Mirror.Keep(root.FS(), c.Attempt.Work.Commit, nil)
	}
	out, err := c.gitIn(ctx, ".", nil, "for-each-ref", "--format=%(objectname) %(refname)", "refs/remotes/origin")
	if err != nil {
		return err
	}
	refs := map[string]string{}
	for line := range strings.Lines(out) {
		if id, name, ok := strings.Cut(strings.TrimSpace(line), " "); ok {
			refs[name] = id
		}
	}
	return c.Mirror.Keep(root.FS(), "", refs)
}

// anew gives up the mirror, which is not what it should be, and what was begun with it.
func (c *Checkout) anew(why error) error {
	c.Attempt.Say(attempt.Outside, "the mirror on this machine is given up, and all is fetched: %v", why)
	err := c.Mirror.Forget()
	c.Mirror = nil
	if err != nil {
		return err
	}
	names, err := fs.ReadDir(c.Files.FS(), ".")
	if err != nil {
		return err
	}
	for _, entry := range names {
		if err := c.Files.Root().RemoveAll(path.Clean(entry.Name())); err != nil {
			return err
		}
	}
	return nil
}
