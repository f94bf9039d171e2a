package process

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
)

// A runner that is root gives each of its slots a host user of its own, who has no rights: behind its user namespace a
// step is that user to the host, and not root. What a job's files are belongs to that user, and is closed to the
// others.

// Account is the host user that the steps of a slot run as; nil stands for the runner's own.
type Account struct{ id uint32 }

// The users are taken from far above those that people and programs are given, a thousand for each runner's folder, so
// that two runners of one machine have others.
const (
	firstAccount  = 1_500_000_000
	accountsEach  = 1_000
	accountBlocks = 500_000
)

// AccountOf is the host user of a slot of the runner that has a folder; nil when it has no rights to give away.
func AccountOf(home string, slot int) *Account {
	if !IsRoot() {
		return nil
	}
	sum := sha256.Sum256([]byte(home))
	block := binary.BigEndian.Uint32(sum[:4]) % accountBlocks
	id := firstAccount + block*accountsEach + uint32(slot%accountsEach)
	if !mapped(id) {
		id = 60_000 + uint32(slot%accountsEach) // in a container that has but the usual 65,536
	}
	return &Account{id}
}

// IsRoot tells whether we are root to more than ourselves: the root of a user namespace that has nobody else is an
// ordinary user.
func IsRoot() bool { return os.Geteuid() == 0 && (mapped(firstAccount) || mapped(60_000)) }

// mapped tells whether a user is one in the user namespace we are in (user_namespaces(7), uid_map).
func mapped(id uint32) bool {
	text, err := os.ReadFile("/proc/self/uid_map")
	if err != nil {
		return true
	}
	for line := range strings.Lines(string(text)) {
		var inside, outside, count uint64
		if _, err := fmt.Sscan(line, &inside, &outside, &count); err == nil && uint64(id) >= inside &&
			uint64(id) < inside+count {
			return true
		}
	}
	return false
}

// Become makes a process that account's.
func (a *Account) Become(cmd *exec.Cmd) {
	if a == nil {
		return
	}
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Credential = &syscall.Credential{Uid: a.id, Gid: a.id}
}

// Take makes a file or folder the account's.
func (a *Account) Take(name string) error {
	if a == nil {
		return nil
	}
	return os.Lchown(name, int(a.id), int(a.id))
}

// TakeIn does so for one below a root.
func (a *Account) TakeIn(root *os.Root, name string) error {
	if a == nil {
		return nil
	}
	return root.Lchown(name, int(a.id), int(a.id))
}

// TakeOpen does so for one that is open.
func (a *Account) TakeOpen(f *os.File) error {
	if a == nil {
		return nil
	}
	return f.Chown(int(a.id), int(a.id))
}

// ID is the user's number; -1 for the runner's own.
func (a *Account) ID() int {
	if a == nil {
		return -1
	}
	return int(a.id)
}

// elsewhere is where a runner works whose own folder is closed to the users of its slots.
const elsewhere = "/var/lib/piston"

// WorkFolder is where jobs work: below home, or when that is behind a folder that others may not enter, as root's own
// home is, below /var/lib/piston. WorkFolderFile then names it.
func WorkFolder(home string, first *Account) (string, error) {
	if first == nil || first.reaches(home) {
		return home, nil
	}
	sum := sha256.Sum256([]byte(home))
	dir := filepath.Join(elsewhere, fmt.Sprintf("runner-%x", sum[:6]))
	if err := os.MkdirAll(dir, 0o711); err != nil {
		return "", err
	}
	return dir, os.WriteFile(filepath.Join(home, WorkFolderFile), []byte(dir+"\n"), 0o600)
}

// reaches tells whether the account may go into a folder, by asking the system.
func (a *Account) reaches(dir string) bool {
	cmd := exec.Command("/bin/sh", "-c", `cd "$1"`, "sh", dir)
	cmd.Dir = "/"
	a.Become(cmd)
	return cmd.Run() == nil
}
