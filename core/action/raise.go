package action

import (
	"strings"

	"gentlepiston.example/piston/core/version"
)

const raiseAbout = "Takes the next version name and build number of an app from the ledger and writes them into the " +
	"app's own files, wherever `piston versions` finds them: all of them or none. Steps after it, and jobs after " +
	"its job, find both in their files and in `PISTON_VERSION_NAME`, `PISTON_BUILD_NUMBER`, " +
	"`PISTON_BUILD_NUMBER_ANDROID` and `PISTON_BUILD_NUMBER_IOS`. The name is the run's own while it works, and free " +
	"again when it fails; a number is never given twice. A proposal from outside gets numbers that do not count."

// Raise takes the next version and writes it into the app's files.
type Raise struct {
	// Which app of piston/app.toml. Default: the only one.
	//
	//	raise = { app = "almanac", by = "minor" }
	App string `toml:"app" json:"app,omitempty"`
	// By what: major, minor, patch; pre, for the next pre-release; build, for the build number only; tag, for the name in
	// the run's tag; commits, for what the commits since the last release say (Conventional Commits 1.0.0); date, for
	// year, month and a counter. ${NAME} stands for the variable that a script would find, such as an input.
	//
	//	raise = { by = "${PISTON_INPUT_SIZE}" }
	By string `toml:"by" json:"by,omitempty"`
	// The kind of pre-release that the name is to be, such as rc: 1.5.0-rc.1, then 1.5.0-rc.2.
	//
	//	raise = { by = "minor", pre = "rc" }
	Pre string `toml:"pre" json:"pre,omitempty"`
	// The name itself, instead of by.
	//
	//	raise = { to = "2.0.0" }
	To string `toml:"to" json:"to,omitempty"`
}

// Complaints implements Action.
func (r *Raise) Complaints() []Complaint {
	wish := version.Wish{By: r.By, Pre: r.Pre, To: r.To}
	for _, text := range []*string{&wish.By, &wish.Pre, &wish.To} {
		if strings.Contains(*text, "${") {
			if text != &wish.By || wish.To != "" {
				*text = ""
				continue
			}
			*text = string(version.Patch) // whatever it will be
		}
	}
	if r.By == "" && r.To != "" && wish.To == "" {
		return nil
	}
	if wrong := wish.Complaint(); wrong != "" {
		return []Complaint{{"bad-value", "", wrong, `Write raise = { by = "patch" }, for example.`}}
	}
	return nil
}

// Paths implements Action.
func (r *Raise) Paths() map[string]*string { return nil }

// Writes implements Action.
func (r *Raise) Writes() map[string]*string { return nil }

// Texts implements Action.
func (r *Raise) Texts() map[string]string {
	return map[string]string{"by": r.By, "pre": r.Pre, "to": r.To}
}
