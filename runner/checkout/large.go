package checkout

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/pointer"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/runner/attempt"
)

// largeAtOnce is how many large files are fetched side by side.
const largeAtOnce = 4

// namedAtOnce is how many files one call of git is told of.
const namedAtOnce = 500

// missingShown is how many of the files that are not served are named.
const missingShown = 5

// wanted is a large file to fetch.
type wanted struct {
	name string // below the folder of the checkout
	at   pointer.Pointer
	mode os.FileMode
}

// fillIn puts the large files, to which a folder's attributes say that its repository has pointers (gitattributes(5),
// filter=lfs), in the place of these. source is where the service serves the repository from. What the remote does not
// serve stays a pointer, and is said.
func (c *Checkout) fillIn(ctx context.Context, dir, source string) error {
	list, err := c.pointers(ctx, dir)
	if err != nil || len(list) == 0 {
		return err
	}
	total := int64(0)
	for _, w := range list {
		if total += w.at.Size; c.Disk > 0 && total > c.Disk || total < 0 {
			return fmt.Errorf("the job's limit of disk is reached: large files have more than %s", quantity.Bytes(c.Disk))
		}
	}
	var mu sync.Mutex
	var filled, missing []string
	g, fetching := errgroup.WithContext(ctx)
	g.SetLimit(largeAtOnce)
	for _, w := range list {
		g.Go(func() error {
			err := c.Attempt.Insist(fetching, "fetching "+w.name, func() error {
				return c.fetchLarge(fetching, dir, source, w)
			})
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err == nil:
				filled = append(filled, w.name)
			case errors.Is(err, client.ErrNotFound):
				missing = append(missing, w.name)
			default:
				return fmt.Errorf("the large file %s: %w", path.Join(dir, w.name), err)
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	if len(missing) > 0 {
		names := strings.Join(missing[:min(len(missing), missingShown)], ", ")
		if len(missing) > missingShown {
			names += ", …"
		}
		c.Attempt.Say(attempt.Outside, "%d of %d large files stay pointers of Git LFS, since the remote does not serve "+
			"them: %s", len(missing), len(list), names)
	}
	c.Attempt.Say(attempt.Outside, "filled in %d large files, %s", len(filled), quantity.Bytes(total))
	return c.unchanged(ctx, dir, filled)
}

// mayHaveAttributes tells that a folder's checkout may have attributes, by the names in its index (gitformat-index(5)):
// most have none, and to ask git takes a process of milliseconds.
func (c *Checkout) mayHaveAttributes(dir string) bool {
	index, err := c.Files.ReadFile(path.Join(dir, ".git", "index"))
	return err != nil || bytes.Contains(index, []byte(".gitattributes"))
}

// pointers lists the files of a folder's checkout that are pointers and are to be filled in.
func (c *Checkout) pointers(ctx context.Context, dir string) (list []wanted, err error) {
	if !c.mayHaveAttributes(dir) {
		return nil, nil
	}
	names, err := c.gitIn(ctx, dir, nil, "ls-files", "-z", "--", ":(attr:filter=lfs)")
	if err != nil || names == "" {
		return nil, err
	}
	root, err := c.Files.OpenFolder(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	for name := range strings.SplitSeq(strings.TrimSuffix(names, "\x00"), "\x00") {
		info, err := root.Lstat(name)
		if err != nil || !info.Mode().IsRegular() || info.Size() >= pointer.Max {
			continue
		}
		text, err := root.ReadFile(name)
		if err != nil {
			return nil, err
		}
		if at, ok := pointer.Parse(string(text)); ok {
			list = append(list, wanted{name, at, info.Mode().Perm()})
		}
	}
	return list, nil
}

// fetchLarge puts one file in the place of its pointer: what this machine has of it, else what the service has.
func (c *Checkout) fetchLarge(ctx context.Context, dir, source string, w wanted) error {
	here := c.Mirror
	if dir != "." {
		here = nil // it is of another repository
	}
	if here != nil {
		if content, err := here.Large(w.at.ID); err == nil {
			err = c.putLarge(dir, content, w)
			content.Close()
			if err == nil {
				return nil
			}
			_ = here.ForgetLarge(w.at.ID)
		}
	}
	content, err := c.Service.Large(ctx, source, w.at)
	if err != nil {
		return err
	}
	defer content.Close()
	if err := c.putLarge(dir, content, w); err != nil || here == nil {
		return err
	}
	f, err := c.Files.Open(w.name)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := here.KeepLarge(w.at.ID, f); err != nil {
		c.Attempt.Say(attempt.Outside, "%s is not kept on this machine: %v", w.name, err)
	}
	return nil
}

// putLarge writes a file beside its pointer and, when it is what that says, puts it in its place.
func (c *Checkout) putLarge(dir string, content io.Reader, w wanted) (err error) {
	root, err := c.Files.OpenFolder(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	half := path.Join(path.Dir(w.name), ".piston-"+rand.Text())
	f, err := root.OpenFile(half, os.O_WRONLY|os.O_CREATE|os.O_EXCL, w.mode)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = root.Remove(half)
		}
	}()
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(f, sum), io.LimitReader(content, w.at.Size+1))
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if n != w.at.Size || hex.EncodeToString(sum.Sum(nil)) != w.at.ID {
		return fmt.Errorf("what came is not what its pointer says: %d of %d bytes", n, w.at.Size)
	}
	if err := c.Files.Own(root, half); err != nil {
		return err
	}
	return root.Rename(half, w.name)
}

// unchanged tells git that files are as they were committed, as its filter for large files would.
func (c *Checkout) unchanged(ctx context.Context, dir string, names []string) error {
	for len(names) > 0 {
		n := min(len(names), namedAtOnce)
		if _, err := c.gitIn(ctx, dir, nil,
			append([]string{"update-index", "--assume-unchanged", "--"}, names[:n]...)...); err != nil {
			return err
		}
		names = names[n:]
	}
	return nil
}
