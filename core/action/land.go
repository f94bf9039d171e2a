package action

import (
	"regexp"
	"strings"
)

const landAbout = "Commits what the run's `raise` has written, and nothing else, tags it, and pushes both to the " +
	"branch the run is of. The service does it, anew on the branch's head, with the bot of the project as author: no " +
	"runner can push. A branch that has moved on is no trouble; when somebody else has changed the same line, the step " +
	"fails and says who, and to what. Its commits and tags start nothing unless `starts` says so."

// Land brings a raised version back into the repository.
type Land struct {
	// Which app's version. Default: the one the run has raised.
	App string `toml:"app" json:"app,omitempty"`
	// The message of commit and tag. {name}, {build} and {run} stand for the version name, the build number and the
	// run's, {notes} for the release's notes in the language of the commits.
	//
	//	land = { message = "Release {name} ({build})\n\n{notes}" }
	Message string `toml:"message" json:"message,omitempty"`
	// Whether to tag the commit with the version.
	//
	//	land = { tag = true }
	Tag bool `toml:"tag" json:"tag,omitempty"`
	// The tag's name. Default: v{name}; with several apps, APP/v{name}.
	//
	//	land = { tag = true, tag_name = "v{name}+{build}" }
	TagName string `toml:"tag_name" json:"tag_name,omitempty"`
	// The branch. Default: that of the run; of a run of a tag the main branch.
	//
	//	land = { branch = "main" }
	Branch string `toml:"branch" json:"branch,omitempty"`
	// proposal, to offer the change for review instead of pushing it to the branch. There is no tag then.
	//
	//	land = { as = "proposal" }
	As string `toml:"as" json:"as,omitempty"`
	// Whether pipelines are started by the commit and the tag.
	Starts bool `toml:"starts" json:"starts,omitempty"`
	// A secret of the service with the password or token by which a remote takes pushes over https, or with the private
	// key by which it does over ssh (piston project bot). The service uses it by itself; no runner is given it.
	//
	//	land = { key = "LANDING_TOKEN" }
	Key string `toml:"key" json:"key,omitempty"`
	// A secret of the service with a private SSH key, by which it signs commit and tag. No runner is given it.
	//
	//	land = { sign = "LANDING_KEY" }
	Sign string `toml:"sign" json:"sign,omitempty"`
}

// AsProposal is the As of a change that is only offered.
const AsProposal = "proposal"

var (
	refForm    = regexp.MustCompile(`^[0-9A-Za-z{][0-9A-Za-z{}._/+-]*$`)
	markForm   = regexp.MustCompile(`\{[^{}]*\}`)
	landMarks  = map[string]bool{"{name}": true, "{build}": true, "{run}": true, "{app}": true}
	secretForm = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)
)

// maxMessage bounds a commit's message.
const maxMessage = 4 << 10

// IsRefName tells a name that a branch or tag may have (git-check-ref-format), and that is short.
func IsRefName(name string) bool {
	return refForm.MatchString(name) && len(name) <= 200 && !strings.Contains(name, "..") &&
		!strings.Contains(name, "//") && !strings.HasSuffix(name, ".lock") && !strings.HasSuffix(name, "/") &&
		!strings.HasSuffix(name, ".") && !strings.Contains(name, "/.")
}

// Complaints implements Action.
func (l *Land) Complaints() (list []Complaint) {
	add := func(key, message, fix string) { list = append(list, Complaint{"bad-value", key, message, fix}) }
	for key, text := range map[string]string{"message": l.Message, "tag_name": l.TagName} {
		for _, mark := range markForm.FindAllString(text, -1) {
			if !landMarks[mark] && (mark != "{notes}" || key != "message") {
				add(key, mark+" stands for nothing", "{name}, {build}, {run} and {app} do; in a message {notes}, too.")
			}
		}
	}
	switch {
	case strings.ContainsRune(l.Message, 0):
		add("message", "the message holds a NUL character", "Remove it.")
	case len(l.Message) > maxMessage:
		add("message", "the message has more than 4 KiB", "Shorten it.")
	}
	if l.TagName != "" && !IsRefName(l.TagName) {
		add("tag_name", "no tag can be named so", "Use letters, digits, and . _ / + - between them.")
	}
	if l.TagName != "" && !l.Tag {
		add("tag_name", "tag_name says nothing without tag = true", "Add tag = true.")
	}
	if l.Branch != "" && !IsRefName(l.Branch) {
		add("branch", "no branch can be named so", "Use letters, digits, and . _ / - between them.")
	}
	if l.As != "" && l.As != AsProposal {
		add("as", `as is "`+l.As+`"`, `Use "proposal", or leave it out.`)
	}
	if l.As == AsProposal && l.Tag {
		add("tag", "a proposal is not tagged: what it becomes is not decided", "Remove tag.")
	}
	for key, name := range map[string]string{"key": l.Key, "sign": l.Sign} {
		if name != "" && !secretForm.MatchString(name) {
			add(key, "no secret can be named so", "Use letters, digits and _.")
		}
	}
	return list
}

// Paths implements Action.
func (l *Land) Paths() map[string]*string { return nil }

// Writes implements Action.
func (l *Land) Writes() map[string]*string { return nil }

// Texts implements Action.
func (l *Land) Texts() map[string]string { return nil }
