package packaging

import (
	"bufio"
	"context"
	"crypto"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"gentlepiston.example/piston/core/appfile"
	"gentlepiston.example/piston/core/archive"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/profile"
	"gentlepiston.example/piston/core/sign"
	"gentlepiston.example/piston/core/sign/bundle"
)

// Packages are read in a process of their own, in the sandbox of the job that made them: whoever takes that process
// over has what the job's scripts had before, and no key. It talks to the runner in lines of JSON: the runner says the
// Work, the process asks Questions, each of which is answered, until it is Done.

// Work is what is to be signed, or looked into: globs in the folder the process is in.
type Work struct {
	Files []string `json:"files"`
	Look  bool     `json:"look"` // look into them, sign nothing
	// Globs of symbols, which are matched with what is looked into.
	Symbols []string `json:"symbols,omitempty"`
	Into    string   `json:"into"`
	Beside  bool     `json:"beside"`
	By      string   `json:"by"`
	// Files of what programs of iOS ask for, by their ids.
	Entitlements map[string]string `json:"entitlements,omitempty"`
	Now          time.Time         `json:"now"`
	Pack         *Pack             `json:"pack,omitempty"` // make a package, sign nothing; its modules are globs, too
}

// Question is what the process says. Exactly one field is set.
type Question struct {
	Who    *AskWho  `json:"who,omitempty"`
	Sign   *AskSign `json:"sign,omitempty"`
	Made   *Report  `json:"made,omitempty"` // wants no answer
	Seen   *Seen    `json:"seen,omitempty"` // nor this
	Packed *Packed  `json:"packed,omitempty"`
	Failed string   `json:"failed,omitempty"`
	Done   bool     `json:"done,omitempty"`
}

// AskWho asks by whom an app is signed.
type AskWho struct {
	Platform string `json:"platform"`
	App      string `json:"app"`
}

// AskSign asks for a signature over a digest, for a file of the app that was asked about last.
type AskSign struct {
	File   string `json:"file"`
	Hash   string `json:"hash"`
	Digest []byte `json:"digest"`
	Former bool   `json:"former,omitempty"` // by the key of before
}

// Report tells of a package that was signed.
type Report struct {
	From     string   `json:"from"`
	Files    []string `json:"files"`
	Platform string   `json:"platform"`
	App      string   `json:"app"`
	Version  string   `json:"version"`
	Build    string   `json:"build"`
	Schemes  []string `json:"schemes"`
	Programs []string `json:"programs"` // of iOS, inside the app
}

// Seen is what a look into a package has found.
type Seen struct {
	File   string        `json:"file"`
	SHA256 string        `json:"sha256"`
	Facts  appfile.Facts `json:"facts"`
}

// Answer is what the runner says to a question.
type Answer struct {
	Certificates string   `json:"certificates,omitempty"`
	Profiles     [][]byte `json:"profiles,omitempty"`
	Former       string   `json:"former,omitempty"` // certificates of the key of before, where it was rotated
	Lineage      []byte   `json:"lineage,omitempty"`
	Signature    []byte   `json:"signature,omitempty"`
	Refused      string   `json:"refused,omitempty"`
}

// MaxLine bounds what is said at once: many profiles.
const MaxLine = 128 << 20

// errRefused is what the service or the runner said no with.
type errRefused struct{ why string }

func (e errRefused) Error() string { return e.why }

// Inside does the work that comes on in, and asks on out. What goes wrong is said there, too.
func Inside(ctx context.Context, in io.Reader, out io.Writer) error {
	t := &talk{in: bufio.NewReaderSize(in, 64<<10), out: json.NewEncoder(out)}
	var w Work
	if err := t.hear(&w); err != nil {
		return err
	}
	if err := t.do(ctx, w); err != nil {
		return t.out.Encode(Question{Failed: err.Error()})
	}
	return t.out.Encode(Question{Done: true})
}

// talk is with the runner.
type talk struct {
	in  *bufio.Reader
	out *json.Encoder
}

func (t *talk) hear(v any) error {
	line, err := t.in.ReadBytes('\n')
	if err != nil {
		return fmt.Errorf("the runner is away: %w", err)
	}
	return json.Unmarshal(line, v)
}

func (t *talk) ask(q Question) (a Answer, err error) {
	if err = t.out.Encode(q); err == nil {
		err = t.hear(&a)
	}
	if err == nil && a.Refused != "" {
		err = errRefused{a.Refused}
	}
	return a, err
}

func (t *talk) do(ctx context.Context, w Work) error {
	if w.Pack != nil {
		return t.pack(ctx, *w.Pack)
	}
	files, err := find(w.Files)
	if err != nil {
		return err
	}
	if w.Look {
		return t.look(ctx, files, w.Symbols)
	}
	var targets []Target
	var wrong []error
	for _, file := range files {
		target, err := Look(file)
		if err != nil {
			wrong = append(wrong, fmt.Errorf("%s: %w", file, err))
		}
		targets = append(targets, target)
	}
	if len(wrong) > 0 {
		return errors.Join(wrong...) // all of them, before anything is signed
	}
	for _, target := range targets {
		if err := t.one(ctx, w, target); err != nil {
			return fmt.Errorf("%s: %w", target.Path, err)
		}
	}
	return nil
}

