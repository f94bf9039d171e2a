package source

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
)

// WorkTree is a checkout that a person works in.
type WorkTree struct {
	Dir      string   // its top
	Entries  []Entry  // files that Git tracks and that are there; modes are those in the index
	Loose    []Entry  // files that Git neither tracks nor ignores
	Ignored  []string // paths of files that it is told not to track, but those in folders ignored as a whole
	Branches []string
	Branch   string   // checked out; "" when detached
	Commit   string   // "" before the first
	Tags     []string // those on the commit
}

// ErrNoWorkTree says that a folder is in no checkout.
var ErrNoWorkTree = errors.New("this is no Git repository")

// OpenWorkTree reads the checkout that a folder is in.
func OpenWorkTree(ctx context.Context, dir string) (*WorkTree, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	top, err := topOf(dir)
	if err != nil {
		return nil, err
	}
	w := &WorkTree{Dir: top}
	// Each git costs a few milliseconds, most of them its start; they do not depend on each other.
	var all sync.WaitGroup
	var failed error
	var mu sync.Mutex
	ask := func(take func(string), args ...string) {
		all.Go(func() {
			text, err := inTree(ctx, w.Dir, args...)
			mu.Lock()
			defer mu.Unlock()
			if failed = cmp.Or(failed, err); err == nil {
				take(text)
			}
		})
	}
	ask(w.takeFiles, "ls-files", "-z", "-t", "--stage", "--others", "--exclude-standard")
	// Of folders that are ignored as a whole, only the folder is told: what is in them is made or fetched.
	ask(func(text string) { w.Ignored = pathsOf(others(text)) }, "ls-files", "-z", "--others", "--ignored",
		"--exclude-standard", "--directory")
	ask(w.takeRefs, "for-each-ref", "--format=%(refname) %(HEAD) %(objectname)", "refs/heads/", "refs/remotes/")
	tags := map[string][]string{}
	ask(func(text string) { tags = tagsOf(text) }, "for-each-ref",
		"--format=%(objectname) %(*objectname) %(refname:strip=2)", "refs/tags/")
	all.Wait()
	if failed != nil {
		return nil, failed
	}
	if w.Commit == "" {
		if id, err := inTree(ctx, w.Dir, "rev-parse", "--verify", "--quiet", "HEAD"); err == nil {
			w.Commit = strings.TrimSpace(id)
		}
	}
	w.Tags = tags[w.Commit]
	return w, nil
}

// topOf finds the top of the checkout that a folder is in: the nearest that has a .git, which is a file in a linked
// work tree and in a submodule (gitrepository-layout(5)). To ask git for it costs a program more.
func topOf(dir string) (string, error) {
	for at := dir; ; at = filepath.Dir(at) {
		if _, err := os.Lstat(filepath.Join(at, ".git")); err == nil {
			return filepath.EvalSymlinks(at)
		}
		if at == filepath.Dir(at) {
			return "", fmt.Errorf("%w: %s; run git init, or go to the right folder", ErrNoWorkTree, dir)
		}
	}
}

// Origin is where the tree is pushed to; "" when nowhere.
func (w *WorkTree) Origin(ctx context.Context) (string, error) {
	text, err := inTree(ctx, w.Dir, "config", "--default", "", "--get", "remote.origin.url")
	return strings.TrimSpace(text), err
}

// LoosePaths are the paths of the files that Git neither tracks nor ignores.
func (w *WorkTree) LoosePaths() []string { return pathsOf(w.Loose) }

func pathsOf(entries []Entry) []string {
	list := make([]string, len(entries))
	for i, e := range entries {
		list[i] = e.Path
	}
	return list
}

// Resolve finds the commit that a branch, a tag, HEAD or an id names in a work tree; ErrNoObject when there is none.
func (w *WorkTree) Resolve(ctx context.Context, name string) (string, error) {
	out, err := inTree(ctx, w.Dir, "rev-parse", "--verify", "--quiet", "--end-of-options", name+"^{commit}")
	if exitedWith(err, 1) || exitedWith(err, 128) {
		return "", fmt.Errorf("%q is %w", name, ErrNoObject)
	}
	return strings.TrimSpace(out), err
}

func inTree(ctx context.Context, dir string, args ...string) (string, error) {
	cmd := command(ctx, "", append([]string{"-C", dir}, args...)...)
	out, err := cmd.Output()
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) && len(exit.Stderr) > 0 {
		return "", fmt.Errorf("git %s: %w: %s", args[0], err, clean(strings.TrimSpace(string(exit.Stderr)), 500))
	}
	if err != nil {
		return "", fmt.Errorf("git %s: %w", args[0], err)
	}
	return string(out), nil
}

