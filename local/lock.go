// Package local runs on one machine what a service needs there: it guards a data folder, and starts and stops a
// PostgreSQL server of its own on loopback.
package local

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// ErrInUse says that another process holds a folder.
var ErrInUse = errors.New("in use")

// Lock is a held folder.
type Lock struct{ file *os.File }

// LockFolder makes a folder and holds it until Unlock or the process ends.
// name is the lock file's; ErrInUse, with the holder's process id, when another process has it.
func LockFolder(dir, name string) (*Lock, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	file, err := os.OpenFile(filepath.Join(dir, name), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		holder, _ := os.ReadFile(file.Name())
		file.Close()
		return nil, fmt.Errorf("%s is %w by process %s; stop that one, or choose another folder with --home",
			dir, ErrInUse, strings.TrimSpace(string(holder)))
	}
	if err := file.Truncate(0); err != nil {
		return nil, err
	}
	if _, err := fmt.Fprintln(file, os.Getpid()); err != nil {
		return nil, err
	}
	return &Lock{file}, nil
}

// Unlock lets the folder go.
func (l *Lock) Unlock() { l.file.Close() }
