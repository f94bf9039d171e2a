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
	// Globs of files by which crashes are read: programs with symbols (dSYM), libraries that are not stripped, the names
	// that a shrinker took away. Each program must have some; keep them beside the packages.
	//
	//	checklist = { files = ["out/signed/*"], symbols = ["out/symbols/**"] }
	Symbols []string `toml:"symbols" json:"symbols,omitempty"`
	// Which app of piston/app.toml. Default: the one whose id the package has.
	App string `toml:"app" json:"app,omitempty"`
}

// Complaints implements Action.
func (c *Checklist) Complaints() []Complaint {
	list := globs("checklist", c.Files, `Write checklist = { files = ["out/signed/*"] }, for example.`)
	if len(c.Symbols) > 0 {
		list = append(list, globs("checklist", c.Symbols, `Write symbols = ["out/symbols/**"], for example.`)...)
	}
	return list
}

// Paths implements Action.
func (c *Checklist) Paths() map[string]*string {
	return paths(nil, map[string][]string{"files": c.Files, "symbols": c.Symbols})
}

// Writes implements Action.
func (c *Checklist) Writes() map[string]*string { return nil }

// Texts implements Action.
func (c *Checklist) Texts() map[string]string { return nil }
