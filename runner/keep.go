package runner

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"sort"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/artifact"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/testreport"
)

// keep sends the job's artifacts. After a passed job everything that is named must be there; after a failed one what
// is there is kept, for whoever looks into it.
func (j *job) keep(ctx context.Context, passed bool) error {
	names := make([]string, 0, len(j.work.Job.Keep))
	for name := range j.work.Job.Keep {
		names = append(names, name)
	}
	sort.Strings(names)
	var problems []error
	most := bounded{"keep", j.limits.Keep}
	for _, name := range names {
		k := j.work.Job.Keep[name]
		found, err := artifact.Find(j.root.FS(), k.Files)
		if err == nil && len(found.Refused) > 0 {
			err = fmt.Errorf("artifact %q: %s", name, strings.Join(found.Refused, "; "))
		}
		if err == nil && len(found.Files) == 0 && !k.Optional {
			hint := "did a step write it elsewhere?"
			if near := j.inOtherLetters(k.Files); near != "" {
				hint = "there is " + near + ": capitals and small letters are told apart"
			}
			err = fmt.Errorf("artifact %q: nothing matches %s; %s", name, strings.Join(k.Files, ", "), hint)
		}
		if err != nil {
			problems = append(problems, err)
			if passed {
				j.say(outside, "failed: %v", err)
			}
			continue
		}
		for _, f := range found.Files {
			if err := j.keepOne(ctx, name, f, k.MayHold, most); err != nil {
				problems = append(problems, fmt.Errorf("artifact %q: %s: %w", name, f.Path, err))
				continue
			}
			most = most.less(f.Size)
		}
	}
	if !passed {
		return nil
	}
	return errors.Join(problems...)
}

// lettersLooked is how many files are looked at for one that is meant.
const lettersLooked = 50_000

// inOtherLetters finds a file that globs would match if they did not tell capitals from small letters; "" when there is
// none.
func (j *job) inOtherLetters(globs []string) (found string) {
	n := 0
	_ = fs.WalkDir(j.root.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		if n++; n > lettersLooked || name == ".git" {
			return fs.SkipDir
		}
		if err != nil || d.IsDir() {
			return nil
		}
		for _, glob := range globs {
			if doublestar.MatchUnvalidated(strings.ToLower(path.Clean(glob)), strings.ToLower(name)) {
				found = name
				return fs.SkipAll
			}
		}
		return nil
	})
	return found
}

func (j *job) keepOne(ctx context.Context, name string, f artifact.File, mayHold []string, most bounded) error {
	began := time.Now()
	info, err := j.root.Stat(f.Path)
	if err == nil {
		err = most.check(f.Path, info)
	}
	if err != nil {
		return err
	}
	if err := j.inspect(ctx, f, mayHold); err != nil {
		return err
	}
	sum, err := j.digest(ctx, f.Path)
	if err != nil {
		return err
	}
	err = j.insist(ctx, "keeping "+name, func() error {
		return j.post.KeepArtifact(ctx, j.work.Attempt, name, f.Path, sum,
			func() (io.ReadCloser, error) { return j.root.Open(f.Path) })
	})
	if err == nil {
		j.say(outside, "kept %s: %s, %s, sha256 %.12s, in %s", name, f.Path, quantity.Bytes(f.Size), sum,
			milliseconds(time.Since(began)))
	}
	return err
}

func (j *job) digest(ctx context.Context, name string) (string, error) {
	f, err := j.root.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, withContext{ctx, f}); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

const (
	maxReportFile     = 64 << 20
	maxReportFailures = 200
)

// testReports reads the JUnit XML files a step wrote. A file that cannot be read is told in the log. none says why
// there is no test case, when there is none.
func (j *job) testReports(step int, globs []string, dir string) (sum *api.TestReport, none string) {
	found, err := artifact.Find(j.root.FS(), globs)
	if err != nil || len(found.Files) == 0 {
		hint := ""
		for _, glob := range globs {
			// The most common mistake: a glob that counts from the step's folder.
			if inDir, err := artifact.Find(j.root.FS(), []string{path.Join(dir, glob)}); err == nil && len(inDir.Files) > 0 {
				hint = fmt.Sprintf("; %s does: globs count from the top of the workspace", path.Join(dir, glob))
			}
		}
		none = fmt.Sprintf("no test was run: nothing matches %s%s", strings.Join(globs, ", "), hint)
		j.say(step, "test reports: %s", none)
		return nil, none
	}
	sum = &api.TestReport{Failures: []testreport.Case{}}
	none = "no test was run: the reports hold no case"
	for _, file := range found.Files {
		cases, err := j.readReport(file)
		if err != nil {
			none = fmt.Sprintf("the test report %s cannot be read: %v", file.Path, err)
			j.say(step, "%s", none)
			continue
		}
		for _, c := range cases {
			sum.Seconds += c.Seconds
			switch c.Result {
			case testreport.Passed:
				sum.Passed++
			case testreport.Skipped:
				sum.Skipped++
			default:
				sum.Failed++
				if len(sum.Failures) < maxReportFailures {
					sum.Failures = append(sum.Failures, j.maskCase(c))
				}
			}
		}
	}
	if sum.Passed+sum.Failed+sum.Skipped > 0 {
		none = ""
	}
	return sum, none
}

func (j *job) readReport(file artifact.File) ([]testreport.Case, error) {
	if file.Size > maxReportFile {
		return nil, fmt.Errorf("it has %s; at most %s are read", quantity.Bytes(file.Size), quantity.Bytes(maxReportFile))
	}
	f, err := j.root.Open(file.Path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return testreport.Parse(f)
}

func (j *job) maskCase(c testreport.Case) testreport.Case {
	for _, text := range []*string{&c.Suite, &c.Name, &c.Message, &c.Detail, &c.File} {
		*text = strings.ReplaceAll(j.hide.String(*text), "\x00", "")
	}
	return c
}
