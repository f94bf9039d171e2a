package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/tools/cover"
)

// How a fault fared.
const (
	killed    = "seen"
	survived  = "unseen"
	uncovered = "no test passes"
)

// test is one test by itself: its package, what it passes through, and how long it takes.
type test struct {
	pkg, name string
	takes     time.Duration
	passes    []*cover.Profile
}

// survey runs each test of a group alone, and notes which blocks of the code it passes through. A test that fails
// without any fault, or takes longer than long, is left out and said.
func survey(ctx context.Context, g group, scratch string, long time.Duration) ([]test, error) {
	packages, err := list(ctx, g.tests...)
	if err != nil {
		return nil, err
	}
	code, err := list(ctx, g.code)
	if err != nil {
		return nil, err
	}
	paths := make([]string, len(code))
	for i, p := range code {
		paths[i] = p.ImportPath
	}
	var tests []test
	for _, p := range packages {
		if len(p.TestGoFiles)+len(p.XTestGoFiles) == 0 {
			continue
		}
		binary := filepath.Join(scratch, "tests")
		build := exec.CommandContext(ctx, "go", "test", "-c", "-vet=off", "-coverpkg="+strings.Join(paths, ","),
			"-o", binary, p.ImportPath)
		if out, err := build.CombinedOutput(); err != nil {
			return nil, fmt.Errorf("%s: %w\n%s", p.ImportPath, err, out)
		}
		of, err := surveyOne(ctx, p, binary, long)
		if err != nil {
			return nil, err
		}
		tests = append(tests, of...)
	}
	return tests, nil
}

func surveyOne(ctx context.Context, p listed, binary string, long time.Duration) ([]test, error) {
	names := exec.CommandContext(ctx, binary, "-test.list", "^(Test|Fuzz|Example)")
	names.Dir = p.Dir
	out, err := names.Output()
	if err != nil {
		return nil, err
	}
	var tests []test
	for _, name := range strings.Fields(string(out)) {
		profile := binary + ".profile"
		alone := exec.CommandContext(ctx, binary, "-test.run", "^"+name+"$", "-test.coverprofile", profile,
			"-test.timeout", long.String())
		alone.Dir = p.Dir
		started := time.Now()
		if out, err := alone.CombinedOutput(); err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			fmt.Printf("  left out: %s %s: %s\n", p.ImportPath, name, firstLine(out))
			continue
		}
		passes, err := cover.ParseProfiles(profile)
		if err != nil {
			return nil, err
		}
		tests = append(tests, test{p.ImportPath, name, time.Since(started), passes})
	}
	return tests, nil
}

func firstLine(out []byte) string {
	line, _, _ := bytes.Cut(out, []byte("\n"))
	return string(line)
}

// reaches tells whether the test passes through the place of a fault. What is in no block of its own, as the condition
// of a case is, is passed through by whoever passes through its function.
func (t test) reaches(f fault) bool {
	base := f.pkg + "/" + filepath.Base(f.file)
	inBlock, passed, inFunction := false, false, false
	for _, p := range t.passes {
		if p.FileName != base {
			continue
		}
		for _, b := range p.Blocks {
			after := f.line > b.StartLine || f.line == b.StartLine && f.column >= b.StartCol
			before := f.line < b.EndLine || f.line == b.EndLine && f.column < b.EndCol
			if after && before {
				inBlock, passed = true, passed || b.Count > 0
			}
			inFunction = inFunction || b.Count > 0 && b.StartLine >= f.begins && b.EndLine <= f.ends
		}
	}
	return passed || !inBlock && inFunction
}

// seen runs the tests that pass through the fault, with it laid over its file. It answers how the fault fared, and
// nothing for one that does not compile.
func (f fault) seen(ctx context.Context, tests []test, scratch string) string {
	names := map[string][]string{}
	takes := 30 * time.Second
	for _, t := range tests {
		if t.reaches(f) {
			names[t.pkg] = append(names[t.pkg], t.name)
			takes += 3 * t.takes
		}
	}
	if len(names) == 0 {
		return uncovered
	}
	overlay, err := f.lay(scratch)
	if err != nil {
		return ""
	}
	for pkg, of := range names {
		binary := filepath.Join(scratch, "tests")
		build := exec.CommandContext(ctx, "go", "test", "-c", "-vet=off", "-overlay", overlay, "-o", binary, pkg)
		if build.Run() != nil {
			return ""
		}
		run := exec.CommandContext(ctx, binary, "-test.failfast", "-test.timeout", takes.String(),
			"-test.run", "^("+strings.Join(of, "|")+")$")
		run.Dir = strings.TrimPrefix(pkg, module)
		if run.Run() != nil {
			return killed
		}
	}
	return survived
}

// lay writes the changed file beside the tree, and the list that lays it over.
func (f fault) lay(scratch string) (overlay string, err error) {
	if err := os.MkdirAll(scratch, 0o700); err != nil {
		return "", err
	}
	text, err := os.ReadFile(f.file)
	if err != nil {
		return "", err
	}
	changed := filepath.Join(scratch, filepath.Base(f.file))
	text = slices.Concat(text[:f.from], []byte(f.with), text[f.to:])
	if err := os.WriteFile(changed, text, 0o600); err != nil {
		return "", err
	}
	full, err := filepath.Abs(f.file)
	if err != nil {
		return "", err
	}
	data, err := json.Marshal(map[string]map[string]string{"Replace": {full: changed}})
	if err != nil {
		return "", err
	}
	overlay = filepath.Join(scratch, "overlay.json")
	return overlay, os.WriteFile(overlay, data, 0o600)
}
