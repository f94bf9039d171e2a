package workspace

import (
	"fmt"
	"os"
	"path"
	"strings"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/artifact"
	"gentlepiston.example/piston/core/plain"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/testreport"
)

const (
	maxReportFile     = 64 << 20
	maxReportFailures = 200
)

// Tests are what test reports say.
type Tests struct {
	Sum   *api.TestReport // nil where no report is
	Cases []testreport.Case
	None  string // why there is no test case, when there is none
	Cut   bool   // a report could not be read, or not to its end: there may be more
}

// TestReports reads the JUnit XML files that a step working in dir wrote. A file that cannot be read, or not to its
// end, is said; what was read of it counts.
func (w *Workspace) TestReports(globs []string, dir string, say func(format string, args ...any)) (t Tests) {
	found, err := artifact.Find(w.FS(), globs)
	if err != nil || len(found.Files) == 0 {
		hint := ""
		for _, glob := range globs {
			// The most common mistake: a glob that counts from the step's folder.
			if inDir, err := artifact.Find(w.FS(), []string{path.Join(dir, glob)}); err == nil && len(inDir.Files) > 0 {
				hint = fmt.Sprintf("; %s does: globs count from the top of the workspace", path.Join(dir, glob))
			}
		}
		t.None = fmt.Sprintf("no test was run: nothing matches %s%s", strings.Join(globs, ", "), hint)
		say("test reports: %s", t.None)
		return t
	}
	t.Sum = &api.TestReport{Failures: []testreport.Case{}}
	t.None = "no test was run: the reports hold no case"
	for _, file := range found.Files {
		cases, err := readReport(w.root, file, testreport.MaxCases-len(t.Cases))
		if err != nil {
			t.None = fmt.Sprintf("the test report %s cannot be read: %v", file.Path, err)
			t.Cut = true
			if len(cases) > 0 {
				t.None += fmt.Sprintf("; the %d cases before that count", len(cases))
			}
			say("%s", t.None)
		}
		for _, c := range cases {
			t.add(maskCase(w.Hiding, c))
		}
	}
	if len(t.Cases) > 0 {
		t.None = ""
	}
	return t
}

// add counts a case. Only of the first that failed what they said is kept whole.
func (t *Tests) add(c testreport.Case) {
	t.Sum.Seconds += c.Seconds
	switch c.Result {
	case testreport.Passed:
		t.Sum.Passed++
	case testreport.Skipped:
		t.Sum.Skipped++
	default:
		t.Sum.Failed++
		if len(t.Sum.Failures) < maxReportFailures {
			t.Sum.Failures = append(t.Sum.Failures, c)
		}
	}
	c.Detail = ""
	t.Cases = append(t.Cases, c)
}

func readReport(root *os.Root, file artifact.File, most int) ([]testreport.Case, error) {
	if file.Size > maxReportFile {
		return nil, fmt.Errorf("it has %s; at most %s are read", quantity.Bytes(file.Size), quantity.Bytes(maxReportFile))
	}
	f, err := root.Open(file.Path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return testreport.Parse(f, most)
}

func maskCase(h *Hiding, c testreport.Case) testreport.Case {
	for _, text := range []*string{&c.Suite, &c.Name, &c.Message, &c.Detail, &c.File} {
		*text = strings.ReplaceAll(h.String(*text), "\x00", "")
	}
	c.Suite, c.Name = plain.Line(c.Suite), plain.Line(c.Name) // they are shown in lists, beside others
	return c
}