// pack makes a package.
func (t *talk) pack(ctx context.Context, p Pack) (err error) {
	if p.Bundle == "" {
		if p.Modules, err = find(p.Modules); err != nil {
			return err
		}
	}
	made, err := p.Make(ctx)
	if err != nil {
		return err
	}
	return t.out.Encode(Question{Packed: &made})
}

// look tells of packages. Files that are no packages, such as notes beside them, are passed by.
func (t *talk) look(ctx context.Context, files, globs []string) error {
	symbols, err := findSymbols(globs)
	if err != nil {
		return err
	}
	how := Looking{Search: true, Sum: true, Symbols: symbols}
	seen := 0
	for _, file := range files {
		p, sum, err := Inspect(ctx, file, how)
		var none *appfile.Error
		var damaged *archive.Error
		switch {
		case errors.As(err, &damaged) && damaged.None, errors.As(err, &none) && none.Other:
			continue
		case err != nil:
			return fmt.Errorf("%s: %w", file, err)
		}
		seen++
		if err := t.out.Encode(Question{Seen: &Seen{file, sum, p.Brief()}}); err != nil {
			return err
		}
	}
	if seen == 0 {
		return errors.New("none of the files is a package")
	}
	return nil
}

// findSymbols reads the files of symbols that globs match.
func findSymbols(globs []string) (list []appfile.Symbols, err error) {
	if len(globs) == 0 {
		return nil, nil
	}
	files, err := find(globs)
	if err != nil {
		return nil, err
	}
	return ReadSymbols(files)
}

// one signs one package.
func (t *talk) one(ctx context.Context, w Work, target Target) error {
	who, err := t.ask(Question{Who: &AskWho{target.Platform, target.ID}})
	if err != nil {
		return err
	}
	chain, err := identity.ReadCertificates([]byte(who.Certificates))
	if err != nil {
		return err
	}
	o := Options{Signer: sign.Signer{Key: asking{t, chain[0].PublicKey, target.Output(), false}, Chain: chain},
		Into: w.Into, By: w.By, Beside: w.Beside, Now: w.Now}
	if who.Former != "" {
		former, err := identity.ReadCertificates([]byte(who.Former))
		if err != nil {
			return err
		}
		o.Former = &sign.Signer{Key: asking{t, former[0].PublicKey, target.Output(), true}, Chain: former}
		o.Lineage = who.Lineage
	}
	for _, raw := range who.Profiles {
		d, err := profile.ReadAll(raw)
		if err != nil {
			return err
		}
		o.Profiles = append(o.Profiles, &bundle.Profile{Details: d, Raw: raw})
	}
	if o.Entitlements, err = ReadEntitlements(w.Entitlements); err != nil {
		return err
	}
	made, err := target.Sign(ctx, o)
	if err != nil {
		return err
	}
	r := Report{From: target.Path, Files: made.Files, Platform: target.Platform, App: target.ID, Version: target.Version,
		Build: target.Build, Schemes: made.Schemes, Programs: []string{}}
	for _, p := range made.Programs {
		if p.Path != "" {
			r.Programs = append(r.Programs, p.Path)
		}
	}
	return t.out.Encode(Question{Made: &r})
}

// asking is a key that is elsewhere.
type asking struct {
	*talk
	public crypto.PublicKey
	file   string
	former bool
}

// Public implements crypto.Signer.
func (a asking) Public() crypto.PublicKey { return a.public }

// Sign implements crypto.Signer.
func (a asking) Sign(_ io.Reader, digest []byte, o crypto.SignerOpts) ([]byte, error) {
	names := map[crypto.Hash]string{crypto.SHA256: "sha256", crypto.SHA1: "sha1"}
	name := names[o.HashFunc()]
	if name == "" {
		return nil, fmt.Errorf("no signature is made over %v", o.HashFunc())
	}
	made, err := a.ask(Question{Sign: &AskSign{a.file, name, digest, a.former}})
	return made.Signature, err
}

// maxFound bounds the packages of one step.
const maxFound = 200

// find lists what globs match: files, and folders that are apps.
func find(globs []string) (list []string, err error) {
	top := os.DirFS(".")
	for _, glob := range globs {
		clean := filepath.ToSlash(filepath.Clean(glob))
		found, err := doublestar.Glob(top, clean, doublestar.WithNoFollow())
		if err != nil {
			return nil, err
		}
		found = slices.DeleteFunc(found, func(name string) bool {
			info, err := os.Lstat(name)
			return err != nil || info.IsDir() && !strings.HasSuffix(name, ".app") || !info.IsDir() && !info.Mode().IsRegular()
		})
		if len(found) == 0 {
			return nil, fmt.Errorf("nothing matches %s; did a step write it elsewhere?", glob)
		}
		for _, name := range found {
			if !slices.Contains(list, name) {
				list = append(list, name)
			}
		}
	}
	if len(list) > maxFound {
		return nil, fmt.Errorf("%d files match, at most %d are signed by one step", len(list), maxFound)
	}
	slices.Sort(list)
	return list, nil
}
