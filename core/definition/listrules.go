package definition

// ListRule is a rule of the checklist: what it wants, and why.
type ListRule struct {
	Name  string
	Wants string
	Why   string
	// Whether what is against it fails no step.
	Advice bool
}

// ListRules are the rules of the checklist, in the order of the documents.
var ListRules = []ListRule{
	{"placeholder-id", "The id is not that of a template or an example.",
		"A store takes an id once and for ever; com.example is refused.", false},
	{"other-id", "The id is the app's own.", "Another id is another app to stores and devices.", false},
	{"other-version", "Version and build number are those that the run has raised.",
		"A build that took its number from elsewhere meets one that the store has.", false},
	{"debuggable", "Nobody can debug it, and it is not for tests only.",
		"A debug build is slow, can be read, and is refused.", false},
	{"unsigned", "It is signed.", "No device and no store takes what nobody has signed.", false},
	{"scheme-missing", "It is signed by every scheme that its devices go by.",
		"A device that does not find the one it knows does not install it.", false},
	{"misplaced", "Files that are not packed lie where devices map them.",
		"Elsewhere they are copied for each start, or not loaded at all.", false},
	{"small-pages", "Native libraries for 64 bits can be loaded by devices with pages of 16 KB.",
		"Newer devices have such pages; stores want it.", false},
	{"no-64-bit", "It has code for 64-bit processors when it has native code.",
		"Stores refuse what runs on 32 bits only.", false},
	{"processors", "It has code for the processors that were agreed, or the same as the last one.",
		"Devices whose processor is gone get no update; one that nobody asked for makes it large.", false},
	{"not-split", "Each module of an app bundle says which of its libraries are for which processor.",
		"Without it a store gives every device the libraries of all.", true},
	{"low-target", "It is made for the level that was set, or a later one.",
		"Stores raise the level they take every year.", false},
	{"permission-added", "It may do no more than was agreed.",
		"A permission comes with a library unseen, and frightens people at the update.", false},
	{"no-purpose", "On iOS it says why, for what it asks people for.",
		"Without the sentence the system ends the app when it asks, and the store refuses it.", false},
	{"encryption-undeclared", "On iOS it says whether it uses encryption that has to be declared.",
		"Else each upload waits for a person to answer the same question.", false},
	{"cleartext", "It does not speak unencrypted.", "What goes by an open network is read by others.", false},
	{"secret-inside", "No private key, file of keys, password or token is inside.",
		"A package is read by whoever has it.", false},
	{"test-code", "No code of tests is inside.", "It makes the app large, and opens doors.", false},
	{"source-map", "No source maps are inside.", "They hold the sources.", false},
	{"own-address", "No address is inside that only those reach who develop it.",
		"An app that speaks with a machine on a desk works on that desk only.", false},
	{"no-icon", "It has an icon, in the sizes that screens want.",
		"Without one the store refuses it; a small one is blurred.", false},
	{"no-profile", "On iOS it has a provisioning profile.", "No device takes it without one.", false},
	{"ends-soon", "Certificate and profile are good for some weeks at least.",
		"A release waits for people, and then cannot be installed.", false},
	{"symbols-missing", "There are symbols for each program, where the step looks for them.",
		"Without them a crash is a list of numbers, for ever.", false},
	{"too-large", "It is not larger than was set.", "People on a slow network give up.", false},
	{"grown", "It has not grown beyond what was set since the last one.",
		"What came in by mistake is found when it comes in.", false},
}

// FindListRule gives the rule of a name.
func FindListRule(name string) (r ListRule, known bool) {
	for _, r := range ListRules {
		if r.Name == name {
			return r, true
		}
	}
	return r, false
}
