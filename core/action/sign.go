package action

import (
	"fmt"
	"path"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

const signAbout = "Signs packages with an identity of the project, and puts them into a folder: APKs, app bundles, " +
	"and apps of iOS, as folders or IPAs. The key stays in the service, which gives a signature for each; who signed " +
	"what is written there for ever. An APK is aligned and signed by each scheme that its devices need; a folder " +
	"`Name.app` becomes `Name.ipa`, with the provisioning profile that fits. An app that was signed by another " +
	"certificate before is refused. A proposal is never signed."

// Sign signs packages.
type Sign struct {
	// Globs of what is to be signed.
	//
	//	sign = { files = ["out/*.apk", "out/*.aab", "out/Tidewick.app"], into = "out/signed" }
	Files []string `toml:"files" json:"files"`
	// The folder of the signed files. What is there already is not written over.
	Into string `toml:"into" json:"into"`
	// By which identity. Default: the only one that may sign the app.
	//
	//	sign = { identity = "upload", files = ["out/*.aab"], into = "out/signed" }
	Identity string `toml:"identity" json:"identity,omitempty"`
	// Files of what programs of iOS ask the system for, by their bundle identifiers. Default: all that the profile grants.
	//
	//	sign = { entitlements = { "org.tides" = "ios/T.entitlements" }, files = ["out/T.app"], into = "out" }
	Entitlements map[string]string `toml:"entitlements" json:"entitlements,omitempty"`
	// Whether to make the .idsig file of an APK, too, by which a device installs it while it is loaded (scheme v4).
	Beside bool `toml:"beside" json:"beside,omitempty"`
}

// maxGlobs bounds what one step names.
const maxGlobs = 50

// Complaints implements Action.
func (s *Sign) Complaints() (list []Complaint) {
	list = globs("sign", s.Files, `Write sign = { files = ["out/*.apk"], into = "out/signed" }, for example.`)
	switch {
	case s.Into == "":
		list = append(list, Complaint{"bad-value", "", "sign does not say into which folder the signed files go",
			`Add into = "out/signed", for example.`})
	case path.IsAbs(s.Into) || outside(s.Into) || path.Clean(s.Into) == ".":
		list = append(list, Complaint{"bad-value", "into", fmt.Sprintf("%.60q is no folder of the workspace", s.Into),
			`Write into = "out/signed", for example.`})
	}
	for id, file := range s.Entitlements {
		if id == "" || file == "" || path.IsAbs(file) || outside(file) {
			list = append(list, Complaint{"bad-value", "entitlements",
				fmt.Sprintf("%.60q = %.60q is no program and a file of the workspace", id, file),
				`Write entitlements = { "org.tides" = "ios/Tides.entitlements" }, for example.`})
		}
	}
	return list
}

// globs are what is wrong with the files that an action names.
func globs(verb string, files []string, fix string) (list []Complaint) {
	if len(files) == 0 || len(files) > maxGlobs {
		list = append(list, Complaint{"bad-value", "", fmt.Sprintf("%s names %d files; it names 1 to %d", verb, len(files),
			maxGlobs), fix})
	}
	for _, glob := range files {
		if !doublestar.ValidatePattern(glob) || path.IsAbs(glob) || outside(glob) {
			list = append(list, Complaint{"bad-value", "files", fmt.Sprintf("%.60q is no glob of files in the workspace", glob),
				"Write a path in which * stands for any part of a name."})
		}
	}
	return list
}

// outside tells whether a path leads out of the workspace.
func outside(name string) bool {
	clean := path.Clean(name)
	return clean == ".." || strings.HasPrefix(clean, "../") || strings.ContainsRune(name, 0)
}

// Paths implements Action.
func (s *Sign) Paths() map[string]*string { return paths(nil, map[string][]string{"files": s.Files}) }

// Writes implements Action.
func (s *Sign) Writes() map[string]*string { return paths(map[string]*string{"into": &s.Into}, nil) }

// Texts implements Action.
func (s *Sign) Texts() map[string]string { return nil }
