package hook

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"
	"time"
)

// Who pushes may be another account than the one that installs the hook, and the service yet another. What the hook
// writes and reads belongs to whoever owns the repository, and is for its group where the repository is.

// owner is whose a repository is, and what others of its group may.
type owner struct {
	uid, gid int
	shared   bool // its group may push
}

func ownerOf(repo string) (owner, error) {
	info, err := os.Stat(repo)
	if err != nil {
		return owner{}, err
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return owner{uid: os.Geteuid(), gid: os.Getegid()}, nil
	}
	return owner{uid: int(st.Uid), gid: int(st.Gid), shared: info.Mode().Perm()&0o020 != 0}, nil
}

// mode widens the permissions of a private file to the group of a shared repository.
func (o owner) mode(private fs.FileMode) fs.FileMode {
	if o.shared {
		return private | private>>3&0o070
	}
	return private
}

// give makes a file or folder the owner's. Only root may give away; another keeps what it makes.
func (o owner) give(name string, private fs.FileMode) error {
	if err := os.Chmod(name, o.mode(private)); err != nil {
		return err
	}
	if os.Geteuid() == 0 {
		return os.Lchown(name, o.uid, o.gid)
	}
	if o.shared {
		_ = os.Lchown(name, -1, o.gid) // who is not in the group has to leave it
	}
	return nil
}

// ErrCannotRun says that whoever pushes could not run the hook.
var ErrCannotRun = errors.New("the account that owns the repository cannot run the hook")

// tryAs runs the program as a repository's owner would at a push: it may be in a folder that is closed to others.
func (o owner) tryAs(binary, repo string) error {
	if os.Geteuid() != 0 || o.uid == 0 {
		return nil
	}
	cmd := exec.Command(binary, "hook-report", "--repo", repo, "--try")
	cmd.Dir, cmd.Env = "/", []string{"PATH=" + os.Getenv("PATH")}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(o.uid), Gid: uint32(o.gid)}}
	cmd.WaitDelay = 5 * time.Second
	out, err := cmd.CombinedOutput()
	if err == nil {
		return nil
	}
	return fmt.Errorf("%w: %s, as %s: %w %s\nPut the program where everybody can run it, such as /usr/local/bin, and "+
		"install the hook from there",
		ErrCannotRun, binary, name(o.uid), err, out)
}

func name(uid int) string {
	if u, err := user.LookupId(strconv.Itoa(uid)); err == nil {
		return u.Username
	}
	return "account " + strconv.Itoa(uid)
}

// Try tells whether the hook could report a push: its settings can be read, and reports laid beside the repository.
func Try(repo string) error {
	if _, err := readSettings(repo); err != nil {
		return err
	}
	dir := filepath.Join(repo, missedFolder)
	f, err := os.CreateTemp(dir, ".try-*")
	if err != nil {
		return fmt.Errorf("nothing can be laid into %s: %w", dir, err)
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}
