package action

const checklistAbout = "Looks into packages and holds them against the checklist: what every package must meet, and " +
	"what `piston/app.toml` sets for the app (`[app.NAME.checklist]`). What is against a rule fails the step, each with " +
	"how to mend it. The service keeps what was found, so that the next package is compared with this one. The rules " +
	"are those of the commit; nothing a step writes changes them."

// Checklist holds packages against the rules that they must meet.
type Checklist struct {
	// Globs of the packages.
	//
	//	checklist = { files = ["out/signed/*"] }
	Files []string `toml:"files" json:"files"`
	// Which app of piston/app.toml. Default: the one whose id the package has.
	App string `toml:"app" json:"app,omitempty"`
}

// Complaints implements Action.
func (c *Checklist) Complaints() []Complaint {
	return globs("checklist", c.Files, `Write checklist = { files = ["out/signed/*"] }, for example.`)
}

// Paths implements Action.
func (c *Checklist) Paths() map[string]*string { return nil }

// Texts implements Action.
func (c *Checklist) Texts() map[string]string { return nil }
