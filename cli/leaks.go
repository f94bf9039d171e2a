package cli

import (
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/core/check"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/mask"
	"gentlepiston.example/piston/source"
)

// trackedSecrets finds tracked files that hold a secret of this machine's: those that piston local-secret keeps for
// the repository. The service's own are looked for when a push arrives.
func trackedSecrets(c *cli.Command, w *source.WorkTree, project string) ([]definition.Finding, error) {
	p, err := purse(c, w.Dir)
	if err != nil || len(p.Secrets) == 0 {
		return nil, err
	}
	var values []mask.Value
	for name, s := range p.Secrets {
		values = append(values, mask.Value{Name: name, Text: s.Value})
	}
	finder := mask.Finder(values...)
	var found []definition.Finding
	for _, e := range w.Entries {
		path := filepath.Join(w.Dir, filepath.FromSlash(e.Path))
		if info, err := os.Lstat(path); err != nil || !info.Mode().IsRegular() || info.Size() > check.MaxLeakFile {
			continue
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return nil, err
		}
		if f, leaks := check.Leaks(finder, project, e.Path, text); leaks {
			found = append(found, f)
		}
	}
	return found, nil
}
