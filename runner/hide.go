package runner

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"

	"gentlepiston.example/piston/core/mask"
)

// hideFile is what steps append further secrets to, below the folder that is theirs.
const hideFile = "hide"

// maxDeclared bounds what steps may declare: bytes of the file.
const maxDeclared = 64 << 10

// hiding knows what to hide in all that leaves a job: the job's secrets, and what its steps have declared.
type hiding struct {
	masker atomic.Pointer[mask.Masker] // for texts
	finder atomic.Pointer[mask.Masker] // for files

	mu      sync.Mutex
	secrets []mask.Value
	file    string
	root    *os.Root // of the file's folder
	seen    int64    // bytes of the file that are known
	short   bool     // it has been said that a value is too short
}

func newHiding(secrets []mask.Value, file string) *hiding {
	h := &hiding{secrets: secrets, file: file}
	h.set(nil)
	return h
}

func (h *hiding) set(declared []mask.Value) {
	all := append(append([]mask.Value(nil), h.secrets...), declared...)
	h.masker.Store(mask.New(all...))
	h.finder.Store(mask.Finder(all...))
}

// begin makes the file that steps declare secrets in.
func (h *hiding) begin() (err error) {
	if h.root, err = os.OpenRoot(filepath.Dir(h.file)); err != nil {
		return err
	}
	return h.root.WriteFile(filepath.Base(h.file), nil, 0o600)
}

// seenNothing reports whether steps have declared nothing.
func (h *hiding) seenNothing() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.seen == 0
}

// String hides what is to be hidden in a text.
func (h *hiding) String(s string) string { return h.masker.Load().String(s) }

// look takes in what has been declared since, and reports whether something was. A file that is no plain one any more
// declares nothing.
func (h *hiding) look(say func(format string, args ...any)) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.root == nil {
		return false
	}
	name := filepath.Base(h.file)
	info, err := h.root.Lstat(name)
	if err != nil || !info.Mode().IsRegular() || info.Size() == h.seen {
		return false
	}
	f, err := h.root.OpenFile(name, os.O_RDONLY|noBlock, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, maxDeclared))
	if err != nil {
		return false
	}
	h.seen = info.Size()
	var declared []mask.Value
	for line := range bytes.SplitSeq(text, []byte("\n")) {
		line = bytes.TrimSpace(line)
		if len(line) > 0 && len(line) < mask.MinLength && !h.short {
			h.short = true
			say("a value declared in PISTON_HIDE is shorter than %d characters and is not hidden", mask.MinLength)
		}
		declared = append(declared, mask.Value{Name: "a value declared in PISTON_HIDE", Text: line})
	}
	if h.seen > maxDeclared {
		say("PISTON_HIDE holds more than %d bytes; what comes after them is not hidden", maxDeclared)
	}
	h.set(declared)
	return true
}

// holdsSecrets is why something may not leave the job. A pointer, since whoever sends a body compares its error.
type holdsSecrets struct{ names []string }

func (e *holdsSecrets) Error() string {
	return fmt.Sprintf("it holds the secret %s: keep that out of it; an artifact that is meant to hold it says so by "+
		"may_hold", strings.Join(e.names, ", "))
}
