package sandbox

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"gentlepiston.example/piston/runner/sandbox/netns"
)

// etc lists what of /etc a step may see: what programs need to run, and nothing of who lives on the machine.
var etc = []string{"alternatives", "ld.so.cache", "ld.so.conf", "ld.so.conf.d", "nsswitch.conf", "hosts", "resolv.conf",
	"localtime", "timezone", "ssl", "ca-certificates", "ca-certificates.conf", "pki", "fonts", "mime.types", "protocols",
	"services",
	"java-11-openjdk", "java-17-openjdk", "java-21-openjdk", "magic", "xdg"}

// maxEtcFile is more than any of these files has.
const maxEtcFile = 8 << 20

// MakeEtc copies what steps may see of /etc into a folder of the runner's, once: a single mount of it costs a step
// a fraction of what a mount for each file would. The only user it knows is the one steps run as.
func (m *Machine) MakeEtc() error {
	top := m.etcFolder()
	if err := os.RemoveAll(top); err != nil {
		return err
	}
	if err := os.MkdirAll(top, 0o755); err != nil {
		return err
	}
	for name, text := range map[string]string{"passwd": "build:x:1000:1000:build:/build/home:/bin/sh\n",
		"group": "build:x:1000:\n"} {
		if err := os.WriteFile(filepath.Join(top, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	if err := os.WriteFile(m.resolvFile(), []byte("nameserver "+netns.DNS+"\n"), 0o644); err != nil {
		return err
	}
	for _, name := range etc {
		from := filepath.Join("/etc", name)
		// A top entry may itself be a link out of /etc (localtime, resolv.conf): its content is what counts.
		if target, err := filepath.EvalSymlinks(from); err == nil {
			from = target
		}
		if err := copyEtc(from, filepath.Join(top, name)); err != nil {
			return err
		}
	}
	return nil
}

// copyEtc copies files and links; what is missing, or not for everyone to read, is left out.
func copyEtc(from, to string) error {
	return filepath.WalkDir(from, func(name string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
			return nil
		}
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, name)
		if err != nil {
			return err
		}
		target := filepath.Join(to, rel)
		info, err := d.Info()
		if err != nil {
			return nil // gone this moment
		}
		switch {
		case d.IsDir():
			if info.Mode().Perm()&0o005 != 0o005 {
				return fs.SkipDir
			}
			return os.MkdirAll(target, 0o755)
		case d.Type()&fs.ModeSymlink != 0:
			link, err := os.Readlink(name)
			if err != nil {
				return nil
			}
			return os.Symlink(link, target)
		case info.Mode().IsRegular() && info.Mode().Perm()&0o004 != 0 && info.Size() <= maxEtcFile:
			text, err := os.ReadFile(name)
			if err != nil {
				return nil
			}
			return os.WriteFile(target, text, 0o644)
		}
		return nil
	})
}

// etcFor is how long a copy serves trials.
const etcFor = time.Hour

// RefreshEtc makes the copy unless there is one that is young enough.
func (m *Machine) RefreshEtc() error {
	if info, err := os.Stat(m.etcFolder()); err == nil && time.Since(info.ModTime()) < etcFor {
		return nil
	}
	return m.MakeEtc()
}
