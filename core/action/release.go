package action

const releaseAbout = "Makes a release of what the run has kept: a version of an app with its packages, their " +
	"checklist and its notes, of which everything that becomes of it is told on one page. It needs at least one " +
	"package that was held against the checklist, meets it, and is kept by the run. The service does it: a job " +
	"whose steps are all the service's own takes no machine."

// Release makes a release of what the run has kept.
type Release struct {
	// Which app of piston/app.toml. Default: the one the run has raised, else the only one.
	//
	//	release = { app = "almanac" }
	App string `toml:"app" json:"app,omitempty"`
}

// Complaints implements Action.
func (r *Release) Complaints() []Complaint { return nil }

// Paths implements Action.
func (r *Release) Paths() map[string]*string { return nil }

// Writes implements Action.
func (r *Release) Writes() map[string]*string { return nil }

// Texts implements Action.
func (r *Release) Texts() map[string]string { return nil }
