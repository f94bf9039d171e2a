package workspace

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"

	"gentlepiston.example/piston/core/mask"
)

// HideFile is what steps append further secrets to, below the folder that is theirs.
const HideFile = "hide"

// maxDeclared bounds what steps may declare: bytes of the file.
const maxDeclared = 64 << 10

// Hiding knows what to hide in all that leaves a job: the job's secrets, and what its steps have declared.
type Hiding struct {
	masker atomic.Pointer[mask.Masker] // for texts
	finder atomic.Pointer[mask.Masker] // for files

	mu       sync.Mutex
	secrets  []mask.Value
	declared []mask.Value
	file     string
	root     *os.Root // of the file's folder
	seen     int64    // bytes of the file that are known
	short    bool     // it has been said that a value is too short
}

// NewHiding knows some secrets from the start.
func NewHiding(secrets ...mask.Value) *Hiding {
	h := &Hiding{secrets: secrets}
	h.set(nil)
	return h
}

// Also hides further secrets from now on: those that come to a job after its beginning.
func (h *Hiding) Also(secrets []mask.Value) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.secrets = append(append([]mask.Value(nil), h.secrets...), secrets...)
	h.set(h.declared)
}

func (h *Hiding) set(declared []mask.Value) {
	h.declared = declared
	all := append(append([]mask.Value(nil), h.secrets...), declared...)
	h.masker.Store(mask.New(all...))
	h.finder.Store(mask.Finder(all...))
}

// begin takes in a job's secrets and makes the file that its steps declare further ones in.
func (h *Hiding) begin(secrets []mask.Value, file string) (err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.secrets, h.file = secrets, file
	h.set(nil)
	if h.root, err = os.OpenRoot(filepath.Dir(file)); err != nil {
		return err
	}
	return h.root.WriteFile(filepath.Base(file), nil, 0o600)
}

// forget wipes what is remembered of secrets.
func (h *Hiding) forget() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.root != nil {
		h.root.Close()
	}
	for _, one := range h.secrets {
		clear(one.Text)
	}
	h.root, h.secrets = nil, nil
	h.set(nil)
}

// nothing reports whether there is nothing to hide.
func (h *Hiding) nothing() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.secrets) == 0 && h.seen == 0
}

// Masker hides what is known now.
func (h *Hiding) Masker() *mask.Masker { return h.masker.Load() }

// String hides what is to be hidden in a text.
func (h *Hiding) String(s string) string { return h.masker.Load().String(s) }

// Look takes in what has been declared since, and reports whether something was. A file that is no plain one any more
// declares nothing.
func (h *Hiding) Look(say func(format string, args ...any)) bool {
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
	// A pipe in its place would otherwise hold the opening up.
	f, err := h.root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
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
