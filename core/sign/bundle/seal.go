package bundle

import (
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"

	"howett.net/plist"
)

// sealFile is where the seal of a folder lies.
const sealFile = "_CodeSignature/CodeResources"

// rule says how files whose paths match are sealed.
type rule struct {
	pattern  string
	omit     bool
	optional bool
	weight   float64
	matches  *regexp.Regexp
}

// The rules of apps of iOS, as a seal has to state them: once in the old form, once in that with SHA-256.
var (
	oldRules = rules(
		rule{pattern: `^.*`},
		rule{pattern: `^.*\.lproj/`, optional: true, weight: 1000},
		rule{pattern: `^.*\.lproj/locversion.plist$`, omit: true, weight: 1100},
		rule{pattern: `^Base\.lproj/`, weight: 1010},
		rule{pattern: `^version.plist$`})
	newRules = rules(
		rule{pattern: `.*\.dSYM($|/)`, weight: 11},
		rule{pattern: `^(.*/)?\.DS_Store$`, omit: true, weight: 2000},
		rule{pattern: `^.*`},
		rule{pattern: `^.*\.lproj/`, optional: true, weight: 1000},
		rule{pattern: `^.*\.lproj/locversion.plist$`, omit: true, weight: 1100},
		rule{pattern: `^Base\.lproj/`, weight: 1010},
		rule{pattern: `^Info\.plist$`, omit: true, weight: 20},
		rule{pattern: `^PkgInfo$`, omit: true, weight: 20},
		rule{pattern: `^embedded\.provisionprofile$`, weight: 20},
		rule{pattern: `^version\.plist$`, weight: 20})
)

func rules(list ...rule) []rule {
	for i := range list {
		list[i].matches = regexp.MustCompile(list[i].pattern)
	}
	return list
}

// stated is the rules as a seal has them.
func stated(list []rule) map[string]any {
	out := map[string]any{}
	for _, r := range list {
		says := map[string]any{}
		if r.omit {
			says["omit"] = true
		}
		if r.optional {
			says["optional"] = true
		}
		if r.weight > 0 {
			says["weight"] = r.weight
		}
		if out[r.pattern] = true; len(says) > 0 {
			out[r.pattern] = says
		}
	}
	return out
}

// ruleOf is the weightiest that a path matches.
func ruleOf(list []rule, name string) (best rule) {
	weight := -1.0
	for _, r := range list {
		if w := max(r.weight, 1); w > weight && r.matches.MatchString(name) {
			best, weight = r, w
		}
	}
	return best
}

// seal makes the seal of a folder: the sums of all files in it but its own program and its signature.
func seal(app fs.FS, dir, executable string) ([]byte, error) {
	within, err := fs.Sub(app, dir)
	if err != nil {
		return nil, err
	}
	old, now := map[string]any{}, map[string]any{}
	err = fs.WalkDir(within, ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir():
			if name == path.Dir(sealFile) {
				return fs.SkipDir
			}
			return nil
		case name == executable:
			return nil
		case !d.Type().IsRegular():
			return fmt.Errorf("%s is no file: an app of iOS holds files and folders only", path.Join(dir, name))
		}
		short, long, err := sums(within, name)
		if err != nil {
			return err
		}
		if r := ruleOf(oldRules, name); !r.omit {
			if old[name] = short; r.optional {
				old[name] = map[string]any{"hash": short, "optional": true}
			}
		}
		if r := ruleOf(newRules, name); !r.omit {
			says := map[string]any{"hash": short, "hash2": long}
			if r.optional {
				says["optional"] = true
			}
			now[name] = says
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	e := plist.NewEncoderForFormat(&out, plist.XMLFormat)
	e.Indent("\t")
	err = e.Encode(map[string]any{"files": old, "files2": now, "rules": stated(oldRules), "rules2": stated(newRules)})
	return out.Bytes(), err
}

func sums(in fs.FS, name string) (short, long []byte, err error) {
	f, err := in.Open(name)
	if err != nil {
		return nil, nil, err
	}
	defer f.Close()
	a, b := sha1.New(), sha256.New()
	if _, err := io.Copy(io.MultiWriter(a, b), f); err != nil {
		return nil, nil, err
	}
	return a.Sum(nil), b.Sum(nil), nil
}
