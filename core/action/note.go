package action

import "strings"

// MaxNote is the most bytes of a note that are kept; a longer one is cut.
const MaxNote = 64 << 10

const noteAbout = "Puts a note on the run's page, in Markdown (CommonMark 0.31, with tables), such as what came of " +
	"a measurement. It needs no sandbox. Secrets are hidden in it, HTML and pictures are shown as text, and what is " +
	"longer than 64 KiB is cut."

// Note puts a note on the run's page.
type Note struct {
	// The note. ${NAME} stands for the variable that a script would find; secrets are not among them.
	//
	//	note = { text = "Version **${PISTON_VERSION_NAME}** (${PISTON_BUILD_NUMBER})" }
	Text string `toml:"text" json:"text,omitempty"`
	// A file of the workspace that holds it; behind the text, when there are both.
	//
	//	note = { file = "out/sizes.md" }
	File string `toml:"file" json:"file,omitempty"`
}

// Complaints implements Action.
func (n *Note) Complaints() []Complaint {
	switch {
	case n.Text == "" && n.File == "":
		return []Complaint{{"missing-key", "", "the note has neither text nor file",
			`Add text = "…", or file = "out/note.md", which an earlier step writes.`}}
	case strings.ContainsRune(n.Text, 0):
		return []Complaint{{"bad-value", "text", "the text holds a NUL character", "Remove it."}}
	case len(n.Text) > MaxNote:
		return []Complaint{{"too-many", "text", "the text has more than 64 KiB", "Have a step write it to a file."}}
	}
	return nil
}

// Paths implements Action.
func (n *Note) Paths() map[string]*string {
	if n.File == "" {
		return nil
	}
	return map[string]*string{"file": &n.File}
}

// Writes implements Action.
func (n *Note) Writes() map[string]*string { return nil }

// Texts implements Action.
func (n *Note) Texts() map[string]string { return map[string]string{"text": n.Text} }
