package workspace

import (
	"fmt"
	"os"
	"path"
	"strings"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/artifact"
	"gentlepiston.example/piston/core/quantity"
	"gentlepiston.example/piston/core/testreport"
)

const (
	maxReportFile     = 64 << 20
	maxReportFailures = 200
)

// TestReports reads the JUnit XML files that a step working in dir wrote. A file that cannot be read is said. none says
// why there is no test case, when there is none.
func (w *Workspace) TestReports(globs []string, dir string, say func(format string, args ...any)) (
	sum *api.TestReport, none string) {
	found, err := artifact.Find(w.FS(), globs)
	if err != nil || len(found.Files) == 0 {
		hint := ""
		for _, glob := range globs {
			// The most common mistake: a glob that counts from the step's folder.
			if inDir, err := artifact.Find(w.FS(), []string{path.Join(dir, glob)}); err == nil && len(inDir.Files) > 0 {
				hint = fmt.Sprintf("; %s does: globs count from the top of the workspace", path.Join(dir, glob))
			}
		}
		none = fmt.Sprintf("no test was run: nothing matches %s%s", strings.Join(globs, ", "), hint)
		say("test reports: %s", none)
		return nil, none
	}
	sum = &api.TestReport{Failures: []testreport.Case{}}
	none = "no test was run: the reports hold no case"
	for _, file := range found.Files {
		cases, err := readReport(w.root, file)
		if err != nil {
			none = fmt.Sprintf("the test report %s cannot be read: %v", file.Path, err)
			say("%s", none)
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
					sum.Failures = append(sum.Failures, maskCase(w.Hiding, c))
				}
			}
		}
	}
	if sum.Passed+sum.Failed+sum.Skipped > 0 {
		none = ""
	}
	return sum, none
}

func readReport(root *os.Root, file artifact.File) ([]testreport.Case, error) {
	if file.Size > maxReportFile {
		return nil, fmt.Errorf("it has %s; at most %s are read", quantity.Bytes(file.Size), quantity.Bytes(maxReportFile))
	}
	f, err := root.Open(file.Path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return testreport.Parse(f)
}

func maskCase(h *Hiding, c testreport.Case) testreport.Case {
	for _, text := range []*string{&c.Suite, &c.Name, &c.Message, &c.Detail, &c.File} {
		*text = strings.ReplaceAll(h.String(*text), "\x00", "")
	}
	return c
}