// takeFiles reads what ls-files -t --stage --others prints: of a file that is tracked a letter, mode, object, stage, a
// tab and the name, of another a question mark and the name. Files that are gone are left out.
func (w *WorkTree) takeFiles(text string) {
	for line := range strings.SplitSeq(text, "\x00") {
		if loose, is := strings.CutPrefix(line, "? "); is {
			w.Loose = append(w.Loose, others(loose)...)
			continue
		}
		about, name, ok := strings.Cut(line, "\t")
		mode := strings.Fields(about)
		if !ok || len(mode) < 2 || len(w.Entries) > 0 && w.Entries[len(w.Entries)-1].Path == name {
			continue
		}
		if _, err := os.Lstat(filepath.Join(w.Dir, name)); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		w.Entries = append(w.Entries, Entry{Path: name, Mode: mode[1]})
	}
}

func others(text string) (list []Entry) {
	for name := range strings.SplitSeq(text, "\x00") {
		if name != "" && !strings.HasSuffix(name, "/") {
			list = append(list, Entry{Path: name, Mode: "100644"})
		}
	}
	return list
}

func (w *WorkTree) takeRefs(text string) {
	seen := map[string]bool{}
	for line := range strings.Lines(text) {
		ref, rest, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		name, local := strings.CutPrefix(ref, "refs/heads/")
		if !local {
			_, name, _ = strings.Cut(strings.TrimPrefix(ref, "refs/remotes/"), "/")
		}
		if head, id, _ := strings.Cut(rest, " "); local && head == "*" {
			w.Branch, w.Commit = name, id
		}
		if name != "HEAD" && name != "" && !seen[name] {
			seen[name] = true
			w.Branches = append(w.Branches, name)
		}
	}
}

// tagsOf gives the names of tags by the commit each is on.
func tagsOf(text string) map[string][]string {
	tags := map[string][]string{}
	for line := range strings.Lines(text) {
		id, rest, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		on, name, _ := strings.Cut(rest, " ")
		at := cmp.Or(on, id) // an annotated tag is an object of its own
		tags[at] = append(tags[at], name)
	}
	return tags
}

// ChangedSince lists the paths that differ, in the tree as it is, from where its branch left another. all means that
// there is nothing to compare with.
func (w *WorkTree) ChangedSince(ctx context.Context, other string) (paths []string, all bool) {
	base, err := inTree(ctx, w.Dir, "merge-base", other, "HEAD")
	if err != nil {
		return nil, true
	}
	text, err := inTree(ctx, w.Dir, "diff", "--name-only", "-z", "--no-renames", strings.TrimSpace(base))
	if err != nil {
		return nil, true
	}
	for name := range strings.SplitSeq(text, "\x00") {
		if name != "" {
			paths = append(paths, name)
		}
	}
	for _, e := range w.Loose {
		paths = append(paths, e.Path)
	}
	return paths, false
}

// About gives subject and author of the commit that is checked out.
func (w *WorkTree) About(ctx context.Context) (subject, author string) {
	text, err := inTree(ctx, w.Dir, "log", "-1", "--format=%s%x00%an")
	if err != nil {
		return "", ""
	}
	subject, author, _ = strings.Cut(strings.TrimSpace(text), "\x00")
	return clean(subject, 500), clean(author, 200)
}

// CloneInto makes a repository of a folder, with the tree's commit (and its history, when wanted) but without its
// files. Nothing is written into the tree's own repository.
func (w *WorkTree) CloneInto(ctx context.Context, dir string, history bool) error {
	fetch := []string{"fetch", "--quiet", "--no-tags", "--depth=1", w.Dir, "HEAD"}
	if history {
		fetch = []string{"fetch", "--quiet", "--tags", w.Dir, "+refs/heads/*:refs/remotes/origin/*", "HEAD"}
	}
	steps := [][]string{{"init", "--quiet", "--template=", "--initial-branch=piston"}, fetch,
		{"reset", "--quiet", "FETCH_HEAD"}}
	if w.Commit == "" {
		steps = steps[:1]
	}
	for _, args := range steps {
		cmd := command(ctx, "", append([]string{"-C", dir}, args...)...)
		// One pack is copied faster than many objects.
		cmd.Env = append(Environment(map[string]string{"fetch.unpackLimit": "1"}), "GIT_ALLOW_PROTOCOL=file")
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("git %s: %w: %s", args[0], err, strings.TrimSpace(string(out)))
		}
	}
	return nil
}
