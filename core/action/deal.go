package action

import "regexp"

const dealAbout = "Deals tests, or whatever has a time, among the variants of a job, so that all end together: by " +
	"what each took before, as test reports told it (`test_reports`). Each variant deals the same list, and writes " +
	"down what fell to it, one name on each line; there may be none. What has no time yet counts as the others do on " +
	"the average. It needs no sandbox."

// MaxDealt bounds the names that are dealt.
const MaxDealt = 50_000

// Deal deals tests among the variants of a job.
type Deal struct {
	// A file of the workspace with a name on each line, which an earlier step has written: of cases, suites or files. It
	// must be the same in all variants.
	//
	//	deal = { list = "out/cases", into = "out/mine" }
	List string `toml:"list" json:"list,omitempty"`
	// Globs of files to deal, instead of a list.
	//
	//	deal = { files = ["tests/*.c"], into = "out/mine" }
	Files []string `toml:"files" json:"files,omitempty"`
	// The file that is written.
	Into string `toml:"into" json:"into"`
	// The value of the variants among which is dealt, where they have several. Default: the only one.
	//
	//	deal = { files = ["tests/*.c"], into = "out/mine", over = "PART" }
	Over string `toml:"over" json:"over,omitempty"`
}

var variableName = regexp.MustCompile(`^[A-Z][A-Z0-9_]*$`)

// Complaints implements Action.
func (d *Deal) Complaints() (list []Complaint) {
	switch {
	case d.List == "" && len(d.Files) == 0:
		list = append(list, Complaint{"missing-key", "", "nothing is dealt",
			`Write deal = { files = ["tests/*.c"], into = "out/mine" }, for example.`})
	case d.List != "" && len(d.Files) > 0:
		list = append(list, Complaint{"bad-value", "files", "deal has list and files; it deals one of them",
			"Remove one."})
	case d.List == "":
		list = globs("deal", d.Files, `Write files = ["tests/*.c"], for example.`)
	}
	if d.Into == "" {
		list = append(list, Complaint{"missing-key", "", "deal says no file to write",
			`Add into = "out/mine", for example.`})
	}
	if d.Over != "" && !variableName.MatchString(d.Over) {
		list = append(list, Complaint{"bad-value", "over", "that is no name of a variants' value",
			`Write over = "PART", for example.`})
	}
	return list
}

// Paths implements Action.
func (d *Deal) Paths() map[string]*string {
	return paths(map[string]*string{"list": &d.List}, map[string][]string{"files": d.Files})
}

// Writes implements Action.
func (d *Deal) Writes() map[string]*string { return paths(map[string]*string{"into": &d.Into}, nil) }

// Texts implements Action.
func (d *Deal) Texts() map[string]string { return nil }
