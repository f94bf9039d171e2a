// Package demo plays the story of Tidewick, a tide almanac for small harbours: a repository with an Android and an
// iOS app, the depot its station data comes from, and the pushes of a working day. Everything in it is made up.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
)

//go:embed all:tidewick all:pocket all:saltmarsh
var files embed.FS

// Project is the name the demo registers its repository under.
const Project = "tidewick"

// writeTree lays the repository's files into a folder, ready to commit.
func writeTree(dir, depot string) error {
	err := writeFolder(Project, dir)
	if err != nil {
		return err
	}
	lock := "source " + depot + "\n"
	for _, p := range packages {
		lock += fmt.Sprintf("%s %s\n", p.sum(), p.file())
	}
	return os.WriteFile(filepath.Join(dir, "depot.lock"), []byte(lock), 0o644)
}

// writeFolder writes the files of a folder that is part of the program.
func writeFolder(from, dir string) error {
	return fs.WalkDir(files, from, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(dir, strings.TrimPrefix(name, from))
		if d.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		text, err := files.ReadFile(name)
		if err != nil {
			return err
		}
		mode := fs.FileMode(0o644)
		if path.Base(path.Dir(name)) == "tools" {
			mode = 0o755 // the binary keeps no modes
		}
		if path.Base(name) == "gitignore" {
			to = filepath.Join(filepath.Dir(to), ".gitignore")
		}
		return os.WriteFile(to, text, mode)
	})
}
